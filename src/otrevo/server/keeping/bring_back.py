"""An archive of a production becomes a production again, here or in another installation."""

import hashlib
import json
import zipfile
import zlib
from contextlib import contextmanager

from django.contrib.auth.models import User
from django.core.exceptions import ValidationError
from django.db import DatabaseError, transaction
from django.db.models import DateTimeField
from django.utils import timezone

from otrevo.core.errors import InputError
from otrevo.server.accounts.models import Membership, Role
from otrevo.server.cast.models import Character
from otrevo.server.handover.models import Package
from otrevo.server.keeping.archive import ABOUT, CHECKSUMS, KIND, ROWS, fields_of
from otrevo.server.shoot.models import Production
from otrevo.server.takes.models import Appearance, Change, Chunk, Mend, Piece
from otrevo.server.work.models import ACTIVE, Run

AT_ONCE = 200
MOST_LINE = 1 << 28
FAULTS = (zipfile.BadZipFile, zlib.error, KeyError, ValueError, TypeError, AttributeError, EOFError, OSError)
UNDER_WAY = "It was under way when the production was archived; run it again."
# numbers of rows within documents: {(model, field): (what they number, where in the value)}
NUMBERS = {
    (Appearance, "characters"): (Character, None),
    (Package, "characters"): (Character, None),
    (Change, "before"): (Mend, "mends"),
    (Change, "after"): (Mend, "mends"),
}


class _Archive:
    """A ZIP whose files are what its checksums say; numbers: {model: {number in it: number here}}."""

    def __init__(self, path):
        self.name = path.name
        try:
            self.zip = zipfile.ZipFile(path)
            lines = self.zip.read(CHECKSUMS).decode().splitlines()
            self.digests = {name: digest for digest, name in (line.split("  ", 1) for line in lines)}
            self.about = json.loads(self.read(ABOUT))
            if self.about["otrevo"] != KIND:
                raise ValueError
        except InputError:
            raise
        except FileNotFoundError:
            raise InputError(f"{path}: there is no such file; expected one that ./otrevo archive wrote.") from None
        except FAULTS:
            raise InputError(f"{self.name}: this is not a complete archive of a production.") from None
        self.numbers = {model: {} for model in ROWS}
        self.pieces = {n.partition("/")[2].partition(".")[0]: n for n in self.digests if n.startswith("pieces/")}

    def read(self, name):
        payload = self.zip.read(name)
        self._check(name, hashlib.sha256(payload))
        return payload

    def _check(self, name, digest):
        if self.digests.get(name) != digest.hexdigest():
            raise InputError(f"{self.name}: {name} in it is damaged; nothing was brought back.")

    def rows(self, model):
        """Its rows of a model as objects, checked when the last one has been read."""
        name, digest = f"rows/{model._meta.label}.jsonl", hashlib.sha256()
        with self.zip.open(name) as lines:
            while line := lines.readline(MOST_LINE):
                digest.update(line)
                yield json.loads(line)
        self._check(name, digest)

    def number(self, model, number):
        return None if number is None else self.numbers[model].get(number)


@contextmanager
def _in_a_sentence(name):
    try:
        yield
    except InputError:
        raise
    except (*FAULTS, ValidationError, DatabaseError) as error:
        raise InputError(f"{name}: cannot be brought back, because its contents do not fit ({error}).") from error


@transaction.atomic
def bring_back_archive(path, supervisor, name=None):
    """The Production of an archive, entered as a new one whose supervisor is that User; name: another one than it had.

    Who did what stays with names: people who are not there are entered without a password, and may not sign in.
    Raises InputError, nothing being changed.
    """
    archive = _Archive(path)
    wanted = name or archive.about["production"]
    if Production.everything.filter(name=wanted).exists():
        raise InputError(f"There is a production named {wanted} already; give another name with --name.")
    with _in_a_sentence(archive.name):
        archive.numbers[User] = _people(archive.about["people"])
        later = []  # (model, number here, field, what it points to there): what may come later in the archive
        for model in ROWS:
            some = []
            for row in archive.rows(model):
                some.append(row)
                if len(some) == AT_ONCE:
                    later += _enter(archive, model, some, wanted)
                    some = []
            later += _enter(archive, model, some, wanted)
        for model, number, field, target in later:
            _point(archive, model, number, field, target)
        (production,) = Production.objects.filter(pk__in=archive.numbers[Production].values())
    Membership.objects.create(user=supervisor, production=production, role=Role.SUPERVISOR)
    return production


