"""A production as one file: a ZIP of JSON lines, Arrow and Parquet, packages and character files as they are.

ABOUT says what it is, CHECKSUMS what everything in it must be (`sha256sum --check`), README how to read it without Otrevo.
"""

import hashlib
import json
import re
import time
import zipfile
from contextlib import contextmanager
from datetime import date, datetime

from django.contrib.auth.models import User
from django.db import connection, models, transaction
from django.db.models import F, Q

from otrevo.server.cast.models import Character, CharacterMap, Performer, PerformerCalibration
from otrevo.server.handover.models import Package
from otrevo.server.shoot.models import Production, ShootDay, Slate
from otrevo.server.stage.models import Blinds, Room, StageCalibration, StageRecording
from otrevo.server.takes.models import Appearance, Change, Chunk, Mend, Piece, Stream, Take
from otrevo.server.takes.streams import PARQUET
from otrevo.server.work.models import Run

ABOUT, CHECKSUMS, README = "about.json", "checksums.txt", "README.txt"
KIND = "archive/1"


def _of_takes(path):
    """What hangs on takes that were not removed, by the path to the take."""
    return lambda production: Q(**{f"{path}__slate__day__production": production, f"{path}__removal": None})


def _of(path):
    return lambda production: Q(**{path: production})


# which rows are a production's; in this order each comes after those it points to, but for what points within its own kind
ROWS = {
    Production: _of("pk"),
    ShootDay: _of("production"),
    Performer: _of("production"),
    Character: _of("production"),
    CharacterMap: _of("character__production"),
    Room: _of("production"),
    Blinds: _of("room__production"),
    StageRecording: _of("room__production"),
    StageCalibration: _of("room__production"),
    Slate: _of("day__production"),
    Take: _of("slate__day__production"),
    PerformerCalibration: _of("performer__production"),
    Appearance: _of_takes("take"),
    Mend: _of_takes("take"),
    Change: _of_takes("take"),
    Package: _of("production"),
    Run: lambda p: _of_takes("take")(p) | Q(room__production=p) | Q(package__production=p),
    Stream: lambda p: _of_takes("take")(p) | Q(recording__room__production=p),
    Chunk: lambda p: _of_takes("stream__take")(p) | Q(stream__recording__room__production=p),
}
LEFT_OUT = ("removal", "job", "claim", "cancel_asked")  # of this installation, or of this moment
AT_ONCE = 200
TEXT = """{name}, a production of Otrevo, archived {at}.

rows/*.jsonl     one JSON object a line for every row; a number after the name of a thing is the row it points to
pieces/          samples: .arrow is an Arrow IPC stream, .parquet a Parquet file, of float32, named by their SHA-256
files/           packages as they were sent, character files as they were given, and what else is no text

A stream (rows/takes.Stream.jsonl) is its pieces in the order of rows/takes.Chunk.jsonl; `shape` is that of one sample and
`rate` is in samples a second. Check everything with: sha256sum --check {checksums}
Bring it back with: ./otrevo bring-back FILE
"""


def fields_of(model):
    """(fields written as they are, those that point to rows, those that are bytes, those that are lists of rows) of a model."""
    plain, links, blobs = [], [], []
    for field in model._meta.concrete_fields:
        if field.name not in LEFT_OUT and not field.primary_key:
            kind = links if field.is_relation else blobs if isinstance(field, models.BinaryField) else plain
            kind.append(field)
    return plain, links, blobs, list(model._meta.many_to_many)


def _text(value):
    if isinstance(value, (date, datetime)):
        return value.isoformat()
    raise TypeError(f"{type(value).__name__} cannot be written")


