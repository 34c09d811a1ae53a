from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [
        ("shoot", "0003_take_stage_calibration"),
        ("streams", "0004_moved_to_takes"),
        ("bench", "0003_moved_to_takes_and_work"),
        ("cast", "0003_takes_moved"),
        ("handover", "0002_takes_moved"),
    ]

    operations = [
        migrations.SeparateDatabaseAndState(
            state_operations=[migrations.DeleteModel(name="Change"), migrations.DeleteModel(name="Take")],
        ),
    ]