def _people(names):
    out = {}
    for number, name in names.items():
        user = User.objects.filter(username=name).first() or User(username=name, is_active=False)
        if user.pk is None:
            user.set_unusable_password()
            user.save()
        out[int(number)] = user.pk
    return out


def _enter(archive, model, rows, name):
    """Create rows of a model. Returns what they point to and cannot yet."""
    plain, links, blobs, lists = fields_of(model)
    known = {"pk", *(f.name for f in (*plain, *links, *blobs, *lists))}
    pieces = _pieces(archive, rows) if model is Chunk else {}
    made, later = [], []
    for row in rows:
        if unknown := set(row) - known:
            raise InputError(
                f"{archive.name}: comes from a newer Otrevo ({model._meta.label} has {sorted(unknown)[0]}); upgrade first."
            )
        one = model()
        for field in plain:
            if field.name in row:
                setattr(one, field.attname, _value(archive, model, field, row[field.name]))
        for field in links:
            if model is Chunk and field.name == "piece":
                one.piece_id = pieces[row["piece"]]
            elif field.related_model is model:
                later.append((one, field, row.get(field.name)))
            else:
                setattr(one, field.attname, archive.number(field.related_model, row.get(field.name)))
        for field in blobs:
            setattr(one, field.name, archive.read(row[field.name]) if row.get(field.name) else None)
        later += [(one, field, row.get(field.name, [])) for field in lists]
        made.append(one)
    for one in made:
        if model is Production:
            one.name = name
        elif model is Run and one.state in ACTIVE:
            one.state, one.message, one.finished_at = Run.State.CANCELLED, UNDER_WAY, timezone.now()
        elif model is Package and one.state == Package.State.BUILDING:
            one.state, one.message = Package.State.CANCELLED, UNDER_WAY
    stamps = [f for f in plain if isinstance(f, DateTimeField) and f.auto_now_add]
    then = [[getattr(one, f.name) for f in stamps] for one in made]
    model.objects.bulk_create(made)
    if stamps:  # creating has set them to now
        for one, values in zip(made, then, strict=True):
            for field, value in zip(stamps, values, strict=True):
                setattr(one, field.name, value)
        model.objects.bulk_update(made, [f.name for f in stamps])
    archive.numbers[model] |= {row["pk"]: one.pk for row, one in zip(rows, made, strict=True)}
    return [(model, one.pk, field, target) for one, field, target in later]


def _value(archive, model, field, value):
    """The value of a field, the numbers of rows in it being those of this installation."""
    numbered = NUMBERS.get((model, field.name))
    if numbered is None or value is None:
        return field.to_python(value)
    what, where = numbered
    new = [archive.numbers[what].get(n) for n in (value if where is None else value.get(where, []))]
    new = [n for n in new if n is not None]
    return new if where is None else value | ({where: new} if where in value else {})


def _pieces(archive, rows):
    """{digest: number here} of the pieces of Chunk rows; those that are not here yet are stored."""
    wanted = {row["piece"] for row in rows}
    digests = [bytes.fromhex(d) for d in wanted]
    here = Piece.objects.filter(sha256__in=digests)
    here.update(kept_at=timezone.now())
    out = {bytes(d).hex(): pk for d, pk in here.values_list("sha256", "pk")}
    for digest in wanted - set(out):
        payload = archive.read(archive.pieces[digest])
        if hashlib.sha256(payload).hexdigest() != digest:
            raise InputError(f"{archive.name}: {archive.pieces[digest]} in it is damaged; nothing was brought back.")
        out[digest] = Piece.objects.create(sha256=bytes.fromhex(digest), payload=payload).pk
    return out


def _point(archive, model, number, field, target):
    """Have a row point to what is there now."""
    if field.many_to_many:
        new = [archive.numbers[field.related_model].get(t) for t in target]
        getattr(model.objects.get(pk=number), field.name).set([n for n in new if n is not None])
    elif target is not None:
        model.objects.filter(pk=number).update(**{field.attname: archive.numbers[model].get(target)})