class _Writer:
    """Files into a ZIP, with their digests."""

    def __init__(self, archive):
        self.archive, self.digests = archive, {}

    def write(self, name, payload, kind=zipfile.ZIP_DEFLATED):
        self.digests[name] = hashlib.sha256(payload).hexdigest()
        self.archive.writestr(name, payload, kind, 1)

    def lines(self, name, rows):
        digest, about = hashlib.sha256(), zipfile.ZipInfo(name, time.gmtime()[:6])
        about.compress_type = zipfile.ZIP_DEFLATED
        with self.archive.open(about, "w", force_zip64=True) as out:
            for row in rows:
                line = json.dumps(row, default=_text, ensure_ascii=False).encode() + b"\n"
                digest.update(line)
                out.write(line)
        self.digests[name] = digest.hexdigest()


@contextmanager
def at_one_moment():
    """Everything that is read within the block is as it was when the block began, whatever people do meanwhile."""
    with transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        yield


def write_archive(path, production):
    """Write a production to a ZIP file. Returns {kind: how many rows}. Call it `at_one_moment` where people may be at work."""
    at, people, counts = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()), set(), {}
    with zipfile.ZipFile(path, "w", allowZip64=True) as archive:
        writer = _Writer(archive)
        for model, mine in ROWS.items():
            label, rows = model._meta.label, model.objects.filter(mine(production.pk)).order_by("pk")
            counts[label] = rows.count()
            writer.lines(f"rows/{label}.jsonl", _rows(model, rows, people))
            for field in fields_of(model)[2]:
                for row in rows.exclude(**{field.name: None}).iterator(chunk_size=1):
                    writer.write(_file_name(row, field), bytes(getattr(row, field.name)))
        _write_pieces(production, writer)
        names = dict(User.objects.filter(pk__in=people).values_list("pk", "username"))
        about = {"otrevo": KIND, "production": production.name, "code": production.code, "made_at": at, "people": names,
                 "rows": counts}  # fmt: skip
        writer.write(ABOUT, json.dumps(about, indent=1).encode())
        writer.write(README, TEXT.format(name=production.name, at=at, checksums=CHECKSUMS).encode())
        archive.writestr(CHECKSUMS, "".join(f"{d}  {name}\n" for name, d in sorted(writer.digests.items())))
    return counts


def _rows(model, rows, people):
    """Rows of a model as objects; bytes are named, not in them; who they point to goes into `people`."""
    plain, links, blobs, lists = fields_of(model)
    if model is Chunk:
        rows = rows.annotate(digest=F("piece__sha256"))
    for row in rows.defer(*(f.name for f in blobs)).iterator(chunk_size=AT_ONCE):
        out = {"pk": row.pk} | {f.name: getattr(row, f.attname) for f in (*plain, *links)}
        people |= {out[f.name] for f in links if f.related_model is User} - {None}
        for field in lists:
            out[field.name] = list(getattr(row, field.name).order_by("pk").values_list("pk", flat=True))
        for field in blobs:
            there = model.objects.filter(pk=row.pk).exclude(**{field.name: None}).exists()
            out[field.name] = _file_name(row, field) if there else None
        if model is Chunk:
            out["piece"] = bytes(row.digest).hex()
        yield out


def _file_name(row, field):
    ending = {"archive": "zip", "file": getattr(row, "file_name", "").rpartition(".")[2]}.get(field.name, "")
    return f"files/{row._meta.label}/{row.pk}-{field.name}.{re.sub('[^a-z0-9]', '', ending.lower()) or 'bin'}"


def _write_pieces(production, writer):
    chunks = Chunk.objects.filter(ROWS[Chunk](production.pk)).order_by()
    ids = sorted(set(chunks.values_list("piece", flat=True)))
    for start in range(0, len(ids), AT_ONCE):
        for digest, payload in Piece.objects.filter(pk__in=ids[start : start + AT_ONCE]).values_list(
            "sha256", "payload"
        ):
            ending = "parquet" if bytes(payload[:4]) == PARQUET else "arrow"
            writer.write(f"pieces/{bytes(digest).hex()}.{ending}", bytes(payload), zipfile.ZIP_STORED)
