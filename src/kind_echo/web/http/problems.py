"""Errors as the API sends them: one JSON shape (RFC 9457), with a sentence a person can act on."""

import re

import structlog
from flask import Response, g, json
from flask_openapi3 import OpenAPI
from flask_wtf.csrf import CSRFError
from pydantic import ValidationError
from sqlalchemy.exc import DataError, DBAPIError
from werkzeug.exceptions import HTTPException

from kind_echo.audio_io.temporary import NoTemporarySpace, is_out_of_space
from kind_echo.bench.storage import QuotaReached, StorageFull
from kind_echo.core.registry.errors import (
    Conflict,
    Forbidden,
    Invalid,
    KindEchoError,
    NotFound,
    Unauthenticated,
    Unavailable,
)
from kind_echo.database.blobs import AudioDropped
from kind_echo.database.sessions import is_disk_full

_log = structlog.get_logger("kind_echo.web")

_NOT_KEEPABLE = "A value is greater than any that is kept, or a text holds a zero character. Nothing was changed."
_DISK_FULL = "The database's disk is full. Nothing was changed; it goes on as soon as there is space."
_DATABASE_GONE = "The database does not answer. Nothing was lost; try again in a moment."


_STATUS: dict[type[KindEchoError], int] = {
    KindEchoError: 400,
    Unauthenticated: 401,
    Forbidden: 403,
    NotFound: 404,
    Conflict: 409,
    AudioDropped: 410,
    QuotaReached: 413,
    Invalid: 422,
    Unavailable: 503,
    NoTemporarySpace: 507,
    StorageFull: 507,
}
"""What is answered for each kind of error, as HTTP numbers it; others have that of the nearest kind they are of."""


def status_of(error: KindEchoError) -> int:
    """The HTTP status of an error."""
    return next(_STATUS[kind] for kind in type(error).__mro__ if kind in _STATUS)


def problem(status: int, title: str, detail: str) -> Response:
    """A response that says what is wrong."""
    slug = re.sub(r"(?<=[a-z])(?=[A-Z])|[^A-Za-z0-9]+", "-", title).lower()
    body = {"type": f"urn:kind-echo:problem:{slug}", "title": title, "status": status, "detail": detail}
    return Response(json.dumps(body), status, content_type="application/problem+json")


def invalid_request(error: ValidationError) -> Response:
    """What is wrong with a request that does not fit its model."""
    first = error.errors()[0]
    where = ".".join(str(part) for part in first["loc"]) or "the request"
    said = first["msg"].removeprefix("Value error, ")
    return problem(422, "InvalidRequest", f"{where}: {said}.")


def register(app: OpenAPI) -> None:
    """Turn every error of the app into a problem."""

    @app.errorhandler(KindEchoError)
    def refuse(error: KindEchoError) -> Response:
        response = problem(status_of(error), type(error).__name__, str(error))
        if isinstance(error, Unavailable) and error.retry_after is not None:
            response.headers["Retry-After"] = str(error.retry_after)
        return response

    @app.errorhandler(DBAPIError)
    def database(error: DBAPIError) -> Response:
        if is_disk_full(error):
            return problem(507, "DiskFull", _DISK_FULL)
        if error.connection_invalidated or type(error).__name__ in ("OperationalError", "InterfaceError"):
            return problem(503, "DatabaseUnavailable", _DATABASE_GONE)
        if isinstance(error, DataError):
            return problem(422, "CannotBeKept", _NOT_KEEPABLE)
        return unexpected(error)

    @app.errorhandler(OSError)
    def system(error: OSError) -> Response:
        return refuse(NoTemporarySpace()) if is_out_of_space(error) else unexpected(error)

    @app.errorhandler(RecursionError)
    def too_deep(_: RecursionError) -> Response:
        return problem(422, "InvalidRequest", "The request is nested deeper than anything that is taken.")

    @app.errorhandler(CSRFError)
    def forged(_: CSRFError) -> Response:
        said = "The page was loaded in another session than this one: load it again. Nothing was changed."
        return problem(400, "OtherSession", said)

    @app.errorhandler(HTTPException)
    def http(error: HTTPException) -> Response:
        return problem(error.code or 500, error.name, error.description or error.name)

    @app.errorhandler(Exception)
    def unexpected(error: Exception) -> Response:
        _log.error("request failed", exc_info=error)
        said = (
            f"The server failed on this request; its log says why, at {g.get('request_id', '')}. Nothing was changed."
        )
        return problem(500, "InternalError", said)
