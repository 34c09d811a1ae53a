"""What is written down of who did what, and how long somebody who guesses passwords has to wait."""

from datetime import timedelta

from django.utils import timezone

from otrevo.server.accounts.models import AuditEntry

SIGNED_IN, REFUSED, SIGNED_OUT = "signed in", "sign-in refused", "signed out"
FREE_BY_NAME, FREE_BY_ADDRESS = 5, 20  # wrong passwords that cost no waiting
LONGEST_WAIT_S = 900.0
REMEMBERED_S = 3600.0


def enter(request, deed, about="", user=None, name=""):
    """Write down what the user of a request does, or what `user` or somebody called `name` does in it."""
    user = user or (request.user if request.user.is_authenticated else None)
    AuditEntry.objects.create(
        user=user, name=(name or (user.get_username() if user else ""))[:150], address=address_of(request), deed=deed, about=about[:300]
    )  # fmt: skip


def address_of(request):
    """Where a request comes from; behind a proxy the web server has put that in its place."""
    return (request.META.get("REMOTE_ADDR") or "")[:45]


def waits_s(name, address):
    """Seconds until the next attempt to sign in by this name, or from this address, is looked at; 0 where it may be made."""
    return max(_waits_s(FREE_BY_NAME, name=name[:150]), _waits_s(FREE_BY_ADDRESS, address=address))


def _waits_s(free, **about):
    """Each wrong password after the free ones doubles the wait, until one was right or nobody tried for REMEMBERED_S."""
    since = timezone.now() - timedelta(seconds=REMEMBERED_S)
    entries = AuditEntry.objects.filter(at__gt=since, **about)
    right = entries.filter(deed=SIGNED_IN).order_by("-at").values_list("at", flat=True).first()
    wrong = entries.filter(deed=REFUSED, **({"at__gt": right} if right else {})).order_by("-at")
    count = wrong.count()
    if count < free:
        return 0.0
    wait = min(2.0 ** (count - free + 1), LONGEST_WAIT_S)
    return max(0.0, wait - (timezone.now() - wrong.first().at).total_seconds())
