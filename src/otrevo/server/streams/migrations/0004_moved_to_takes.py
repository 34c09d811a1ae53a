from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("streams", "0003_stream_recording"), ("takes", "0002_streams_mends_changes")]

    operations = [
        migrations.SeparateDatabaseAndState(
            state_operations=[migrations.DeleteModel(name="Chunk"), migrations.DeleteModel(name="Stream")],
        ),
    ]
