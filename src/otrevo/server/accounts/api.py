"""Sign-in, sign-out, who am I."""

from math import ceil

from django.contrib.auth import authenticate, login, logout
from django.middleware.csrf import get_token
from ninja import Field, Router, Schema
from ninja.errors import HttpError
from ninja.utils import check_csrf

from otrevo.server.accounts import audit
from otrevo.server.accounts.models import Membership
from otrevo.server.given import Given

router = Router(tags=["accounts"])


class SignIn(Given):
    name: str = Field(max_length=150)
    password: str = Field(max_length=1000)


class MembershipOut(Schema):
    production_id: int
    production: str
    role: str


class Me(Schema):
    """administrator: may add users and productions to the installation."""

    name: str
    administrator: bool
    memberships: list[MembershipOut]


def me_of(user):
    rows = (
        Membership.objects.filter(user=user, production__removal=None)
        .select_related("production")
        .order_by("production__name")
    )
    return {
        "name": user.username,
        "administrator": user.is_superuser,
        "memberships": [
            {"production_id": m.production_id, "production": m.production.name, "role": m.role} for m in rows
        ],
    }


@router.get("/csrf", auth=None)
def csrf(request):
    return {"token": get_token(request)}


@router.post("/sign-in", auth=None, response=Me)
def sign_in(request, payload: SignIn):
    if check_csrf(request, sign_in):  # or a foreign page could sign somebody in as somebody else
        raise HttpError(403, "The page is out of date; reload it and sign in again.")
    wait = audit.waits_s(payload.name, audit.address_of(request))
    if wait > 0:
        raise HttpError(429, f"Too many wrong passwords; try again in {ceil(wait)} s.")
    user = authenticate(request, username=payload.name, password=payload.password)
    if user is None:
        audit.enter(request, audit.REFUSED, name=payload.name)
        raise HttpError(401, "Name and password do not match.")
    login(request, user)
    audit.enter(request, audit.SIGNED_IN, user=user)
    return me_of(user)


@router.post("/sign-out")
def sign_out(request):
    audit.enter(request, audit.SIGNED_OUT)
    logout(request)
    return {"ok": True}


@router.get("/me", response=Me)
def me(request):
    return me_of(request.user)
