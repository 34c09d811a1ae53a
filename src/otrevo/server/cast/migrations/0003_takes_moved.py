import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("cast", "0002_initial"), ("takes", "0001_initial")]

    operations = [
        migrations.SeparateDatabaseAndState(
            state_operations=[
                migrations.AlterField(
                    model_name="performercalibration",
                    name="warm_up",
                    field=models.ForeignKey(
                        null=True, on_delete=django.db.models.deletion.SET_NULL, related_name="calibrations_made",
                        to="takes.take",
                    ),
                ),
            ],
        ),
    ]  # fmt: skip
