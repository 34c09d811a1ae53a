"""Bodies of requests, looked at before anything of them is kept: whether the route takes one, whether the sender is signed in,
how long it is, and how long it takes to come.
"""

import asyncio
import json
import re
import shutil
import tempfile
import time
from http.cookies import CookieError, SimpleCookie
from importlib import import_module
from types import SimpleNamespace

from channels.db import database_sync_to_async
from django.conf import settings
from django.contrib.auth import get_user
from django.db import DatabaseError
from ninja.openapi.schema import OpenAPISchema

from otrevo.server.api import api

ROOT = "/api"
SILENT_S = 30.0  # between two pieces of a body
GRACE_S, LEAST_BYTES_PER_S = 60.0, 10_000  # what the slowest line that may send something has
ROOM_LEFT_BYTES = 256 * 1024**2
UPLOAD = "multipart/form-data"


class Refused(Exception):
    """status: the answer's; words: one sentence for the sender."""

    def __init__(self, status, words):
        super().__init__(words)
        self.status, self.words = status, words


class _Bodies(OpenAPISchema):
    """The description of the API without answers and parameters, which take long to describe and nobody asks for here."""

    def responses(self, operation):
        return {}

    def operation_parameters(self, operation):
        return []


def routes():
    """[(pattern, {method: (whether it takes files, whether anybody may ask)})] of the API's routes that take a body."""
    out = []
    for path, operations in _Bodies(api, ROOT + "/")["paths"].items():
        taken = {
            method.upper(): (UPLOAD in operation["requestBody"]["content"], not operation.get("security"))
            for method, operation in operations.items()
            if "requestBody" in operation
        }
        pattern = re.compile("/".join("[^/]+" if part.startswith("{") else re.escape(part) for part in path.split("/")))
        out.append((pattern, taken))
    return out


class Bodies:
    """ASGI application round another one."""

    def __init__(self, application):
        self.application, self.routes = application, routes()

    async def __call__(self, scope, receive, send):
        if scope["type"] != "http":
            return await self.application(scope, receive, send)
        length, chunked = _told(scope)
        begun = False

        async def sending(message):
            nonlocal begun
            begun = True
            await send(message)

        try:
            if not length and not chunked:
                return await self.application(scope, receive, sending)
            most = await self._most(scope)
            if length is not None and length > most:
                raise Refused(413, f"Too much at once; at most {most / 2**20:.0f} MiB are taken here.")
            return await self.application(scope, _measured(receive, most), sending)
        except Refused as refused:
            if not begun:
                await _answer(send, refused)

    async def _most(self, scope):
        """How many bytes this request may have. Raises Refused where it may have none."""
        taken = next((methods for pattern, methods in self.routes if pattern.fullmatch(scope["path"])), {})
        files, anybody = taken.get(scope["method"], (False, None))
        if anybody is None:  # it takes none; short ones that come along do no harm
            return settings.MOST_IDLE_BYTES
        if not anybody and not await database_sync_to_async(_is_signed_in)(scope):
            raise Refused(401, "Sign in first.")
        if not files:
            return settings.DATA_UPLOAD_MAX_MEMORY_SIZE
        room = shutil.disk_usage(tempfile.gettempdir()).free - ROOM_LEFT_BYTES
        if room < (_told(scope)[0] or 0):
            raise Refused(507, "There is no room for so much on this machine; nothing was kept.")
        return min(settings.MAX_REQUEST_BYTES, max(room, 0))


def _told(scope):
    """(length that is told or None, whether pieces come without one)."""
    told = dict(scope["headers"])
    length = told.get(b"content-length", b"")
    return (int(length) if length.isdigit() else None), b"transfer-encoding" in told


def _measured(receive, most):
    """receive, as long as the body comes quickly enough and is no longer than `most` bytes. Raises Refused."""
    begun, got, over = time.monotonic(), 0, False

    async def measured():
        nonlocal got, over
        if over:  # what comes now is only that the sender is gone
            return await receive()
        left = begun + GRACE_S + got / LEAST_BYTES_PER_S - time.monotonic()
        try:
            message = await asyncio.wait_for(receive(), max(0.0, min(SILENT_S, left)))
        except TimeoutError:
            raise Refused(408, "The rest of the request did not come in time; nothing was kept.") from None
        got += len(message.get("body", b""))
        if got > most:
            raise Refused(413, f"Too much at once; at most {most / 2**20:.0f} MiB are taken here.")
        over = not message.get("more_body")
        return message

    return measured


def _is_signed_in(scope):
    cookies = SimpleCookie()
    for name, value in scope["headers"]:
        if name == b"cookie":
            try:
                cookies.load(value.decode("latin-1"))
            except CookieError:
                return False
    key = cookies.get(settings.SESSION_COOKIE_NAME)
    if key is None:
        return False
    session = import_module(settings.SESSION_ENGINE).SessionStore(key.value)
    try:
        return get_user(SimpleNamespace(session=session)).is_authenticated
    except DatabaseError:
        raise Refused(503, "The database does not answer; try again in a moment.") from None


async def _answer(send, refused):
    body = json.dumps({"detail": refused.words}).encode()
    headers = [
        (b"content-type", b"application/json"),
        (b"content-length", b"%d" % len(body)),
        (b"connection", b"close"),
    ]
    await send({"type": "http.response.start", "status": refused.status, "headers": headers})
    await send({"type": "http.response.body", "body": body})
