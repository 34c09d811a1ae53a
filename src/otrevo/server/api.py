"""The API: one NinjaAPI, one router per place. Session sign-in, CSRF on every change, one-sentence errors."""

from django.db import DataError
from ninja import NinjaAPI
from ninja.errors import ValidationError
from ninja.security import django_auth

from otrevo.core.errors import InputError
from otrevo.server.accounts.api import router as accounts
from otrevo.server.accounts.users_api import router as administration
from otrevo.server.bench.api import router as bench
from otrevo.server.cast.api import router as cast
from otrevo.server.cast.characters_api import router as characters
from otrevo.server.conflicts import Conflict
from otrevo.server.floor.api import router as floor
from otrevo.server.handover.api import router as handover
from otrevo.server.health import router as health
from otrevo.server.keeping.api import router as keeping
from otrevo.server.machines import router as machines
from otrevo.server.shoot.api import router as shoot
from otrevo.server.stage.api import router as stage

api = NinjaAPI(title="Otrevo", version="1", auth=django_auth, docs_url=None, openapi_url=None)
api.add_router("", accounts)
api.add_router("", administration)
api.add_router("", health)
api.add_router("", machines)
api.add_router("", shoot)
api.add_router("", stage)
api.add_router("", cast)
api.add_router("", characters)
api.add_router("", floor)
api.add_router("", bench)
api.add_router("", handover)
api.add_router("", keeping)


@api.exception_handler(Conflict)
def conflict(request, error):
    answer = {"detail": str(error), "theirs": error.theirs, "by": error.by, "version": error.version}
    return api.create_response(request, answer, status=409)


@api.exception_handler(InputError)
def input_error(request, error):
    return api.create_response(request, {"detail": str(error)}, status=422)


@api.exception_handler(DataError)
@api.exception_handler(UnicodeEncodeError)
def cannot_be_kept(request, error):
    """What no field refuses and the database cannot hold."""
    sentence = "A text in it has characters that cannot be kept, or a number is out of bounds; nothing was changed."
    return api.create_response(request, {"detail": sentence}, status=422)


@api.exception_handler(ValidationError)
def validation_error(request, error):
    first = error.errors[0]
    place = ".".join(str(p) for p in first["loc"] if p not in ("body", "payload", "data"))
    return api.create_response(
        request, {"detail": f"{place}{': ' if place else ''}{first['msg'].removeprefix('Value error, ')}."}, status=422
    )
