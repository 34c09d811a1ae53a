"""Takes move here from the places that used them. The table keeps its rows and gets a new name."""

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    initial = True

    dependencies = [
        ("shoot", "0003_take_stage_calibration"),
        ("bench", "0002_initial"),
        ("streams", "0003_stream_recording"),
        ("stage", "0001_initial"),
        ("handover", "0001_initial"),
        ("cast", "0002_initial"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.SeparateDatabaseAndState(
            database_operations=[
                migrations.RunSQL("ALTER TABLE shoot_take RENAME TO takes_take", "ALTER TABLE takes_take RENAME TO shoot_take")
            ],
            state_operations=[
                migrations.CreateModel(
                    name="Take",
                    fields=[
                        ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                        ("number", models.PositiveIntegerField()),
                        (
                            "status",
                            models.CharField(
                                choices=[("open", "Open"), ("circled", "Circled"), ("hold", "Hold"), ("no good", "No Good")],
                                default="open",
                                max_length=10,
                            ),
                        ),
                        ("note", models.TextField(blank=True)),
                        ("rolled_at", models.DateTimeField(auto_now_add=True)),
                        ("first_timecode_frame", models.BigIntegerField(default=0)),
                        ("duration_s", models.FloatField(default=0.0)),
                        ("in_s", models.FloatField(default=0.0)),
                        ("out_s", models.FloatField(default=0.0)),
                        ("picture", models.JSONField(default=dict)),
                        ("made_from", models.CharField(default="floor", max_length=20)),
                        (
                            "calibration",
                            models.ForeignKey(
                                null=True, on_delete=django.db.models.deletion.PROTECT, related_name="takes",
                                to="cast.performercalibration",
                            ),
                        ),
                        (
                            "rolled_by",
                            models.ForeignKey(
                                null=True, on_delete=django.db.models.deletion.SET_NULL, to=settings.AUTH_USER_MODEL
                            ),
                        ),
                        (
                            "slate",
                            models.ForeignKey(
                                on_delete=django.db.models.deletion.CASCADE, related_name="takes", to="shoot.slate"
                            ),
                        ),
                        (
                            "stage_calibration",
                            models.ForeignKey(
                                null=True, on_delete=django.db.models.deletion.PROTECT, related_name="takes",
                                to="stage.stagecalibration",
                            ),
                        ),
                    ],
                    options={"ordering": ["number"]},
                ),
                migrations.AddConstraint(
                    model_name="take",
                    constraint=models.UniqueConstraint(fields=("slate", "number"), name="one_take_number"),
                ),
            ],
        ),
    ]  # fmt: skip
