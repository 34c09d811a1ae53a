"""Runs of passes become runs of any work. The table keeps its rows and gets a new name."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    initial = True

    dependencies = [("takes", "0001_initial")]

    operations = [
        migrations.SeparateDatabaseAndState(
            database_operations=[
                migrations.RunSQL("ALTER TABLE bench_run RENAME TO work_run", "ALTER TABLE work_run RENAME TO bench_run")
            ],
            state_operations=[
                migrations.CreateModel(
                    name="Run",
                    fields=[
                        ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                        ("name", models.CharField(max_length=20)),
                        ("parameters", models.JSONField(default=dict)),
                        ("code_version", models.CharField(default="", max_length=40)),
                        (
                            "state",
                            models.CharField(
                                choices=[
                                    ("queued", "Queued"), ("running", "Running"), ("done", "Done"), ("failed", "Failed"),
                                    ("cancelled", "Cancelled"),
                                ],
                                default="queued",
                                max_length=10,
                            ),
                        ),
                        ("progress", models.FloatField(default=0.0)),
                        ("message", models.TextField(blank=True)),
                        ("figures", models.JSONField(default=dict)),
                        ("snags", models.JSONField(default=list)),
                        ("cancel_asked", models.BooleanField(default=False)),
                        ("asked_at", models.DateTimeField(auto_now_add=True)),
                        ("finished_at", models.DateTimeField(null=True)),
                        (
                            "take",
                            models.ForeignKey(
                                on_delete=django.db.models.deletion.CASCADE, related_name="runs", to="takes.take"
                            ),
                        ),
                    ],
                    options={"ordering": ["id"]},
                ),
            ],
        ),
    ]  # fmt: skip
