import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models

CASCADE, SET_NULL = django.db.models.deletion.CASCADE, django.db.models.deletion.SET_NULL


class Migration(migrations.Migration):
    dependencies = [
        ("cast", "0003_takes_moved"),
        ("handover", "0002_takes_moved"),
        ("stage", "0001_initial"),
        ("takes", "0002_streams_mends_changes"),
        ("work", "0001_initial"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.AddField(
            model_name="run",
            name="after",
            field=models.ForeignKey(null=True, on_delete=SET_NULL, related_name="followed_by", to="work.run"),
        ),
        migrations.AddField(
            model_name="run",
            name="asked_by",
            field=models.ForeignKey(null=True, on_delete=SET_NULL, to=settings.AUTH_USER_MODEL),
        ),
        migrations.AddField(model_name="run", name="attempts", field=models.PositiveSmallIntegerField(default=0)),
        migrations.AddField(model_name="run", name="begun_at", field=models.DateTimeField(null=True)),
        migrations.AddField(model_name="run", name="claim", field=models.UUIDField(null=True)),
        migrations.AddField(model_name="run", name="job", field=models.BigIntegerField(null=True)),
        migrations.AddField(model_name="run", name="kind", field=models.CharField(default="pass", max_length=20)),
        migrations.AddField(
            model_name="run",
            name="package",
            field=models.ForeignKey(null=True, on_delete=CASCADE, related_name="builds", to="handover.package"),
        ),
        migrations.AddField(
            model_name="run",
            name="performer",
            field=models.ForeignKey(null=True, on_delete=CASCADE, related_name="runs", to="cast.performer"),
        ),
        migrations.AddField(
            model_name="run",
            name="room",
            field=models.ForeignKey(null=True, on_delete=CASCADE, related_name="runs", to="stage.room"),
        ),
        migrations.AlterField(
            model_name="run",
            name="take",
            field=models.ForeignKey(null=True, on_delete=CASCADE, related_name="runs", to="takes.take"),
        ),
        migrations.AddIndex(model_name="run", index=models.Index(fields=["state"], name="run_state")),
    ]
