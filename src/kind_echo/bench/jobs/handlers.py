"""The jobs: each takes identifiers, loads, calls the core, stores, and may run twice without harm."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime, timedelta

import procrastinate
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from kind_echo.bench import notices, storage
from kind_echo.bench.accounts import page_address
from kind_echo.bench.comparisons import analyse, options_for
from kind_echo.bench.decisions import judge_now
from kind_echo.bench.demo import decide_demo_run
from kind_echo.bench.jobs.tasks import TooMuchMemory, app, refuse_if_never_ended, task
from kind_echo.bench.kits import KitFileNotFound, give_up, measure_returned, recognise, why_not
from kind_echo.bench.machines import BY_HAND
from kind_echo.bench.queue import CLOCK_QUEUE, MOST_ATTEMPTS, NOTICE_QUEUE, jobs
from kind_echo.bench.rendering import (
    advance_search_of,
    begin_render,
    can_render_here,
    fail_cell,
    fail_waiting,
    forget_attempt,
    keep_render,
    measure_delivery,
    prepare,
    reassign_cell,
    render_key,
    renderer_named,
    request_for,
    to_analysis,
)
from kind_echo.bench.runs import advance, find_cell, find_run, find_search, tell_change, waiting_cells
from kind_echo.bench.schedules import run_due
from kind_echo.bench.sensitivity import find_noticed, give_up_planting
from kind_echo.bench.sets import Superseded, approve_given, is_wanted, keep_found, keep_given, measure_file
from kind_echo.bench.signals import PairNotFound, find_pair
from kind_echo.bench.verdicts import give_up_cell
from kind_echo.core.comparison.pair import CompareOptions
from kind_echo.core.registry.errors import KindEchoError
from kind_echo.database.blobs import find_content
from kind_echo.database.locks import hold_references
from kind_echo.database.models import SetFile
from kind_echo.database.sessions import brief_message, is_disk_full, is_temporary, transaction
from kind_echo.renderers import stand_in
from kind_echo.renderers.contract import RenderFailed
from kind_echo.renderers.takes import render_takes

__all__ = ["app"]  # the queue with all of its tasks


@task("prepare_run", stand_in.QUEUE, pass_context=True)
def prepare_run(context: procrastinate.JobContext, run_id: int) -> None:
    """Take over what earlier runs rendered of exactly the same, and enqueue the rest; of this job's renderer alone."""
    queue = context.job.queue
    try:
        with transaction() as session:
            prepare(session, run_id, queue, renderer_named(queue), datetime.now(UTC))
    except Exception as error:
        _last_attempt(context, lambda reason: fail_waiting(run_id, queue, reason), error)
        raise


@task("render_cell", stand_in.QUEUE, pass_context=True)
def render_cell(context: procrastinate.JobContext, cell_id: int) -> None:
    """Render one cell, check that it is fit, keep it, and enqueue its analysis."""
    with _cell_or_fails(context, cell_id):
        refuse_if_never_ended(context)
        begun = begin_render(cell_id)
        if begun is None:
            return
        with transaction() as session:
            cell = find_cell(session, cell_id, lock=True)
            if not can_render_here(cell, begun.queue):
                reassign_cell(session, cell, datetime.now(UTC))
                return
        renderer = renderer_named(begun.queue)
        with transaction() as session:
            cell = find_cell(session, cell_id)
            request = request_for(session, cell)
            # Taken before the render: what is replaced under it must not be taken for the new one.
            key = render_key(renderer, cell)
        rendered = render_takes(renderer, request, begun.takes)
        with transaction() as session:
            cell = find_cell(session, cell_id, lock=True)
            if cell.state != "rendering":
                return
            render = keep_render(session, cell, request.signal, rendered, datetime.now(UTC))
            render.key = key
            to_analysis(session, cell)


@task("measure_delivered", pass_context=True)
def measure_delivered(context: procrastinate.JobContext, cell_id: int) -> None:
    """Measure what a machine that reaches the server alone has rendered, and enqueue its analysis."""
    with _cell_or_fails(context, cell_id), transaction() as session:
        refuse_if_never_ended(context)
        measure_delivery(session, cell_id, datetime.now(UTC))


@task("analyse_cell", pass_context=True)
def analyse_cell(context: procrastinate.JobContext, cell_id: int) -> None:
    """Lay a cell's render over the current reference and judge it."""
    try:
        refuse_if_never_ended(context)
        with transaction() as session:
            hold_references(session, change=False)
            cell = find_cell(session, cell_id, lock=True)
            if cell.render is None or cell.state == "rendering":
                return  # another render is on its way, and its analysis with it
            judge_now(session, cell)
            advance_search_of(session, cell, datetime.now(UTC))
            tell_change(session, cell.run_id)
    except Exception as error:
        _say_that_it_waits(error, lambda session: _cell_waits(session, cell_id))
        _last_attempt(context, lambda reason: fail_cell(cell_id, reason, datetime.now(UTC)), error)
        raise


