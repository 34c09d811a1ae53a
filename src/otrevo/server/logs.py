"""Logs as lines of JSON, each with the part it comes from and, where there is one, the take and the run it is about."""

import contextlib
import contextvars
import json
import logging
import os
import traceback
from datetime import UTC, datetime

_about = contextvars.ContextVar("about")
_ORDINARY = set(vars(logging.makeLogRecord({}))) | {"message", "asctime", "taskName"}


@contextlib.contextmanager
def about(**values):
    """Everything that is logged within the block says this too, such as take=3, run=17."""
    token = _about.set(_about.get({}) | values)
    try:
        yield
    finally:
        _about.reset(token)


class JsonLines(logging.Formatter):
    """One object a line: at, level, part, logger, message; what `about` and `extra` say; trouble, a traceback, where there is one."""

    def format(self, record):
        line = {
            "at": datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z"),
            "level": record.levelname.lower(),
            "part": os.environ.get("OTREVO_PART", ""),
            "logger": record.name,
            "message": record.getMessage(),
        }
        line |= _about.get({}) | {k: v for k, v in vars(record).items() if k not in _ORDINARY}
        if record.exc_info:
            line["trouble"] = "".join(traceback.format_exception(*record.exc_info)).rstrip()
        return json.dumps(line, ensure_ascii=False, default=str)


class NotHealth(logging.Filter):
    """Leaves out the 503 with which /api/health says that a part is missing: an answer, and no error of the web server."""

    def filter(self, record):
        path = getattr(getattr(record, "request", None), "path", "")
        return not (path == "/api/health" and getattr(record, "status_code", 0) == 503)
