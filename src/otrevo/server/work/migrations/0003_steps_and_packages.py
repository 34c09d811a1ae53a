"""Steps of rooms and packages that are being built become runs like all others; what was queued is queued anew."""

from django.db import migrations

KEPT = ("name", "parameters", "code_version", "state", "progress", "message", "figures", "cancel_asked", "finished_at")
OLD_TASKS = ("execute_runs", "execute_step", "build_package")


def forwards(apps, schema_editor):
    Run, StageRun = apps.get_model("work", "Run"), apps.get_model("stage", "StageRun")
    Package = apps.get_model("handover", "Package")
    for step in StageRun.objects.all():
        run = Run.objects.create(
            kind="room step", room_id=step.room_id, asked_by_id=step.made_by_id, **{k: getattr(step, k) for k in KEPT}
        )
        Run.objects.filter(pk=run.pk).update(asked_at=step.asked_at)
    for package in Package.objects.filter(state="building"):
        Run.objects.create(kind="package", name="package", package=package, asked_by_id=package.made_by_id)
    # their jobs are of tasks that are no more: workers queue every run anew that has no job
    Run.objects.filter(state="running").update(state="queued", progress=0.0)
    with schema_editor.connection.cursor() as cursor:
        cursor.execute("SELECT to_regclass('procrastinate_jobs')")
        if cursor.fetchone()[0]:
            cursor.execute("DELETE FROM procrastinate_jobs WHERE task_name = ANY(%s)", [list(OLD_TASKS)])


class Migration(migrations.Migration):
    dependencies = [("work", "0002_any_work"), ("stage", "0001_initial"), ("handover", "0002_takes_moved")]

    operations = [migrations.RunPython(forwards, migrations.RunPython.noop)]
