import django.db.models.deletion
from django.db import migrations, models

PROTECT, CASCADE = django.db.models.deletion.PROTECT, django.db.models.deletion.CASCADE


class Migration(migrations.Migration):
    dependencies = [("cast", "0003_takes_moved"), ("takes", "0002_streams_mends_changes"), ("work", "0001_initial")]

    operations = [
        migrations.CreateModel(
            name="Appearance",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("kit", models.JSONField(default=list)),
                ("characters", models.JSONField(default=list)),
                (
                    "calibration",
                    models.ForeignKey(
                        null=True, on_delete=PROTECT, related_name="appearances", to="cast.performercalibration"
                    ),
                ),
                (
                    "performer",
                    models.ForeignKey(on_delete=PROTECT, related_name="appearances", to="cast.performer"),
                ),
                ("take", models.ForeignKey(on_delete=CASCADE, related_name="appearances", to="takes.take")),
            ],
            options={"ordering": ["id"]},
        ),
        migrations.AddConstraint(
            model_name="appearance",
            constraint=models.UniqueConstraint(fields=("take", "performer"), name="one_appearance_in_a_take"),
        ),
        migrations.RemoveConstraint(model_name="stream", name="one_recorded_stream"),
        migrations.RemoveConstraint(model_name="stream", name="one_track_per_run"),
        migrations.AddField(
            model_name="mend",
            name="performer",
            field=models.ForeignKey(null=True, on_delete=PROTECT, related_name="mends", to="cast.performer"),
        ),
        migrations.AddField(model_name="stream", name="clock", field=models.JSONField(null=True)),
        migrations.AddField(
            model_name="stream",
            name="performer",
            field=models.ForeignKey(null=True, on_delete=PROTECT, related_name="streams", to="cast.performer"),
        ),
        migrations.AddField(
            model_name="stream",
            name="prop",
            field=models.CharField(blank=True, max_length=60, default=""),
            preserve_default=False,
        ),
    ]
