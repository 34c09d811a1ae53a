"""Per-production access: every object is fetched through these, never by its number alone."""

from ninja.errors import HttpError

from otrevo.server.accounts.models import Membership, Role

FLOOR_ROLES = (Role.TECHNICIAN, Role.SUPERVISOR)
DESK_ROLES = (Role.TECHNICIAN, Role.CLEAN_UP, Role.SUPERVISOR)
EVERYONE = tuple(Role)


def not_here():
    """The answer for what does not exist, was removed, or is somebody else's: which of them, nobody learns."""
    return HttpError(404, "There is no such thing here, or it belongs to a production you are not part of.")


def role_in(user, production_id):
    """The user's role in a production, or 404: whoever is no member does not learn that it exists."""
    membership = Membership.objects.filter(user=user, production_id=production_id, production__removal=None).first()
    if membership is None:
        raise not_here()
    return membership.role


def require(user, production_id, roles):
    """Raise 404 for outsiders and 403 for members whose role may not do this."""
    role = role_in(user, production_id)
    if role not in roles:
        raise HttpError(403, f"As {role} you cannot do this; ask a {' or a '.join(roles)}.")
    return role


def require_administrator(user):
    """Raise 403 for everybody who may not administer the installation."""
    if not user.is_superuser:
        raise HttpError(403, "Only an administrator of this installation can do this.")


def fetch(user, queryset, production_path, roles, **lookup):
    """One object of a production the user belongs to, in a permitted role."""
    item = queryset.filter(**lookup).first()
    if item is None:
        raise not_here()
    target = item
    for step in production_path.split("."):
        if getattr(target, "removal_id", None) is not None:  # or what it is in has been removed
            raise not_here()
        target = getattr(target, step)
    require(user, target, roles)
    return item
