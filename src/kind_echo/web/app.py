"""The web application: the API under /api, the page for every other address."""

from pathlib import Path

from flask import Response, send_from_directory
from flask_openapi3 import Info, OpenAPI
from sqlalchemy import text

from kind_echo import __version__
from kind_echo.core.measures import MEASURES
from kind_echo.store.database import transaction
from kind_echo.web import (
    audio_api,
    hosts_api,
    kits_api,
    plans_api,
    problems,
    references_api,
    runs_api,
    signals_api,
    time_api,
    uploads_api,
)
from kind_echo.web.answers import answer
from kind_echo.web.bodies import HealthBody, MeasureBody, MeasuresBody, ProblemBody

_APIS = (
    runs_api, plans_api, time_api, audio_api, references_api, uploads_api, kits_api, signals_api, hosts_api,
)  # fmt: skip
_STATIC = Path(__file__).parent / "static"
_POLICY = (
    "default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; font-src 'self'; "
    "connect-src 'self'; object-src 'none'; base-uri 'none'; frame-ancestors 'none'"
)


def create_app() -> OpenAPI:
    """The WSGI application; the database is named by KIND_ECHO_DATABASE_URL."""
    app = OpenAPI(
        "kind_echo",
        static_folder=None,
        info=Info(title="Kind Echo", version=__version__),
        responses={"4XX": ProblemBody, "5XX": ProblemBody},
        validation_error_model=ProblemBody,
        validation_error_callback=problems.invalid_request,
        doc_prefix="/api",
        doc_ui=True,
        security_schemes={},
    )
    problems.register(app)
    for module in (
        time_api,
        runs_api,
        plans_api,
        audio_api,
        references_api,
        uploads_api,
        kits_api,
        signals_api,
        hosts_api,
    ):
        app.register_api(module.api)

    @app.get("/api/health", responses={200: HealthBody})
    def health() -> Response:
        """Whether the service and its database answer."""
        with transaction() as session:
            session.execute(text("SELECT 1"))
        return answer(HealthBody(status="ok", version=__version__))

    @app.get("/api/measures", responses={200: MeasuresBody})
    def measures() -> Response:
        """The registry of measures."""
        return answer(MeasuresBody(measures=[MeasureBody.model_validate(m) for m in MEASURES.values()]))

    @app.route("/", defaults={"path": ""})
    @app.route("/<path:path>")
    def page(path: str) -> Response:
        if path.startswith("api/"):
            return problems.problem(404, "NotFound", f"There is nothing at /{path}.")
        if path and (_STATIC / path).is_file():
            return send_from_directory(_STATIC, path, max_age=31_536_000 if path.startswith("assets/") else 0)
        return send_from_directory(_STATIC, "index.html", max_age=0)

    @app.after_request
    def harden(response: Response) -> Response:
        response.headers.setdefault("Content-Security-Policy", _POLICY)
        response.headers.setdefault("X-Content-Type-Options", "nosniff")
        response.headers.setdefault("Referrer-Policy", "no-referrer")
        return response

    return app
