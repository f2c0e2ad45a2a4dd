"""Errors as the API sends them: one JSON shape (RFC 9457), with a sentence a person can act on."""

import re

import structlog
from flask import Response, g, json
from flask_openapi3 import OpenAPI
from pydantic import ValidationError
from sqlalchemy.exc import DataError, DBAPIError
from werkzeug.exceptions import HTTPException

from kind_echo.audio_io.archives import UnreadableArchive
from kind_echo.audio_io.files import UnreadableAudio
from kind_echo.bench.accounts.access import NotAllowed, NotSignedIn, TokenUnknown
from kind_echo.bench.accounts.people import CannotSignIn, LastKeeper, PersonExists, PersonNotFound
from kind_echo.bench.accounts.tokens import TokenNotFound
from kind_echo.bench.comparisons.analysing import AnalysisNotFound
from kind_echo.bench.decisions.deciding import CannotDecide, DecidedMeanwhile
from kind_echo.bench.decisions.references import ActNotFound, CannotApprove, CannotUndo, ReferenceNotFound
from kind_echo.bench.kits.packing import NothingByHand
from kind_echo.bench.kits.returns import CannotAssign, KitFileNotFound
from kind_echo.bench.machines.hosts import EffectExists, EffectNotOffered, EffectUnknown, HostExists, HostNotFound
from kind_echo.bench.plans.document import BadPlan
from kind_echo.bench.plans.revisions import BuildNotFound, PlanNotFound
from kind_echo.bench.plans.templates import EffectNotFound, TemplateNotFound
from kind_echo.bench.rendering.remote import JobLost, MachineUnknown
from kind_echo.bench.runs.running import CannotRenderAgain, CellNotFound, RunNotFound
from kind_echo.bench.runs.searching import NothingToSearch, SearchNotFound
from kind_echo.bench.signals.kept import SignalExists
from kind_echo.bench.signals.uploads import PairNotFound, UploadNotFound, UploadRefused
from kind_echo.core.registry.errors import BadParameter, ChannelMismatch, KindEchoError, RateMismatch
from kind_echo.database.blobs import ContentNotFound

_log = structlog.get_logger("kind_echo.web")

_STATUS: dict[type[KindEchoError], int] = {
    NotSignedIn: 401,
    TokenUnknown: 401,
    CannotSignIn: 401,
    NotAllowed: 403,
    PersonNotFound: 404,
    TokenNotFound: 404,
    PersonExists: 409,
    LastKeeper: 409,
    RunNotFound: 404,
    CellNotFound: 404,
    PlanNotFound: 404,
    BuildNotFound: 404,
    ActNotFound: 404,
    ReferenceNotFound: 404,
    PairNotFound: 404,
    UploadNotFound: 404,
    AnalysisNotFound: 404,
    ContentNotFound: 404,
    HostNotFound: 404,
    EffectNotOffered: 404,
    EffectUnknown: 404,
    NothingByHand: 404,
    KitFileNotFound: 404,
    SignalExists: 409,
    HostExists: 409,
    EffectExists: 409,
    CannotAssign: 409,
    JobLost: 409,
    MachineUnknown: 409,
    CannotApprove: 409,
    CannotUndo: 409,
    RateMismatch: 422,
    ChannelMismatch: 422,
    BadParameter: 422,
    BadPlan: 422,
    TemplateNotFound: 404,
    EffectNotFound: 404,
    SearchNotFound: 404,
    NothingToSearch: 409,
    CannotDecide: 409,
    CannotRenderAgain: 409,
    DecidedMeanwhile: 409,
    UnreadableAudio: 422,
    UnreadableArchive: 422,
    UploadRefused: 422,
}
_NOT_KEEPABLE = "A value is greater than any that is kept, or a text holds a zero character. Nothing was changed."
_DATABASE_GONE = "The database does not answer. Nothing was lost; try again in a moment."


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
        return problem(_STATUS.get(type(error), 400), type(error).__name__, str(error))

    @app.errorhandler(DBAPIError)
    def database(error: DBAPIError) -> Response:
        if error.connection_invalidated or type(error).__name__ in ("OperationalError", "InterfaceError"):
            return problem(503, "DatabaseUnavailable", _DATABASE_GONE)
        if isinstance(error, DataError):
            return problem(422, "CannotBeKept", _NOT_KEEPABLE)
        return unexpected(error)

    @app.errorhandler(RecursionError)
    def too_deep(_: RecursionError) -> Response:
        return problem(422, "InvalidRequest", "The request is nested deeper than anything that is taken.")

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
