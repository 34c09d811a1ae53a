from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [
        ("bench", "0002_initial"),
        ("streams", "0004_moved_to_takes"),
        ("handover", "0002_takes_moved"),
    ]

    operations = [
        migrations.SeparateDatabaseAndState(
            state_operations=[migrations.DeleteModel(name="Mend"), migrations.DeleteModel(name="Run")],
        ),
    ]
