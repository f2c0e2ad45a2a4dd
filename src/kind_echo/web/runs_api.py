"""Plans, runs, sheets, cells, and their changes as they happen."""

from collections.abc import Iterator, Sequence
from datetime import UTC, datetime

import psycopg
from flask import Response, stream_with_context
from flask_openapi3 import APIBlueprint
from sqlalchemy.orm import Session

from kind_echo.bench.hosts import BY_HAND, renderers_of
from kind_echo.bench.plans import all_plans, builds_of, latest_revision
from kind_echo.bench.reasons import gather
from kind_echo.bench.runs import (
    CHANNEL,
    RunSummary,
    all_runs,
    cases_of,
    cells_of,
    conditions_of,
    find_cell,
    find_run,
    start_run,
)
from kind_echo.bench.verdicts import INK_AT_LIMIT
from kind_echo.store.database import database_url, transaction
from kind_echo.store.models import Cell, Condition, Plan, Run
from kind_echo.web.answers import answer, cell_body, cell_pair_body, run_body, summarise
from kind_echo.web.bodies import (
    BuildBody,
    CaseBody,
    CellPath,
    ConditionBody,
    NewRunBody,
    PairBody,
    PlanBody,
    PlansBody,
    ReasonBody,
    RunBody,
    RunPath,
    RunsBody,
    SheetBody,
    SiblingBody,
)

api = APIBlueprint("runs", __name__, url_prefix="/api")

_HEARTBEAT_SECONDS = 10.0


@api.get("/plans", responses={200: PlansBody})
def plans() -> Response:
    """All plans, with the builds that they can be run on."""
    with transaction() as session:
        return answer(PlansBody(plans=[_plan_body(session, plan) for plan in all_plans(session)]))


@api.get("/runs", responses={200: RunsBody})
def runs() -> Response:
    """All runs, newest first."""
    with transaction() as session:
        return answer(RunsBody(runs=[run_body(summary) for summary in all_runs(session)]))


@api.post("/runs", responses={201: RunBody})
def new_run(body: NewRunBody) -> Response:
    """Start a run of a plan on a build."""
    with transaction() as session:
        run = start_run(session, body.plan_id, body.build_id, who=body.who, now=datetime.now(UTC))
        cells = len(cases_of(run)) * len(run.revision.condition_ids)
        return answer(run_body(RunSummary(run, {"Waiting": cells}, 0)), 201)


@api.get("/runs/<int:run_id>", responses={200: SheetBody})
def sheet(path: RunPath) -> Response:
    """A run as a sheet."""
    with transaction() as session:
        run = find_run(session, path.run_id)
        cells, cases, conditions = cells_of(session, run.id), cases_of(run), conditions_of(session, run)
        summary, seconds_left = summarise(run, cells)
        body = SheetBody(
            run=run_body(summary, seconds_left),
            siblings=_siblings(session, run),
            cases=[CaseBody(id=c.id, signal=c.signal.name, setting=c.setting.name) for c in cases],
            conditions=[ConditionBody.model_validate(c) for c in conditions],
            cells=[cell_body(c) for c in cells],
            reasons=[ReasonBody.model_validate(r) for r in gather(cells, cases, conditions)],
            ink_at_limit=INK_AT_LIMIT,
            by_hand=_by_hand(session, cells, conditions),
        )
        return answer(body)


@api.get("/runs/<int:run_id>/events")
def events(path: RunPath) -> Response:
    """Server-sent events: one named `change` whenever cells of the run changed."""
    with transaction() as session:
        find_run(session, path.run_id)
    headers = {"Cache-Control": "no-store", "X-Accel-Buffering": "no"}
    return Response(stream_with_context(_changes(path.run_id)), content_type="text/event-stream", headers=headers)


@api.get("/cells/<int:cell_id>", responses={200: PairBody})
def cell(path: CellPath) -> Response:
    """A cell as a pair: its render beside the reference."""
    with transaction() as session:
        return answer(cell_pair_body(session, find_cell(session, path.cell_id)))


def _changes(run_id: int) -> Iterator[str]:
    """Ends when the database goes away; the browser then asks again, and polls until it is back."""
    yield "retry: 2000\n\n"
    try:
        with psycopg.connect(database_url(), autocommit=True, connect_timeout=5) as connection:
            connection.execute(f"LISTEN {CHANNEL}")
            while True:
                heard = {note.payload for note in connection.notifies(timeout=_HEARTBEAT_SECONDS, stop_after=1)}
                if str(run_id) in heard:
                    yield "event: change\ndata: {}\n\n"
                elif not heard:
                    yield ": still here\n\n"
    except psycopg.OperationalError:
        return


def _plan_body(session: Session, plan: Plan) -> PlanBody:
    revision = latest_revision(session, plan.id)
    return PlanBody(
        id=plan.id,
        name=plan.name,
        effect=plan.effect.name,
        revision=revision.number,
        cells=len(revision.cases) * len(revision.condition_ids),
        builds=[BuildBody.model_validate(build) for build in builds_of(session, plan.effect_id)],
    )


def _by_hand(session: Session, cells: Sequence[Cell], conditions: Sequence[Condition]) -> int:
    """How many cells people render, with a kit."""
    renderers = renderers_of(session, conditions)
    return sum(renderers[cell.condition_id] == BY_HAND for cell in cells)


def _siblings(session: Session, run: Run) -> list[SiblingBody]:
    """The newest run of each build of the same plan, in order of builds; this run for its own."""
    newest: dict[int, Run] = {}
    for summary in all_runs(session):
        if summary.run.revision.plan_id == run.revision.plan_id:
            newest.setdefault(summary.run.build_id, summary.run)
    newest[run.build_id] = run
    ordered = sorted(newest.values(), key=lambda r: r.build.position)
    return [SiblingBody(run_id=r.id, version=r.build.version) for r in ordered]
