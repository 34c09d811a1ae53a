"""The API under /api, the built front end for everything else."""

from django.urls import path, re_path

from otrevo.server.api import api
from otrevo.server.front import asset, front
from otrevo.server.health import metrics

urlpatterns = [
    path("api/", api.urls),
    path("metrics", metrics),
    path("assets/<str:name>", asset),
    re_path(r"^(?!api/|assets/).*$", front),
]
