"""Files dropped on a slate become a take's streams. Every file is read and checked before anything is stored."""

import tempfile
from pathlib import Path

from django.conf import settings
from django.db import transaction

from otrevo.core.errors import InputError
from otrevo.core.formats.catalogue import dropped, format_of_drop
from otrevo.core.formats.guarded import read_dropped
from otrevo.server.takes.actions import make_take
from otrevo.server.takes.jobs import retarget_missing
from otrevo.server.takes.streams import write_stream


def _save(upload, folder, number):
    if upload.size > settings.MAX_UPLOAD_BYTES:
        raise InputError(f"{upload.name}: larger than {settings.MAX_UPLOAD_BYTES // 2**20} MiB.")
    ending = next(e for e in format_of_drop(upload.name).drops if upload.name.lower().endswith(e))
    path = Path(folder) / f"{number}{ending}"  # never a path from a user's name
    with path.open("wb") as out:
        for part in upload.chunks():
            out.write(part)
    return path


def take_from_files(slate, user, uploads):
    """A new take whose streams are the given files. Raises InputError naming the first file that cannot be used."""
    if not uploads:
        raise InputError(f"No file arrived; drop files that end in {', '.join(dropped())}.")
    production = slate.day.production
    with tempfile.TemporaryDirectory() as folder:
        read = []
        for number, upload in enumerate(uploads):
            path = _save(upload, folder, number)
            read += [(upload.name, s) for s in read_dropped(path, upload.name, production.timecode_format)]
        names = [s.name for _, s in read]
        for name in names:
            if names.count(name) > 1:
                twice = [file for file, s in read if s.name == name]
                raise InputError(f"{twice[0]} and {twice[1]} would both be the take's {name} stream; drop one of them.")
        with transaction.atomic():
            take = make_take(slate, user, made_from="files", duration_s=max(s.seconds for _, s in read))
            take.out_s = take.duration_s
            take.save(update_fields=["out_s"])
            for file, s in read:
                details = s.details | {"file": Path(file).name[:120]}
                whose = slate.performer if s.of_performer else None
                write_stream(take, s.name, s.kind, s.rate, s.data, details=details, performer=whose)
            retarget_missing(take, user)
    return take
