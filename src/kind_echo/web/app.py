"""The web application: the API under /api, the page for every other address."""

import mimetypes
from collections.abc import Mapping, Set
from pathlib import Path

from flask import Response, json, request, send_from_directory
from flask_compress import Compress
from flask_openapi3 import Info, OpenAPI
from markupsafe import escape

from kind_echo import __version__
from kind_echo.core.registry.measures import MEASURES
from kind_echo.web.audio import routes as audio_api
from kind_echo.web.cells import routes as cells_api
from kind_echo.web.comparisons import routes as comparisons_api
from kind_echo.web.decisions import routes as decisions_api
from kind_echo.web.effects import routes as effects_api
from kind_echo.web.health import routes as health_api
from kind_echo.web.hosts import routes as hosts_api
from kind_echo.web.http import problems, requests
from kind_echo.web.http.answers import answer
from kind_echo.web.http.schemas import MeasureBody, MeasuresBody, ProblemBody
from kind_echo.web.kits import routes as kits_api
from kind_echo.web.listening import routes as listening_api
from kind_echo.web.machines import routes as machines_api
from kind_echo.web.notices import routes as notices_api
from kind_echo.web.overlays import routes as overlays_api
from kind_echo.web.overview import routes as overview_api
from kind_echo.web.people import routes as people_api
from kind_echo.web.plans import routes as plans_api
from kind_echo.web.record import routes as record_api
from kind_echo.web.references import routes as references_api
from kind_echo.web.reports import routes as reports_api
from kind_echo.web.runs import routes as runs_api
from kind_echo.web.schedules import routes as schedules_api
from kind_echo.web.searches import routes as searches_api
from kind_echo.web.security.doors import check_every_request
from kind_echo.web.security.rates import limit_rates
from kind_echo.web.sensitivity import routes as sensitivity_api
from kind_echo.web.sets import routes as sets_api
from kind_echo.web.signals import routes as signals_api
from kind_echo.web.storage import routes as storage_api
from kind_echo.web.tables import routes as tables_api
from kind_echo.web.trends import routes as trends_api
from kind_echo.web.uploads import routes as uploads_api

_APIS = (
    health_api, people_api, trends_api, searches_api, runs_api, cells_api, plans_api, audio_api, decisions_api,
    references_api, uploads_api, comparisons_api, kits_api, signals_api, hosts_api, effects_api, machines_api,
    storage_api, sets_api, listening_api, tables_api, reports_api,
    notices_api, schedules_api, record_api, sensitivity_api, overview_api, overlays_api,
)  # fmt: skip
_STATIC = Path(__file__).parent / "static"
_FOREVER = 31_536_000
_TEXT = ["application/json", "application/problem+json", "text/html"]
"""What is sent compressed; samples are noise to a compressor."""


_SMALLER: Mapping[str, str] = {"br": ".br", "gzip": ".gz"}
"""How files of the page are kept beside themselves, by encoding: what the build has made of them."""


def create_app() -> OpenAPI:
    """The WSGI application; the database is named by KIND_ECHO_DATABASE_URL."""
    app = OpenAPI(
        "kind_echo",
        static_folder=None,
        info=Info(title="Kind Echo", version=__version__),
        responses={"4XX": ProblemBody, "5XX": ProblemBody},
        validation_error_model=ProblemBody,
        validation_error_callback=problems.invalid_request,
        doc_ui=False,
        security_schemes={},
    )
    app.config.update(COMPRESS_MIMETYPES=_TEXT, COMPRESS_MIN_SIZE=2000, COMPRESS_STREAMS=False)
    Compress(app)
    problems.register(app)
    requests.register(app)
    check_every_request(app)
    for module in _APIS:
        app.register_api(module.api)

    @app.get("/api/measures", responses={200: MeasuresBody})
    def measures() -> Response:
        """The registry of measures."""
        return answer(MeasuresBody(measures=[MeasureBody.model_validate(m) for m in MEASURES.values()]))

    @app.get("/api/openapi.json")
    def document() -> Response:
        """This document: the API as OpenAPI describes it."""
        return Response(json.dumps(app.api_doc), content_type="application/json")

    # What is served is listed once: what an address says is never looked for on the disk.
    there = {str(file.relative_to(_STATIC)) for file in _STATIC.rglob("*") if file.is_file()}
    files = {name for name in there if not name.endswith(tuple(_SMALLER.values()))} - {"index.html"}

    @app.route("/", defaults={"path": ""})
    @app.route("/<path:path>")
    def page(path: str) -> Response:
        if path.startswith("api/"):
            return problems.problem(404, "NotFound", f"There is nothing at /{path}.")
        if path in files:
            return _file(path, there)
        if path.startswith("assets/"):
            return problems.problem(404, "NotFound", f"There is nothing at /{path}; the page may have been renewed.")
        made = Response(_page_under(request.script_root), content_type="text/html; charset=utf-8")
        made.headers["Cache-Control"] = "no-cache"
        return made

    limit_rates(app)
    return app


def _file(path: str, there: Set[str]) -> Response:
    """A file of the page, as it was made smaller in advance where that is understood."""
    smaller = [kind for kind, ending in _SMALLER.items() if path + ending in there]
    kind = request.accept_encodings.best_match(smaller)
    mimetype = mimetypes.guess_type(path)[0]
    max_age = _FOREVER if path.startswith("assets/") else 0
    made = send_from_directory(_STATIC, path + (_SMALLER[kind] if kind else ""), mimetype=mimetype, max_age=max_age)
    if kind:
        made.headers["Content-Encoding"] = kind
    if smaller:
        made.vary.add("Accept-Encoding")
    return made


def _page_under(root: str) -> str:
    """The page, with its files and the API where a proxy has put them. It was built with addresses that begin by ./"""
    page = (_STATIC / "index.html").read_text()
    return page.replace('="./', f'="{escape(root)}/').replace('content="/"', f'content="{escape(root)}/"')
