from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("handover", "0002_takes_moved"), ("work", "0003_steps_and_packages")]

    operations = [
        migrations.RemoveField(model_name="package", name="progress"),
        migrations.AlterField(
            model_name="package",
            name="state",
            field=models.CharField(
                choices=[
                    ("building", "Building"), ("ready", "Ready"), ("faulty", "Faulty"), ("sent", "Sent"),
                    ("accepted", "Accepted"), ("returned", "Returned"), ("cancelled", "Cancelled"),
                ],
                default="building",
                max_length=10,
            ),
        ),
    ]  # fmt: skip
