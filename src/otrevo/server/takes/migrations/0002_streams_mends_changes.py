"""Streams, mends and the history move here. Their tables keep their rows and get new names."""

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models

TABLES = (("shoot_change", "takes_change"), ("bench_mend", "takes_mend"), ("streams_stream", "takes_stream"),
          ("streams_chunk", "takes_chunk"))  # fmt: skip
CASCADE, SET_NULL = django.db.models.deletion.CASCADE, django.db.models.deletion.SET_NULL


def number():
    return ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID"))


class Migration(migrations.Migration):
    dependencies = [("takes", "0001_initial"), ("work", "0001_initial")]

    operations = [
        migrations.SeparateDatabaseAndState(
            database_operations=[
                migrations.RunSQL(f"ALTER TABLE {old} RENAME TO {new}", f"ALTER TABLE {new} RENAME TO {old}")
                for old, new in TABLES
            ],
            state_operations=[
                migrations.CreateModel(
                    name="Change",
                    fields=[
                        number(),
                        ("at", models.DateTimeField(auto_now_add=True)),
                        ("words", models.CharField(max_length=160)),
                        ("before", models.JSONField(default=dict)),
                        ("after", models.JSONField(default=dict)),
                        ("undone", models.BooleanField(default=False)),
                        ("take", models.ForeignKey(on_delete=CASCADE, related_name="changes", to="takes.take")),
                        ("user", models.ForeignKey(null=True, on_delete=SET_NULL, to=settings.AUTH_USER_MODEL)),
                    ],
                    options={"ordering": ["id"]},
                ),
                migrations.CreateModel(
                    name="Mend",
                    fields=[
                        number(),
                        ("document", models.JSONField()),
                        ("words", models.CharField(max_length=160)),
                        ("active", models.BooleanField(default=True)),
                        ("at", models.DateTimeField(auto_now_add=True)),
                        ("take", models.ForeignKey(on_delete=CASCADE, related_name="mends", to="takes.take")),
                        ("user", models.ForeignKey(null=True, on_delete=SET_NULL, to=settings.AUTH_USER_MODEL)),
                    ],
                    options={"ordering": ["id"]},
                ),
                migrations.CreateModel(
                    name="Stream",
                    fields=[
                        number(),
                        ("name", models.CharField(max_length=40)),
                        ("kind", models.CharField(max_length=20)),
                        ("rate", models.CharField(max_length=20)),
                        ("shape", models.JSONField()),
                        ("samples", models.BigIntegerField(default=0)),
                        ("stamps", models.JSONField(default=list)),
                        ("details", models.JSONField(default=dict)),
                        ("recording", models.OneToOneField(null=True, on_delete=CASCADE, related_name="stream",
                                                           to="stage.stagerecording")),
                        ("run", models.ForeignKey(null=True, on_delete=CASCADE, related_name="tracks", to="work.run")),
                        ("take", models.ForeignKey(null=True, on_delete=CASCADE, related_name="streams", to="takes.take")),
                    ],
                ),
                migrations.CreateModel(
                    name="Chunk",
                    fields=[
                        number(),
                        ("number", models.PositiveIntegerField()),
                        ("first_sample", models.BigIntegerField()),
                        ("samples", models.PositiveIntegerField()),
                        ("payload", models.BinaryField()),
                        ("stream", models.ForeignKey(on_delete=CASCADE, related_name="chunks", to="takes.stream")),
                    ],
                    options={"ordering": ["number"]},
                ),
                migrations.AddConstraint(
                    model_name="stream",
                    constraint=models.UniqueConstraint(
                        condition=models.Q(("run", None)), fields=("take", "name"), name="one_recorded_stream"
                    ),
                ),
                migrations.AddConstraint(
                    model_name="stream",
                    constraint=models.UniqueConstraint(fields=("run", "name"), name="one_track_per_run"),
                ),
                migrations.AddConstraint(
                    model_name="stream",
                    constraint=models.CheckConstraint(
                        condition=models.Q(("take", None), ("recording", None), _connector="XOR"),
                        name="of_a_take_or_of_a_recording",
                    ),
                ),
                migrations.AddConstraint(
                    model_name="chunk",
                    constraint=models.UniqueConstraint(fields=("stream", "number"), name="one_chunk_number"),
                ),
            ],
        ),
    ]  # fmt: skip
