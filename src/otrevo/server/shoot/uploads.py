"""Files dropped on a slate become a take's streams. Every file is read and checked before anything is stored."""

import tempfile
from fractions import Fraction
from pathlib import Path

import numpy as np
from django.conf import settings
from django.db import transaction

from otrevo.core.errors import InputError
from otrevo.core.face.shapes import FACE_SHAPES
from otrevo.core.formats.bvh import read_bvh
from otrevo.core.formats.c3d import read_c3d
from otrevo.core.formats.face_csv import read_face_csv
from otrevo.core.formats.wav import read_wav
from otrevo.core.timecode.labels import TimecodeFormat
from otrevo.core.timecode.ltc import read_ltc
from otrevo.server.shoot.actions import make_take
from otrevo.server.streams.store import write_stream

ENDINGS = (".c3d", ".bvh", ".csv", ".wav")


def _save(upload, folder, number):
    if upload.size > settings.MAX_UPLOAD_BYTES:
        raise InputError(f"{upload.name}: larger than {settings.MAX_UPLOAD_BYTES // 2**20} MiB.")
    ending = Path(upload.name).suffix.lower()
    if ending not in ENDINGS:
        raise InputError(f"{upload.name}: expected a C3D, BVH, CSV or WAV file.")
    path = Path(folder) / f"{number}{ending}"  # never a path from a user's name
    with path.open("wb") as out:
        for part in upload.chunks():
            out.write(part)
    return path


def _is_timecode(samples, rate, fmt):
    try:
        return len(read_ltc(samples, rate, fmt).frame) > 5
    except InputError:
        return False


def _read(path, production):
    """(name, kind, rate, data, details, seconds) of one file."""
    if path.suffix == ".c3d":
        points = read_c3d(path)
        seconds = len(points.points_m) / float(points.rate)
        return "optical", "points", points.rate, points.points_m, {"notes": list(points.notes)}, seconds
    if path.suffix == ".bvh":
        motion = read_bvh(path)
        data = np.concatenate([motion.root_position_m, motion.rotation_local.reshape(len(motion), -1)], axis=1)
        return (
            "body file",
            "motion",
            motion.rate,
            data,
            {
                "bones": list(motion.skeleton.names),
                "parents": motion.skeleton.parents.tolist(),
                "offsets_m": motion.skeleton.rest_offset_m.tolist(),
            },
            len(motion) / float(motion.rate),
        )
    if path.suffix == ".csv":
        times, values, names = read_face_csv(path)
        rate = (
            Fraction(1 / float(np.median(np.diff(times)))).limit_denominator(1001) if len(times) > 1 else Fraction(60)
        )
        whole = np.zeros((len(values), len(FACE_SHAPES)))
        whole[:, [FACE_SHAPES.index(n) for n in names]] = values
        return "face", "shapes", rate, whole, {"names": list(FACE_SHAPES)}, len(times) / float(rate)
    rate, samples = read_wav(path)
    fmt = TimecodeFormat(Fraction(production.timecode_rate), production.drop_frame)
    name = "timecode" if _is_timecode(samples, rate, fmt) else "room"
    return name, "audio", Fraction(rate), samples, {}, len(samples) / rate


def take_from_files(slate, user, uploads):
    """A new take whose streams are the given files. Raises InputError naming the first file that cannot be used."""
    if not uploads:
        raise InputError("No file arrived; drop C3D, BVH, CSV or WAV files.")
    production = slate.day.production
    with tempfile.TemporaryDirectory() as folder:
        read = []
        for number, upload in enumerate(uploads):
            path = _save(upload, folder, number)
            try:
                read.append((upload.name, *_read(path, production)))
            except InputError as error:
                raise InputError(str(error).replace(path.name, upload.name)) from None
        names = [r[1] for r in read]
        for name in names:
            if names.count(name) > 1:
                twice = [r[0] for r in read if r[1] == name]
                raise InputError(f"{twice[0]} and {twice[1]} would both be the take's {name} stream; drop one of them.")
        with transaction.atomic():
            take = make_take(slate, user, made_from="files", duration_s=max(r[6] for r in read))
            take.out_s = take.duration_s
            take.save(update_fields=["out_s"])
            for file, name, kind, rate, data, details, _ in read:
                write_stream(take, name, kind, rate, data, details=details | {"file": Path(file).name[:120]})
    return take
