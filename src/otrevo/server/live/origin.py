"""Web sockets are opened by our own pages and by nobody else's: browsers send cookies with them wherever a page comes from."""

from urllib.parse import urlsplit

from channels.security.websocket import WebsocketDenier
from django.conf import settings
from django.http.request import validate_host

PORTS = {"http": 80, "https": 443}


class OwnOrigin:
    """ASGI application round another one: the page must be of the scheme, host and port that it was asked for."""

    def __init__(self, application):
        self.application = application

    async def __call__(self, scope, receive, send):
        headers = dict(scope["headers"])
        own = is_own(headers.get(b"origin", b"").decode("latin-1"), headers.get(b"host", b"").decode("latin-1"))
        return await (self.application if own else WebsocketDenier())(scope, receive, send)


def is_own(origin, host):
    """Whether a page of that origin is ours, by the host that was asked for."""
    try:
        told, asked = urlsplit(origin), urlsplit(f"//{host}")
        port, wanted = told.port or PORTS.get(told.scheme), asked.port
    except ValueError:
        return False
    scheme = "https" if settings.TLS else "http"
    if told.scheme != scheme or not told.hostname or not validate_host(told.hostname, settings.ALLOWED_HOSTS):
        return False
    return told.hostname == asked.hostname and port == (wanted or PORTS[scheme])
