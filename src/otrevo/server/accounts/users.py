"""Users of an installation: made and changed by its administrators, who invite them by a link. Each: check, then do it."""

from django.contrib.auth.models import User
from django.contrib.auth.password_validation import ValidationError, validate_password
from django.contrib.auth.tokens import default_token_generator
from django.contrib.sessions.models import Session
from django.db import IntegrityError, transaction

from otrevo.core.errors import InputError
from otrevo.server.accounts.models import Membership, Role


def add_user(name, administrator):
    """A new User who has to be invited. Raises InputError."""
    made = User(username=name.strip(), is_superuser=administrator)
    try:
        made.username_validator(made.username)
    except ValidationError:
        raise InputError("A name has letters, digits and @ . + - _ only.") from None
    made.set_unusable_password()
    try:
        with transaction.atomic():
            made.save()
    except IntegrityError:
        raise InputError(f"There is a user {made.username} already.") from None
    return made


def invitation(user):
    """The path of a page on which a user chooses a password: once, within three days, and not after another password was chosen."""
    return f"/welcome/{user.pk}/{default_token_generator.make_token(user)}"


def accept_invitation(user_id, token, password):
    """The User whose password is set now. Raises InputError."""
    user = User.objects.filter(pk=user_id, is_active=True).first()
    if user is None or not default_token_generator.check_token(user, token):
        raise InputError("This link was used or is too old; ask an administrator for a new one.")
    set_password(user, password)
    return user


def set_password(user, password):
    """Give a password that keeps the rules. Raises InputError with those it does not keep."""
    try:
        validate_password(password, user)
    except ValidationError as error:
        raise InputError(" ".join(error.messages)) from None
    user.set_password(password)  # which ends the sessions that began with another one
    user.save(update_fields=["password"])


@transaction.atomic
def change_user(user, active=None, administrator=None):
    """Let a user sign in or not, administer or not. Raises InputError where nobody could administer any more."""
    administrators = list(User.objects.select_for_update().filter(is_superuser=True, is_active=True))
    user = User.objects.select_for_update().get(pk=user.pk)
    user.is_active = user.is_active if active is None else active
    user.is_superuser = user.is_superuser if administrator is None else administrator
    if [u for u in administrators if u.pk != user.pk] or (user.is_active and user.is_superuser):
        user.save(update_fields=["is_active", "is_superuser"])
    else:
        raise InputError(f"{user.username} is the only administrator; make somebody else one first.")
    if not user.is_active:
        end_sessions(user)
    return user


def set_role(user, production_id, role):
    """Give a user a role in a production, or none. Raises InputError for a role that there is not."""
    if role is None:
        Membership.objects.filter(user=user, production_id=production_id).delete()
        return
    if role not in Role.values:
        raise InputError(f"There is no role '{role}'; expected one of {', '.join(Role.values)}.")
    Membership.objects.update_or_create(user=user, production_id=production_id, defaults={"role": role})


def end_sessions(user, but=None):
    """Sign a user out everywhere, but for the session of that key."""
    for session in Session.objects.exclude(session_key=but):
        if session.get_decoded().get("_auth_user_id") == str(user.pk):
            session.delete()
