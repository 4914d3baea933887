"""What happened, a line of JSON each: on the console, and in `log/` of the data folder, where old
lines are thrown away."""

import json
import logging
import re
import time
import uuid
from contextvars import ContextVar
from datetime import UTC, datetime

logger = logging.getLogger("aperture.requests")
request_id: ContextVar[str] = ContextVar("request_id", default="")
SHOT = re.compile(r"^/shows/([\w-]+)/([\w-]+)/")
EXTRAS = ("method", "path", "status", "ms", "show", "shot", "who")


class JsonLines(logging.Formatter):
    """One JSON object a line, errors with their traceback."""

    def format(self, record):
        """The line."""
        line = {
            "at": datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds"),
            "level": record.levelname.lower(),
            "logger": record.name,
            "says": record.getMessage(),
            "request": request_id.get(),
        }
        line |= {key: getattr(record, key) for key in EXTRAS if hasattr(record, key)}
        if record.exc_info:
            line["traceback"] = self.formatException(record.exc_info)
        return json.dumps(
            {key: value for key, value in line.items() if value != ""}, ensure_ascii=True
        )


class LogRequests:
    """A line for each request, with an id that the answer carries too, so that a report can be
    found again."""

    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request):
        """First of all middleware: what the others do counts."""
        token, began = request_id.set(uuid.uuid4().hex[:12]), time.monotonic()
        try:
            response = self.get_response(request)
            found = SHOT.match(request.path)
            level = logging.ERROR if response.status_code >= 500 else logging.INFO
            logger.log(
                level,
                "%s %s %s",
                request.method,
                request.path[:300],
                response.status_code,
                extra={
                    "method": request.method,
                    "path": request.path[:300],
                    "status": response.status_code,
                    "ms": round((time.monotonic() - began) * 1e3, 1),
                    "show": found[1] if found else "",
                    "shot": found[2] if found else "",
                    "who": getattr(request, "who", ""),
                },
            )
            response["X-Request-Id"] = request_id.get()
            return response
        finally:
            request_id.reset(token)


def settings_for(folder) -> dict:
    """Django's LOGGING: the console, and a file of at most 20 MB with five older ones.

    Several processes may write to it at once; when it is renamed, a line of another one can end up
    in the older file.
    """
    folder.mkdir(exist_ok=True)
    rotating = {
        "class": "logging.handlers.RotatingFileHandler",
        "filename": str(folder / "aperture.log"),
        "maxBytes": 20_000_000,
        "backupCount": 5,
        "delay": True,
        "formatter": "json",
    }
    return {
        "version": 1,
        "disable_existing_loggers": False,
        "formatters": {"json": {"()": JsonLines}},
        "handlers": {
            "console": {"class": "logging.StreamHandler", "formatter": "json", "level": "WARNING"},
            "file": rotating,
        },
        "root": {"handlers": ["console", "file"], "level": "INFO"},
        # Refusals have a line of ours already; what wasn't foreseen comes with its traceback.
        "loggers": {"django.request": {"level": "ERROR"}},
    }