@task("compare_cells", pass_context=True)
def compare_cells(context: procrastinate.JobContext, cell_id: int, other_id: int) -> None:
    """Compare a cell with another of the same signal; found once, however often it is asked for."""
    refuse_if_never_ended(context)
    with transaction() as session:
        cell, other = find_cell(session, cell_id), find_cell(session, other_id)
        if cell.render is not None and other.render is not None:
            options = options_for(cell.case.signal.stimulus, cell.condition.rate)
            analyse(session, other.render.content, cell.render.content, options, cell.case.signal.request)
        tell_change(session, cell.run_id)


@task("check_kit")
def check_kit(run_id: int) -> None:
    """Fail the cells that are rendered by hand and whose signal cannot be made under their condition."""
    with transaction() as session:
        for cell in waiting_cells(session, find_run(session, run_id), BY_HAND):
            reason = why_not(session, cell)
            if reason is not None:
                give_up_cell(cell, reason)
        tell_change(session, run_id)


@task("recognise_kit_file", pass_context=True)
def recognise_kit_file(context: procrastinate.JobContext, file_id: int) -> None:
    """Find out which render a returned file is."""
    try:
        refuse_if_never_ended(context)
        with transaction() as session:
            recognise(session, file_id)
    except KitFileNotFound:
        return  # a person has discarded it
    except KindEchoError as error:
        _fail_kit_file(file_id, str(error).rstrip("."))
    except Exception as error:
        _last_attempt(context, lambda reason: _fail_kit_file(file_id, reason), error)
        raise


@task("measure_returned_cell", pass_context=True)
def measure_returned_cell(context: procrastinate.JobContext, cell_id: int) -> None:
    """Measure a cell whose renders have come back from a kit, and enqueue its analysis."""
    with _cell_or_fails(context, cell_id), transaction() as session:
        refuse_if_never_ended(context)
        cell = find_cell(session, cell_id, lock=True)
        if cell.state == "rendering":
            measure_returned(session, cell, datetime.now(UTC))
            to_analysis(session, cell)


@task("reference_from_file", pass_context=True)
def reference_from_file(context: procrastinate.JobContext, cell_id: int, upload_id: int) -> None:
    """Measure a file of a set that is the render of a cell; after the last of them, all become references."""
    with _cell_or_fails(context, cell_id), transaction() as session:
        refuse_if_never_ended(context)
        keep_given(session, cell_id, upload_id, datetime.now(UTC))
    with transaction() as session:
        approve_given(session, cell_id, datetime.now(UTC))


@task("analyse_pair", pass_context=True)
def analyse_pair(context: procrastinate.JobContext, pair_id: int) -> None:
    """Compare two uploaded files."""
    try:
        refuse_if_never_ended(context)
        with transaction() as session:
            pair = find_pair(session, pair_id)
            reference = find_content(session, pair.reference.content_sha256)
            render = find_content(session, pair.render.content_sha256)
            pair.analysis = analyse(session, reference, render, CompareOptions(**pair.options))
            pair.state, pair.why = "done", ""
    except PairNotFound:
        return  # somebody has deleted it
    except Exception as error:
        _say_that_it_waits(error, lambda session: _pair_waits(session, pair_id))
        _last_attempt(context, lambda reason: _fail_pair(pair_id, reason), error)
        raise


@task("measure_set_file", pass_context=True)
def measure_set_file(context: procrastinate.JobContext, file_id: int, revision: int) -> None:
    """Measure a file of a set; nothing where it has gone, was measured, or is to be measured in another way by now."""
    try:
        refuse_if_never_ended(context)
        with transaction() as session:
            file = session.get(SetFile, file_id)
            if file is not None and is_wanted(session, file, revision):
                keep_found(session, file_id, revision, measure_file(session, file))
    except Superseded:
        return
    except Exception as error:
        if isinstance(error, KindEchoError) and not is_temporary(error):
            _fail_set_file(file_id, revision, str(error).rstrip("."))
            return
        _say_that_it_waits(error, lambda session: _set_file_waits(session, file_id, revision))
        _last_attempt(context, lambda reason: _fail_set_file(file_id, revision, reason), error)
        raise


@task("advance_search")
def advance_search(search_id: int) -> None:
    """Go on with a search whose last cell could not be rendered at all."""
    with transaction() as session:
        advance(session, find_search(session, search_id), datetime.now(UTC))


@task("plant_faults", pass_context=True)
def plant_faults(context: procrastinate.JobContext, sensitivity_id: int) -> None:
    """Plant faults into an approved render, and keep which are noticed."""
    try:
        refuse_if_never_ended(context)
        find_noticed(sensitivity_id)
    except Exception as error:
        if isinstance(error, KindEchoError) and not is_temporary(error):
            give_up_planting(sensitivity_id, str(error).rstrip("."))
            return
        _last_attempt(context, lambda reason: give_up_planting(sensitivity_id, reason), error)
        raise


