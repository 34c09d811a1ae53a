from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("handover", "0001_initial"), ("takes", "0001_initial"), ("work", "0001_initial")]

    operations = [
        migrations.SeparateDatabaseAndState(
            state_operations=[
                migrations.AlterField(
                    model_name="package",
                    name="runs",
                    field=models.ManyToManyField(related_name="packages", to="work.run"),
                ),
                migrations.AlterField(
                    model_name="package",
                    name="takes",
                    field=models.ManyToManyField(related_name="packages", to="takes.take"),
                ),
            ],
        ),
    ]
