"""Small pictures of takes become letters instead of numbers, an eighth as long."""

from django.db import migrations

LETTERS = "0123456789abcdefghijklmnopqrstuvwxyz"


def _packed(row):
    if isinstance(row, list) and row and isinstance(row[0], list):
        return [_packed(r) for r in row]
    if not isinstance(row, list):
        return row
    return "".join("." if v is None else LETTERS[round(min(max(v, 0.0), 1.0) * 35)] for v in row)


def forwards(apps, schema_editor):
    for take in apps.get_model("takes", "Take").objects.exclude(picture={}):
        take.picture = {name: _packed(rows) for name, rows in take.picture.items()}
        take.save(update_fields=["picture"])


class Migration(migrations.Migration):
    dependencies = [("takes", "0006_devices_add_tracks")]

    operations = [migrations.RunPython(forwards, migrations.RunPython.noop)]
