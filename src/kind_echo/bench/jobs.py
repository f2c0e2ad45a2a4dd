"""The jobs: each takes identifiers, loads, calls the core, stores, and may run twice without harm."""

from collections.abc import Callable
from datetime import UTC, datetime, timedelta

import procrastinate
from sqlalchemy.orm import Session

from kind_echo.bench.analysing import analyse, options_for
from kind_echo.bench.demo import BENCH
from kind_echo.bench.documents import limit_from, reading_from
from kind_echo.bench.hosts import renderers_of
from kind_echo.bench.keeping import keep_render, keepable
from kind_echo.bench.kit_returns import KitFileNotFound, give_up, measure_returned, recognise
from kind_echo.bench.queue import ANALYSIS_PRIORITY, ANALYSIS_QUEUE, enqueue, queue_app
from kind_echo.bench.references import approve, current_reference, hold_references
from kind_echo.bench.rendering import render_takes, renderer_named, request_for
from kind_echo.bench.runs import cells_of, find_cell, tell_change
from kind_echo.bench.uploads import find_pair
from kind_echo.bench.verdicts import judge_cell
from kind_echo.core.compare import CompareOptions
from kind_echo.core.errors import KindEchoError
from kind_echo.renderers import stand_in
from kind_echo.renderers.contract import RenderFailed
from kind_echo.store.blobs import find_content
from kind_echo.store.database import transaction
from kind_echo.store.models import Cell

MOST_ATTEMPTS = 5
"""Times that a cell is tried before it is given up, whether its worker died or its job broke."""

_RETRY = procrastinate.RetryStrategy(max_attempts=MOST_ATTEMPTS, wait=1, linear_wait=2)
app = queue_app()


@app.task(name="render_cell", queue=stand_in.QUEUE, retry=_RETRY, pass_context=True)
def render_cell(context: procrastinate.JobContext, cell_id: int) -> None:
    """Render one cell, check that it is fit, keep it, and enqueue its analysis."""
    try:
        with transaction() as session:
            cell = find_cell(session, cell_id, lock=True)
            if cell.state not in ("waiting", "rendering"):
                return
            cell.state, cell.attempts = "rendering", cell.attempts + 1
            tell_change(session, cell.run_id)
            if cell.attempts > MOST_ATTEMPTS:
                _give_up(cell, f"The worker died {MOST_ATTEMPTS} times while it rendered this cell")
                return
            queue = renderers_of(session, [cell.condition])[cell.condition_id]
            takes = cell.case.takes
        with transaction() as session:
            request = request_for(session, find_cell(session, cell_id))
        rendered = render_takes(renderer_named(queue), request, takes)
        with transaction() as session:
            cell = find_cell(session, cell_id, lock=True)
            if cell.state != "rendering":
                return
            keep_render(session, cell, request.signal, rendered, datetime.now(UTC))
            _to_analysis(session, cell)
    except KindEchoError as error:
        _fail_cell(cell_id, str(error), error.log if isinstance(error, RenderFailed) else "")
    except Exception as error:
        _last_attempt(context, lambda reason: _fail_cell(cell_id, reason), error)
        raise


@app.task(name="analyse_cell", queue=ANALYSIS_QUEUE, retry=_RETRY, pass_context=True)
def analyse_cell(context: procrastinate.JobContext, cell_id: int) -> None:
    """Lay a cell's render over the current reference and judge it."""
    try:
        with transaction() as session:
            hold_references(session, change=False)
            cell = find_cell(session, cell_id, lock=True)
            if cell.render is None or cell.state == "rendering":
                return  # another render is on its way, and its analysis with it
            limits = {key: limit_from(document) for key, document in cell.case.limits.items()}
            readings = [reading_from(d) for d in cell.render.readings]
            verdict = judge_cell(readings, None, limits)
            cell.reference, cell.analysis = None, None
            if not verdict.unfit:
                cell.reference = current_reference(session, cell)
            if cell.reference is not None:
                options = options_for(cell.case.signal.request, cell.condition.rate)
                reference = cell.reference.render.content
                cell.analysis = analyse(session, reference, cell.render.content, options)
                verdict = judge_cell(readings, [reading_from(d) for d in cell.analysis.readings], limits)
            cell.verdict, cell.why, cell.ink = verdict.name, verdict.why, verdict.ink
            cell.unfit, cell.state = verdict.unfit, "done"
            tell_change(session, cell.run_id)
    except Exception as error:
        _last_attempt(context, lambda reason: _fail_cell(cell_id, reason), error)
        raise


