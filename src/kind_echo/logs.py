"""Logs as lines of JSON, each with the request or the job that it is about, and none with a secret."""

import logging
import re
import sys
from collections.abc import MutableMapping
from typing import Any

import structlog

_SECRET_NAMES = re.compile(r"pass(word)?|secret|token|authorization|cookie|csrf|digest|^stamp$", re.IGNORECASE)
_ALLOWED_NAMES = ("token",)  # of a token that came in, its name is told
_PASSWORD_IN_ADDRESS = re.compile(r"(?<=://)([^:/@\s]+):[^@\s]+(?=@)")
_TOKEN_TEXT = re.compile(r"kindecho_[\w-]{20,}")
_HIDDEN = "…"

Entry = MutableMapping[str, Any]


def hide_secrets(_logger: Any, _method: str, entry: Entry) -> Entry:
    """Take out what is named like a secret or looks like one, wherever in the entry it stands."""
    for key, value in entry.items():
        entry[key] = _HIDDEN if _SECRET_NAMES.search(key) and key not in _ALLOWED_NAMES else _without(value)
    return entry


def _without(value: Any) -> Any:
    if isinstance(value, str):
        return _TOKEN_TEXT.sub(_HIDDEN, _PASSWORD_IN_ADDRESS.sub(rf"\1:{_HIDDEN}", value))
    if isinstance(value, dict):
        return hide_secrets(None, "", dict(value))
    if isinstance(value, list | tuple):
        return [_without(one) for one in value]
    return value


def set_up_logs() -> None:
    """Send this process's logs, those of its libraries with them, to standard error."""
    shared: list[structlog.typing.Processor] = [
        structlog.contextvars.merge_contextvars,
        structlog.stdlib.add_log_level,
        structlog.stdlib.add_logger_name,
        structlog.stdlib.PositionalArgumentsFormatter(),
        structlog.processors.TimeStamper(fmt="iso", utc=True),
        structlog.processors.format_exc_info,
        hide_secrets,
    ]
    structlog.configure(
        processors=[*shared, structlog.stdlib.ProcessorFormatter.wrap_for_formatter],
        logger_factory=structlog.stdlib.LoggerFactory(),
        cache_logger_on_first_use=True,
    )
    handler = logging.StreamHandler(sys.stderr)
    last: list[structlog.typing.Processor] = [
        structlog.stdlib.ProcessorFormatter.remove_processors_meta,
        structlog.processors.JSONRenderer(default=str),
    ]
    handler.setFormatter(structlog.stdlib.ProcessorFormatter(foreign_pre_chain=shared, processors=last))
    root = logging.getLogger()
    root.handlers, root.level = [handler], logging.INFO
    for chatty in ("procrastinate", "alembic", "werkzeug"):
        logging.getLogger(chatty).setLevel(logging.WARNING)