@task("settle_demo")
def settle_demo(run_id: int) -> None:
    """Once a run of the demo is all judged, decide as its people would; until then look again each second."""
    with transaction() as session:
        run = find_run(session, run_id)
        if not decide_demo_run(session, run, datetime.now(UTC)):
            later = datetime.now(UTC) + timedelta(seconds=1)
            jobs.settle_demo(session, run_id, at=later)


@task("drop_unused")
def drop_unused() -> None:
    """Drop the audio of files that nothing refers to any more."""
    storage.drop_unused(datetime.now(UTC))


@task("drop_audio")
def drop_audio() -> None:
    """Drop what the rule for storage says, and objects that nothing names."""
    storage.drop_audio(datetime.now(UTC))
    storage.drop_unused(datetime.now(UTC))
    storage.sweep_objects(datetime.now(UTC))


@task("deliver_notice", NOTICE_QUEUE)
def deliver_notice(notice_id: int) -> None:
    """Try to send a notice."""
    notices.send(notice_id, datetime.now(UTC))


@app.periodic(cron="* * * * *", queueing_lock="keep_time")
@task("keep_time", CLOCK_QUEUE)
def keep_time(timestamp: int) -> None:
    """Each minute: start the runs that are due, and tell of those that have ended and of waivers that end soon."""
    now, address = datetime.now(UTC), page_address()
    with transaction() as session:
        run_due(session, now)
        notices.tell_of_waivers(session, address, now)
        notices.forget_old(session, now)
        # Each by a job of its own: one that cannot be told of keeps no other from it.
        jobs.tell_of_runs(session, notices.untold_runs(session))


@task("tell_of_run", NOTICE_QUEUE)
def tell_of_run(run_id: int) -> None:
    """Tell of a run that has ended."""
    with transaction() as session:
        notices.tell_of_run(session, run_id, page_address(), datetime.now(UTC))


@contextmanager
def _cell_or_fails(context: procrastinate.JobContext, cell_id: int) -> Iterator[None]:
    """What is refused on purpose fails the cell at once, with the reason; what breaks is tried again before it does."""
    try:
        yield
    except Exception as error:
        if is_temporary(error):
            with suppress(DBAPIError):
                forget_attempt(cell_id)
            _say_that_it_waits(error, lambda session: _cell_waits(session, cell_id))
        elif isinstance(error, KindEchoError):
            fail_cell(cell_id, str(error), datetime.now(UTC), error.log if isinstance(error, RenderFailed) else "")
            return
        _last_attempt(context, lambda reason: fail_cell(cell_id, reason, datetime.now(UTC)), error)
        raise


_WAITS = "It waits until there is space on the disk for temporary files"


def _say_that_it_waits(error: Exception, say: Callable[[Session], None]) -> None:
    """What waits for space says so where a person looks; it is tried again until there is some."""
    if is_disk_full(error) and not isinstance(error, DBAPIError):
        with suppress(DBAPIError), transaction() as session:
            say(session)


def _last_attempt(context: procrastinate.JobContext, give_up: Callable[[str], None], error: Exception) -> None:
    """On the attempt after which the queue gives up, say so where a person sees it, unless the cause is temporary."""
    if isinstance(error, MemoryError):
        give_up(str(TooMuchMemory()))
        raise TooMuchMemory from error
    if context.job.attempts + 1 >= MOST_ATTEMPTS and not is_temporary(error):
        give_up(f"It was tried {MOST_ATTEMPTS} times; the last error was: {brief_message(error)}")


def _cell_waits(session: Session, cell_id: int) -> None:
    cell = find_cell(session, cell_id, lock=True)
    if not cell.finished:
        cell.why = _WAITS
        tell_change(session, cell.run_id)


def _pair_waits(session: Session, pair_id: int) -> None:
    find_pair(session, pair_id).why = _WAITS


def _set_file_waits(session: Session, file_id: int, revision: int) -> None:
    file = session.get(SetFile, file_id, with_for_update=True)
    if file is not None and is_wanted(session, file, revision):
        file.why = _WAITS


def _fail_kit_file(file_id: int, reason: str) -> None:
    with transaction() as session:
        give_up(session, file_id, reason)


def _fail_pair(pair_id: int, reason: str) -> None:
    with transaction() as session:
        pair = find_pair(session, pair_id)
        pair.state, pair.why = "failed", reason


def _fail_set_file(file_id: int, revision: int, reason: str) -> None:
    with transaction() as session:
        file = session.get(SetFile, file_id, with_for_update=True)
        if file is not None and is_wanted(session, file, revision):
            file.state, file.why = "failed", reason
