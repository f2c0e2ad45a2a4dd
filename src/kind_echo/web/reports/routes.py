"""Reports as one HTML file, which pages show, and as PDF."""

import zipfile
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from threading import BoundedSemaphore

from flask import Response, request
from flask_openapi3 import APIBlueprint
from pydantic import Field
from sqlalchemy.orm import Session

from kind_echo.audio_io.temporary import temporary_folder
from kind_echo.bench.listening import find_test
from kind_echo.bench.reports import (
    Form,
    Paper,
    Report,
    cell_report,
    file_name,
    html_text,
    listening_report,
    pair_report,
    release_report,
    run_report,
    set_report,
    write_plots,
    write_report,
)
from kind_echo.bench.runs import find_cell, find_run
from kind_echo.bench.sets import find_set
from kind_echo.bench.signals import find_pair
from kind_echo.database.sessions import snapshot
from kind_echo.web.http.addresses import RunPath
from kind_echo.web.http.files import sent_and_gone
from kind_echo.web.http.schemas import Body, RequestModel

api = APIBlueprint("reports", __name__, url_prefix="/api/reports")

_MAKING = BoundedSemaphore(2)  # a report of a large run takes a core for a while: others are to have their turn
_POLICY = "; ".join(
    (
        "default-src 'none'", "style-src 'unsafe-inline'", "img-src data:", "font-src data:", "frame-ancestors 'none'",
        "sandbox allow-same-origin allow-modals",
    )
)  # fmt: skip
"""A report holds what people typed: it may do nothing but be shown and printed."""


class ReportPath(RequestModel):
    """What a report is of, by its number, and the form that it is to have."""

    number: int
    form: Form


class ReportQuery(Body):
    """The paper of a PDF."""

    paper: Paper = "a4"


class RunReportQuery(ReportQuery):
    """Of which cells the report of a run is, by their numbers with commas between; whether all readings are in it."""

    cells: str = Field("", max_length=20_000, pattern=r"^(\d{1,9}(,\d{1,9})*)?$")
    appendix: bool = True


@api.get("/runs/<int:number>.<string:form>")
def of_run(path: ReportPath, query: RunReportQuery) -> Response:
    """The report of a run, or of some of its cells."""
    only = {int(number) for number in query.cells.split(",") if number}

    def make(session: Session) -> Report:
        run, address = find_run(session, path.number), _page(f"runs/{path.number}")
        return run_report(session, run, datetime.now(UTC), address=address, only=only, appendix=query.appendix)

    return _sent(make, path.form, query.paper)


@api.get("/runs/<int:run_id>/plots.zip")
def plots(path: RunPath) -> Response:
    """The cells of a run that did not pass, drawn as SVG files in a ZIP."""
    with _MAKING, temporary_folder() as folder, snapshot() as session:
        target = Path(folder) / f"plots-run-{path.run_id}.zip"
        made = write_plots(session, find_run(session, path.run_id), Path(folder) / "plots")
        with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:
            for file in made:
                archive.write(file, file.name)
        return sent_and_gone(target, "application/zip", target.name)


@api.get("/cells/<int:number>.<string:form>")
def of_cell(path: ReportPath, query: ReportQuery) -> Response:
    """The report of a cell beside its reference."""

    def make(session: Session) -> Report:
        cell = find_cell(session, path.number)
        return cell_report(session, cell, datetime.now(UTC), address=_page(f"cells/{path.number}"))

    return _sent(make, path.form, query.paper)


@api.get("/pairs/<int:number>.<string:form>")
def of_pair(path: ReportPath, query: ReportQuery) -> Response:
    """The report of two of a person's own files."""

    def make(session: Session) -> Report:
        pair = find_pair(session, path.number)
        return pair_report(session, pair, {}, datetime.now(UTC), address=_page(f"comparisons/{path.number}"))

    return _sent(make, path.form, query.paper)


@api.get("/sets/<int:number>.<string:form>")
def of_set(path: ReportPath, query: ReportQuery) -> Response:
    """The report of a set of a person's own files."""

    def make(session: Session) -> Report:
        found = find_set(session, path.number)
        return set_report(session, found, datetime.now(UTC), address=_page(f"files/{path.number}"))

    return _sent(make, path.form, query.paper)


@api.get("/tests/<int:number>.<string:form>")
def of_test(path: ReportPath, query: ReportQuery) -> Response:
    """The report of a listening test."""

    def make(session: Session) -> Report:
        test = find_test(session, path.number)
        return listening_report(session, test, datetime.now(UTC), address=_page(f"listen/tests/{path.number}"))

    return _sent(make, path.form, query.paper)


@api.get("/builds/<int:number>.<string:form>")
def of_build(path: ReportPath, query: ReportQuery) -> Response:
    """The report of a build: how every plan of its effect stands on it."""

    def make(session: Session) -> Report:
        return release_report(session, path.number, datetime.now(UTC), address=_page("effects"))

    return _sent(make, path.form, query.paper)


def _page(path: str) -> str:
    return f"{request.url_root}{path}"


def _sent(make: Callable[[Session], Report], form: Form, paper: Paper) -> Response:
    """A report: HTML to be shown, PDF for download."""
    with _MAKING:
        with snapshot() as session:
            report = make(session)
        if form == "html":
            response = Response(html_text(report, paper), content_type="text/html; charset=utf-8")
            response.headers["Content-Security-Policy"] = _POLICY
            response.headers.set("Content-Disposition", "inline", filename=file_name(report, form))
            return response
        with temporary_folder() as folder:
            target = Path(folder) / file_name(report, form)
            write_report(report, target, paper)
            return sent_and_gone(target, "application/pdf", target.name)
