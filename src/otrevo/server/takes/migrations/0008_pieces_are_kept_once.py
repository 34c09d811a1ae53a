"""Samples move from chunks into pieces, which streams that have them in common share."""

import django.db.models.deletion
from django.db import migrations, models

MOVE = """
INSERT INTO takes_piece (sha256, payload)
    SELECT DISTINCT ON (sha256(payload)) sha256(payload), payload FROM takes_chunk;
UPDATE takes_chunk SET piece_id = takes_piece.id FROM takes_piece WHERE takes_piece.sha256 = sha256(takes_chunk.payload);
SET CONSTRAINTS ALL IMMEDIATE;
"""


class Migration(migrations.Migration):
    dependencies = [("takes", "0007_pictures_in_letters")]

    operations = [
        migrations.CreateModel(
            name="Piece",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("sha256", models.BinaryField(max_length=32, unique=True)),
                ("payload", models.BinaryField()),
            ],
        ),
        migrations.AddField(
            model_name="chunk",
            name="piece",
            field=models.ForeignKey(
                null=True, on_delete=django.db.models.deletion.PROTECT, related_name="chunks", to="takes.piece"
            ),
        ),
        migrations.RunSQL(MOVE, migrations.RunSQL.noop),
        migrations.AlterField(
            model_name="chunk",
            name="piece",
            field=models.ForeignKey(
                on_delete=django.db.models.deletion.PROTECT, related_name="chunks", to="takes.piece"
            ),
        ),
        migrations.RemoveField(model_name="chunk", name="payload"),
    ]
