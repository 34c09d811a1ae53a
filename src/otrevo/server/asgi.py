"""ASGI entry point for uvicorn: pages and API over HTTP, live views over web sockets."""

import os

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "otrevo.server.settings")

from django.core.asgi import get_asgi_application  # noqa: E402

http = get_asgi_application()

from channels.auth import AuthMiddlewareStack  # noqa: E402
from channels.routing import ProtocolTypeRouter, URLRouter  # noqa: E402
from django.urls import path  # noqa: E402

import otrevo.server.urls  # noqa: E402, F401, loaded before somebody waits for it
from otrevo.server.live.consumer import Live  # noqa: E402
from otrevo.server.live.origin import OwnOrigin  # noqa: E402
from otrevo.server.web.access_log import AccessLog  # noqa: E402
from otrevo.server.web.bodies import Bodies  # noqa: E402

sockets = OwnOrigin(AuthMiddlewareStack(URLRouter([path("live/<int:production>", Live.as_asgi())])))
application = ProtocolTypeRouter({"http": AccessLog(Bodies(http)), "websocket": sockets})
