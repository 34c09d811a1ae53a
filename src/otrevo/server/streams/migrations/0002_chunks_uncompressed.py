from django.db import migrations


class Migration(migrations.Migration):
    """Chunks are floats that hardly shrink: PostgreSQL must not spend its time on trying to compress them."""

    dependencies = [("streams", "0001_initial")]
    operations = [
        migrations.RunSQL(
            "ALTER TABLE streams_chunk ALTER COLUMN payload SET STORAGE EXTERNAL",
            "ALTER TABLE streams_chunk ALTER COLUMN payload SET STORAGE EXTENDED",
        )
    ]