@app.task(name="recognise_kit_file", queue=ANALYSIS_QUEUE, retry=_RETRY, pass_context=True)
def recognise_kit_file(context: procrastinate.JobContext, file_id: int) -> None:
    """Find out which render a returned file is."""
    try:
        with transaction() as session:
            recognise(session, file_id)
    except KitFileNotFound:
        return  # a person has discarded it
    except KindEchoError as error:
        _fail_kit_file(file_id, str(error).rstrip("."))
    except Exception as error:
        _last_attempt(context, lambda reason: _fail_kit_file(file_id, reason), error)
        raise


@app.task(name="measure_returned_cell", queue=ANALYSIS_QUEUE, retry=_RETRY, pass_context=True)
def measure_returned_cell(context: procrastinate.JobContext, cell_id: int) -> None:
    """Measure a cell whose renders have come back from a kit, and enqueue its analysis."""
    try:
        with transaction() as session:
            cell = find_cell(session, cell_id, lock=True)
            if cell.state != "rendering":
                return
            measure_returned(session, cell, datetime.now(UTC))
            _to_analysis(session, cell)
    except KindEchoError as error:
        _fail_cell(cell_id, str(error), error.log if isinstance(error, RenderFailed) else "")
    except Exception as error:
        _last_attempt(context, lambda reason: _fail_cell(cell_id, reason), error)
        raise


@app.task(name="analyse_pair", queue=ANALYSIS_QUEUE, retry=_RETRY, pass_context=True)
def analyse_pair(context: procrastinate.JobContext, pair_id: int) -> None:
    """Compare two uploaded files."""
    try:
        with transaction() as session:
            pair = find_pair(session, pair_id)
            reference = find_content(session, pair.reference.content_sha256)
            render = find_content(session, pair.render.content_sha256)
            pair.analysis = analyse(session, reference, render, CompareOptions(**pair.options))
            pair.state = "done"
    except Exception as error:
        _last_attempt(context, lambda reason: _fail_pair(pair_id, reason), error)
        raise


@app.task(name="approve_demo", queue=ANALYSIS_QUEUE, retry=_RETRY)
def approve_demo(run_id: int) -> None:
    """Once the demo's release is all rendered, approve what is fit as references; until then look again each second."""
    with transaction() as session:
        cells = cells_of(session, run_id)
        if any(cell.state not in ("done", "failed") for cell in cells):
            later = datetime.now(UTC) + timedelta(seconds=1)
            enqueue(session, "approve_demo", ANALYSIS_QUEUE, 0, at=later, run_id=run_id)
            return
        fit = [cell.id for cell in cells if cell.verdict == "Waiting" and not cell.unfit]
        if fit:
            why = "The release that customers have"
            approve(session, fit, who=BENCH, why=why, now=datetime.now(UTC))


def _to_analysis(session: Session, cell: Cell) -> None:
    cell.state = "analysing"
    enqueue(session, "analyse_cell", ANALYSIS_QUEUE, ANALYSIS_PRIORITY, cell_id=cell.id)
    tell_change(session, cell.run_id)


def _last_attempt(context: procrastinate.JobContext, give_up: Callable[[str], None], error: Exception) -> None:
    """On the attempt after which the queue gives up, say so where a person sees it."""
    if context.job.attempts + 1 >= MOST_ATTEMPTS:
        give_up(f"It was tried {MOST_ATTEMPTS} times; the last error was: {error}")


def _fail_cell(cell_id: int, reason: str, log: str = "") -> None:
    with transaction() as session:
        cell = find_cell(session, cell_id, lock=True)
        _give_up(cell, reason)
        cell.log = keepable(log)
        tell_change(session, cell.run_id)


def _give_up(cell: Cell, reason: str) -> None:
    cell.state, cell.verdict, cell.why, cell.ink = "failed", "No reading", reason, 0.0


def _fail_kit_file(file_id: int, reason: str) -> None:
    with transaction() as session:
        give_up(session, file_id, reason)


def _fail_pair(pair_id: int, reason: str) -> None:
    with transaction() as session:
        pair = find_pair(session, pair_id)
        pair.state, pair.why = "failed", reason
