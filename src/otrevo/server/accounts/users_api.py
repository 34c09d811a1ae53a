"""Administration: users, their roles, invitations, what was done. For administrators of the installation alone."""

from datetime import datetime

from django.apps import apps
from django.contrib.auth import login, update_session_auth_hash
from django.contrib.auth.models import User
from django.db.models import Q
from ninja import Field, Query, Router, Schema
from ninja.errors import HttpError
from ninja.utils import check_csrf

from otrevo.core.errors import InputError
from otrevo.server.accounts import audit, users
from otrevo.server.accounts.access import require_administrator
from otrevo.server.accounts.api import Me, me_of
from otrevo.server.accounts.models import AuditEntry, Role
from otrevo.server.given import Given

router = Router(tags=["administration"])
MOST_ENTRIES = 200
MOST_LETTERS = 150


class RoleOut(Schema):
    production_id: int
    production: str
    role: str


class UserOut(Schema):
    """waits: invited, and has not chosen a password yet."""

    id: int
    name: str
    active: bool
    administrator: bool
    waits: bool
    last_sign_in: datetime | None
    roles: list[RoleOut]


class UsersOut(Schema):
    users: list[UserOut]
    productions: list[RoleOut]
    roles: list[str]


class UserIn(Given):
    name: str = Field(min_length=1, max_length=MOST_LETTERS)
    administrator: bool = False


class UserChange(Given):
    active: bool | None = None
    administrator: bool | None = None


class RoleIn(Given):
    production_id: int
    role: str | None = Field(None, max_length=20)


class Invited(Schema):
    """path: of the page on which they choose a password; valid once, for three days."""

    user: UserOut
    path: str


class WelcomeIn(Given):
    user_id: int
    token: str = Field(max_length=200)
    password: str = Field(max_length=1000)


class PasswordIn(Given):
    old: str = Field(max_length=1000)
    new: str = Field(max_length=1000)


class EntryOut(Schema):
    id: int
    at: datetime
    name: str
    address: str
    deed: str
    about: str


def _user(request, user_id):
    require_administrator(request.user)
    found = User.objects.filter(pk=user_id).first()
    if found is None:
        raise HttpError(404, "There is no such user.")
    return found


def _out(user):
    return {
        "id": user.pk, "name": user.username, "active": user.is_active, "administrator": user.is_superuser,
        "waits": not user.has_usable_password(), "last_sign_in": user.last_login,
        "roles": [
            {"production_id": m.production_id, "production": m.production.name, "role": m.role}
            for m in user.memberships.filter(production__removal=None).select_related("production").order_by("production__name")
        ],
    }  # fmt: skip


def _productions():
    return apps.get_model("shoot", "Production").objects.order_by("name")


@router.get("/users", response=UsersOut)
def list_users(request):
    require_administrator(request.user)
    found = User.objects.prefetch_related("memberships__production").order_by("-is_active", "username")
    return {
        "users": [_out(u) for u in found],
        "productions": [{"production_id": p.pk, "production": p.name, "role": ""} for p in _productions()],
        "roles": list(Role.values),
    }


@router.post("/users", response=Invited)
def add(request, payload: UserIn):
    """A new user, who chooses a password on the page of the link."""
    require_administrator(request.user)
    made = users.add_user(payload.name, payload.administrator)
    audit.enter(request, "user added", f"{made.username}{', administrator' if made.is_superuser else ''}")
    return {"user": _out(made), "path": users.invitation(made)}


@router.post("/users/{user_id}/invite", response=Invited)
def invite(request, user_id: int):
    """A new link, for somebody who lost theirs or their password."""
    found = _user(request, user_id)
    audit.enter(request, "user invited", found.username)
    return {"user": _out(found), "path": users.invitation(found)}


@router.patch("/users/{user_id}", response=UserOut)
def change(request, user_id: int, payload: UserChange):
    found = users.change_user(_user(request, user_id), payload.active, payload.administrator)
    said = [f"active: {payload.active}"] if payload.active is not None else []
    said += [f"administrator: {payload.administrator}"] if payload.administrator is not None else []
    audit.enter(request, "user changed", f"{found.username}, {', '.join(said)}")
    return _out(found)


@router.put("/users/{user_id}/roles", response=UserOut)
def set_role(request, user_id: int, payload: RoleIn):
    """Give a user a role in a production, or none."""
    found = _user(request, user_id)
    production = _productions().filter(pk=payload.production_id).first()
    if production is None:
        raise InputError("There is no such production.")
    users.set_role(found, production.pk, payload.role)
    audit.enter(request, "role changed", f"{found.username}, {production.name}: {payload.role or 'none'}")
    return _out(found)


@router.post("/users/{user_id}/sign-out", response=UserOut)
def end_sessions(request, user_id: int):
    """Sign a user out everywhere."""
    found = _user(request, user_id)
    users.end_sessions(found)
    audit.enter(request, "sessions ended", found.username)
    return _out(found)


@router.get("/audit", response=list[EntryOut])
def entries(request, search: str = Query("", max_length=MOST_LETTERS), before: int | None = None):
    """What was done, newest first: entries that have every word of the search, older than the one of that number."""
    require_administrator(request.user)
    found = AuditEntry.objects.all()
    for word in search.split():
        found = found.filter(_has(word))
    if before is not None:
        found = found.filter(pk__lt=before)
    return list(found[:MOST_ENTRIES])


def _has(word):
    return Q(name__icontains=word) | Q(address__icontains=word) | Q(deed__icontains=word) | Q(about__icontains=word)


@router.post("/welcome", auth=None, response=Me)
def welcome(request, payload: WelcomeIn):
    """Choose a password by an invitation, and be signed in."""
    if check_csrf(request, welcome):
        raise HttpError(403, "The page is out of date; reload it and try again.")
    user = users.accept_invitation(payload.user_id, payload.token, payload.password)
    audit.enter(request, "password chosen", user=user)
    login(request, user, backend="django.contrib.auth.backends.ModelBackend")
    return me_of(user)


@router.post("/password", response=Me)
def own_password(request, payload: PasswordIn):
    """Change one's own password; other sessions end."""
    if not request.user.check_password(payload.old):
        raise InputError("That is not your password now; nothing was changed.")
    users.set_password(request.user, payload.new)
    update_session_auth_hash(request, request.user)
    users.end_sessions(request.user, but=request.session.session_key)
    audit.enter(request, "password changed")
    return me_of(request.user)
