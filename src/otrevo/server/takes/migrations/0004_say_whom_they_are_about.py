"""Takes that knew one performer get an appearance; streams and mends say whom they are about; tracks keep their clock."""

from django.db import migrations

WORN = ("suit", "gloves", "face")
OF_A_PERFORMER = ("labelled", "confidence", "marker uncertainty", "mended", "body rotation", "body root", "residual",
                  "face shapes", "body file")  # fmt: skip
PROP, MARKERS = "prop ", " markers"


def forwards(apps, schema_editor):
    Take, Appearance = apps.get_model("takes", "Take"), apps.get_model("takes", "Appearance")
    Stream, Mend, Run = (
        apps.get_model("takes", "Stream"),
        apps.get_model("takes", "Mend"),
        apps.get_model("work", "Run"),
    )
    for take in Take.objects.select_related("slate__performer"):
        performer = take.slate.performer
        Appearance.objects.create(take=take, performer=performer, kit=performer.kit, calibration_id=take.calibration_id)
        streams = Stream.objects.filter(take=take)
        streams.filter(name__in=[*WORN, *OF_A_PERFORMER]).update(performer=performer)
        Mend.objects.filter(take=take).update(performer=performer)
        Run.objects.filter(take=take, name__in=["calibrate", "label", "solve"]).update(performer=performer)
        for stream in streams.filter(run__isnull=False):
            _name(stream, Run)
    Run.objects.filter(name="calibrate").update(name="warm-up")


def _name(stream, Run):
    """A prop's track is called after what it holds; the prop is its subject. Tracks of the solve get the points' clock."""
    if stream.name.startswith(PROP):
        is_markers = stream.name.endswith(MARKERS)
        stream.prop = stream.name.removeprefix(PROP).removesuffix(MARKERS)
        stream.name = "prop markers" if is_markers else "prop pose"
    if stream.name not in ("optical", "uncertainty", "face shapes"):
        before = Run.objects.filter(take=stream.take_id, name="line up", state="done", id__lt=stream.run_id).last()
        fit = before and before.figures.get("streams", {}).get("optical")
        if fit:
            stream.clock = {"offset_s": fit["offset_ms"] / 1000, "drift_ppm": fit["drift_ppm"]}
    stream.save(update_fields=["name", "prop", "clock"])


class Migration(migrations.Migration):
    dependencies = [
        ("takes", "0003_appearances_and_subjects"),
        ("work", "0002_any_work"),
        ("shoot", "0004_takes_moved"),
    ]

    operations = [migrations.RunPython(forwards, migrations.RunPython.noop)]
