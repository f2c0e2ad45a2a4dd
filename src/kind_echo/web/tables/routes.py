"""Tables to take away, as CSV and as JSON."""

from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from threading import BoundedSemaphore
from typing import Literal

from flask import Response
from flask_openapi3 import APIBlueprint
from pydantic import Field
from sqlalchemy.orm import Session

from kind_echo.audio_io.temporary import temporary_folder
from kind_echo.bench.plans import plan_numbered
from kind_echo.bench.runs import find_run
from kind_echo.bench.tables import (
    Table,
    cells_table,
    decisions_table,
    readings_table,
    record_table,
    references_table,
    runs_table,
    trend_table,
)
from kind_echo.core.registry.measures import find_measure
from kind_echo.database.sessions import snapshot
from kind_echo.web.http.files import sent_and_gone
from kind_echo.web.http.schemas import Body, RequestModel
from kind_echo.web.record.routes import AskedQuery

api = APIBlueprint("tables", __name__, url_prefix="/api/tables")

Form = Literal["csv", "json"]
_WRITING = BoundedSemaphore(2)  # every reading of a large run takes a core for a while: others are to have their turn
_TYPES: dict[Form, str] = {"csv": "text/csv", "json": "application/json"}


class OfRunPath(RequestModel):
    """A run, and the form that its table is to have."""

    run_id: int
    form: Form


class OfPlanPath(RequestModel):
    """A plan, a measure, and the form that the table is to have."""

    plan_id: int
    measure: str
    form: Form


class FormPath(RequestModel):
    """The form that a table is to have."""

    form: Form


class ListedRunsQuery(Body):
    """Which runs: of one effect, with words in their plan, build or who asked; archived ones, or the others."""

    effect: str | None = None
    text: str = Field("", max_length=200)
    archived: bool = False


@api.get("/runs.<string:form>")
def runs(path: FormPath, query: ListedRunsQuery) -> Response:
    """All runs that the list shows, with their counts."""

    def make(session: Session) -> Table:
        return runs_table(session, query.effect, query.text, archived=query.archived)

    return _sent(make, "runs", path.form)


@api.get("/decisions.<string:form>")
def decisions(path: FormPath) -> Response:
    """Every decision of a cell, those taken back among them."""
    return _sent(decisions_table, "decisions", path.form)


@api.get("/record.<string:form>")
def record(path: FormPath, query: AskedQuery) -> Response:
    """The record: who did what."""
    asked = query.asked()
    return _sent(lambda session: record_table(session, asked), "record", path.form)


@api.get("/references.<string:form>")
def references(path: FormPath) -> Response:
    """All approved references."""
    return _sent(references_table, "references", path.form)


@api.get("/runs/<int:run_id>/cells.<string:form>")
def cells(path: OfRunPath) -> Response:
    """The sheet of a run: a row a cell, with every measure."""

    def make(session: Session) -> Table:
        return cells_table(session, find_run(session, path.run_id), datetime.now(UTC).date())

    return _sent(make, f"run-{path.run_id}-cells", path.form)


@api.get("/runs/<int:run_id>/readings.<string:form>")
def readings(path: OfRunPath) -> Response:
    """Every reading of every cell of a run."""

    def make(session: Session) -> Table:
        return readings_table(session, find_run(session, path.run_id))

    return _sent(make, f"run-{path.run_id}-readings", path.form)


@api.get("/plans/<int:plan_id>/<string:measure>.<string:form>")
def trend(path: OfPlanPath) -> Response:
    """A measure over the builds of a plan."""
    find_measure(path.measure)

    def make(session: Session) -> Table:
        return trend_table(session, plan_numbered(session, path.plan_id), path.measure)

    return _sent(make, f"plan-{path.plan_id}-{path.measure}", path.form)


def _sent(make: Callable[[Session], Table], name: str, form: Form) -> Response:
    """A table for download. It is whole before any of it is sent: what goes wrong is told, and who reads slowly holds
    no connection to the database.
    """
    with _WRITING, temporary_folder() as folder, snapshot() as session:
        table, target = make(session), Path(folder) / f"{name}.{form}"
        with target.open("w", encoding="utf-8", newline="") as file:
            file.writelines(table.csv() if form == "csv" else table.json())
        return sent_and_gone(target, _TYPES[form], target.name)
