"""What the simulated stage is told moves from the database into the stage's own file, stage.json in the data folder."""

import json
import os
from pathlib import Path

from django.db import migrations


def forwards(apps, schema_editor):
    rooms = {
        str(r.production_id): {"seed": r.seed, "cameras": len(r.rig["cameras"]), "knocks": r.knocks}
        for r in apps.get_model("stage", "Room").objects.all()
    }
    bodies = {str(p.pk): p.body_seed for p in apps.get_model("cast", "Performer").objects.all()}
    slates = {str(s.pk): s.performance for s in apps.get_model("shoot", "Slate").objects.all()}
    for room in apps.get_model("stage", "Room").objects.all():
        room.rig["simulated"] = True
        room.save(update_fields=["rig"])
    if not (rooms or bodies or slates):
        return
    path = Path(os.environ.get("OTREVO_STAGE") or Path(os.environ["OTREVO_DATA"]) / "stage.json")
    if not path.exists():
        path.write_text(json.dumps({"rooms": rooms, "bodies": bodies, "performances": slates}, indent=1))


class Migration(migrations.Migration):
    dependencies = [("shoot", "0004_takes_moved"), ("cast", "0003_takes_moved"), ("stage", "0002_steps_are_runs")]

    operations = [
        migrations.RunPython(forwards, migrations.RunPython.noop),
        migrations.RemoveField("slate", "performance"),
    ]
