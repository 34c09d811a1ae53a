"""Serve the built front end: hashed assets for ever, the page itself never cached, so that a reload is always current."""

import mimetypes

from django.conf import settings
from django.http import FileResponse, Http404, HttpResponse
from django.views.decorators.csrf import ensure_csrf_cookie
from django.views.decorators.http import require_GET

_TYPES = {".js": "text/javascript", ".css": "text/css", ".woff2": "font/woff2", ".woff": "font/woff"}


@require_GET
def asset(request, name):
    folder = settings.HOME / "web" / "dist" / "assets"
    known = {p.name: p for p in folder.glob("*")} if folder.is_dir() else {}
    if name not in known:  # looked up among the files that exist, never joined to a path
        raise Http404
    file = known[name]
    kind = _TYPES.get(file.suffix) or mimetypes.guess_type(name)[0] or "application/octet-stream"
    response = FileResponse(file.open("rb"), content_type=kind)
    response["Cache-Control"] = "public, max-age=31536000, immutable"
    return response


@require_GET
@ensure_csrf_cookie
def front(request):
    page = settings.HOME / "web" / "dist" / "index.html"
    if not page.is_file():
        return HttpResponse("The front end is not built; run ./otrevo demo.", status=503, content_type="text/plain")
    response = HttpResponse(page.read_bytes(), content_type="text/html; charset=utf-8")
    response["Cache-Control"] = "no-store"
    return response
