"""One line of JSON for every request that was answered, or was not."""

import logging
import time
from logging.handlers import RotatingFileHandler

from django.conf import settings

log = logging.getLogger("otrevo.access")
MOST_BYTES, FILES = 20_000_000, 5


class AccessLog:
    """ASGI application round another one."""

    def __init__(self, application):
        self.application = application

    async def __call__(self, scope, receive, send):
        if scope["type"] != "http":
            return await self.application(scope, receive, send)
        begun, status, sent = time.perf_counter(), 0, 0

        async def counting(message):
            nonlocal status, sent
            status = message.get("status", status)
            sent += len(message.get("body", b""))
            await send(message)

        try:
            return await self.application(scope, receive, counting)
        finally:
            log.info("%s %s", scope["method"], scope["path"], extra={
                "status": status, "ms": round(1000 * (time.perf_counter() - begun), 1), "bytes": sent,
                "from": (scope.get("client") or ("",))[0], "user": scope.get("otrevo.user", ""),
            })  # fmt: skip


def keep_access_log(formatter):
    """Write it to access.log of the data folder, the oldest of it thrown away."""
    handler = RotatingFileHandler(settings.DATA / "access.log", maxBytes=MOST_BYTES, backupCount=FILES - 1)
    handler.setFormatter(formatter)
    log.addHandler(handler)
    log.propagate = False
