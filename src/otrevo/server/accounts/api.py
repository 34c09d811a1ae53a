"""Sign-in, sign-out, who am I."""

from django.contrib.auth import authenticate, login, logout
from django.middleware.csrf import get_token
from ninja import Router, Schema
from ninja.errors import HttpError
from ninja.utils import check_csrf

from otrevo.server.accounts.models import Membership

router = Router(tags=["accounts"])


class SignIn(Schema):
    name: str
    password: str


class MembershipOut(Schema):
    production_id: int
    production: str
    role: str


class Me(Schema):
    name: str
    memberships: list[MembershipOut]


def _me(user):
    rows = Membership.objects.filter(user=user).select_related("production").order_by("production__name")
    return {
        "name": user.username,
        "memberships": [
            {"production_id": m.production_id, "production": m.production.name, "role": m.role} for m in rows
        ],
    }


@router.get("/health", auth=None)
def health(request):
    return {"ok": True}


@router.get("/csrf", auth=None)
def csrf(request):
    return {"token": get_token(request)}


@router.post("/sign-in", auth=None, response=Me)
def sign_in(request, payload: SignIn):
    if check_csrf(request, sign_in):  # or a foreign page could sign somebody in as somebody else
        raise HttpError(403, "The page is out of date; reload it and sign in again.")
    user = authenticate(request, username=payload.name, password=payload.password)
    if user is None:
        raise HttpError(401, "Name and password do not match.")
    login(request, user)
    return _me(user)


@router.post("/sign-out")
def sign_out(request):
    logout(request)
    return {"ok": True}


@router.get("/me", response=Me)
def me(request):
    return _me(request.user)
