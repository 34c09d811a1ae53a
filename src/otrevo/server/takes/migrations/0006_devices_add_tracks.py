"""Takes are recorded before anything is queued: there are no recording runs any more. Tracks name the device they are of."""

from django.db import migrations

from otrevo.core.face.shapes import FACE_SHAPES


def forwards(apps, schema_editor):
    apps.get_model("work", "Run").objects.filter(kind="recording").delete()
    faces = apps.get_model("takes", "Stream").objects.filter(name="face shapes", run__isnull=False)
    faces.update(details={"device": "face", "names": list(FACE_SHAPES)})


class Migration(migrations.Migration):
    dependencies = [("takes", "0005_one_name_for_each_subject"), ("work", "0004_about_one_thing")]

    operations = [migrations.RunPython(forwards, migrations.RunPython.noop)]
