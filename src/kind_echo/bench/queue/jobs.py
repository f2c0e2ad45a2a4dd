"""All jobs there are: a function for each puts it on its queue, where it is taken once the transaction commits.

The functions that do them stand in `bench/jobs/handlers.py`, under the names given here.
"""

from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Literal

from sqlalchemy import literal, select
from sqlalchemy.orm import Session

from kind_echo.bench.queue.adapter import cancel, defer, greatest_waiting, has_failed, is_under_way
from kind_echo.database.models import Cell

JobName = Literal[
    "prepare_run", "render_cell", "measure_delivered", "analyse_cell", "compare_cells", "check_kit",
    "recognise_kit_file", "measure_returned_cell", "analyse_pair", "advance_search", "settle_demo",
    "drop_unused", "drop_audio", "measure_set_file", "reference_from_file", "deliver_notice", "keep_time",
    "tell_of_run", "plant_faults",
]  # fmt: skip

ANALYSIS_QUEUE = "analysis"
NOTICE_QUEUE = "notices"
CLOCK_QUEUE = "clock"
RENDER_PRIORITY = 0
_TURNS = 100_000
"""Priorities of a queue between one of runs and the next: runs of one priority are rendered by turns."""

_MOST_PRIORITY = 20_000  # of runs; a queue's priorities are 32-bit integers
_ANALYSIS_PRIORITY = 2_100_000_000  # a render that is there is judged before the next is made


def _analysis(session: Session, name: JobName, arguments: Sequence[dict[str, int]]) -> None:
    defer(session, name, ANALYSIS_QUEUE, [_ANALYSIS_PRIORITY] * len(arguments), arguments)


def prepare_run(session: Session, queue: str, priority: int, run_id: int) -> None:
    """See which cells of a run must be rendered, on a machine that takes from a queue."""
    defer(session, "prepare_run", queue, [_first_turn(priority)], [{"run_id": run_id}])


def render_cells(
    session: Session, queue: str, priority: int, cell_ids: Iterable[int], *, at: datetime | None = None
) -> None:
    """Render cells on a machine that takes from a queue; not before `at`.

    Runs of one priority take turns: the n-th cell of each is rendered before the next of any (start-time fair queueing,
    P. Goyal, H. Vin, H. Cheng, IEEE/ACM Transactions on Networking 5 (1997), with cells for packets). One that comes
    later begins with the turn that the others are at.
    """
    arguments = [{"cell_id": cell_id} for cell_id in cell_ids]
    first = _first_turn(priority)
    last = first - _TURNS + 1
    now = greatest_waiting(session, "render_cell", last, first)
    begin = first if now is None else now
    turns = [max(last, begin - number) for number in range(len(arguments))]
    defer(session, "render_cell", queue, turns, arguments, at=at)


def cancel_renders(session: Session, run_id: int) -> None:
    """Render no cell of a run that nobody is at."""
    waiting = select(Cell.id).where(Cell.run_id == run_id, Cell.state == "waiting")
    cancel(session, "render_cell", "cell_id", waiting)
    cancel(session, "prepare_run", "run_id", select(literal(run_id)))


def measure_delivered(session: Session, cell_id: int) -> None:
    """Measure what a remote machine rendered."""
    _analysis(session, "measure_delivered", [{"cell_id": cell_id}])


def analyse_cells(session: Session, cell_ids: Iterable[int]) -> None:
    """Compare cells with their references, and judge them."""
    _analysis(session, "analyse_cell", [{"cell_id": cell_id} for cell_id in cell_ids])


def compare_cells(session: Session, pairs: Iterable[tuple[int, int]]) -> None:
    """Compare each of some cells with another cell."""
    _analysis(session, "compare_cells", [{"cell_id": one, "other_id": other} for one, other in pairs])


def compare_once(session: Session, cell_id: int, other_id: int) -> bool:
    """Compare a cell with another one, unless that is under way; False where it was given up within the last day."""
    arguments = {"cell_id": cell_id, "other_id": other_id}
    if is_under_way(session, "compare_cells", arguments):
        return True
    if has_failed(session, "compare_cells", arguments):
        return False
    _analysis(session, "compare_cells", [arguments])
    return True


def check_kit(session: Session, run_id: int) -> None:
    """See which cells of a run are to be rendered by hand."""
    _analysis(session, "check_kit", [{"run_id": run_id}])


def recognise_kit_file(session: Session, file_id: int) -> None:
    """Find out which render a returned file is."""
    _analysis(session, "recognise_kit_file", [{"file_id": file_id}])


def measure_returned_cell(session: Session, cell_id: int) -> None:
    """Measure a cell whose renders came back from a kit."""
    _analysis(session, "measure_returned_cell", [{"cell_id": cell_id}])


def analyse_pair(session: Session, pair_id: int) -> None:
    """Compare two uploaded files."""
    _analysis(session, "analyse_pair", [{"pair_id": pair_id}])


def measure_set_files(session: Session, file_ids: Iterable[int], revision: int) -> None:
    """Measure files of a set in the way that it asks for at that revision."""
    _analysis(session, "measure_set_file", [{"file_id": file_id, "revision": revision} for file_id in file_ids])


def references_from_files(session: Session, given: Iterable[tuple[int, int]]) -> None:
    """Measure uploaded files that are the renders of cells; then they become references."""
    _analysis(session, "reference_from_file", [{"cell_id": cell, "upload_id": upload} for cell, upload in given])


def advance_search(session: Session, search_id: int) -> None:
    """Take the next step in the search for the first build that differs."""
    _analysis(session, "advance_search", [{"search_id": search_id}])


def drop_unused(session: Session) -> None:
    """Mark the audio that nothing refers to any more, and drop what has waited for long enough."""
    _analysis(session, "drop_unused", [{}])


def drop_audio(session: Session) -> None:
    """Drop what the rule for storage says; it is done each night by itself."""
    _analysis(session, "drop_audio", [{}])


def deliver_notices(session: Session, notice_ids: Sequence[int], *, at: datetime | None = None) -> None:
    """Send notices; not before `at`. What renders and measures has no part in it: it has a queue of its own."""
    arguments = [{"notice_id": notice_id} for notice_id in notice_ids]
    defer(session, "deliver_notice", NOTICE_QUEUE, [RENDER_PRIORITY] * len(arguments), arguments, at=at)


def tell_of_runs(session: Session, run_ids: Sequence[int]) -> None:
    """Tell of runs that have ended those who asked for it."""
    arguments = [{"run_id": run_id} for run_id in run_ids]
    defer(session, "tell_of_run", NOTICE_QUEUE, [RENDER_PRIORITY] * len(arguments), arguments)


def plant_faults(session: Session, sensitivity_ids: Iterable[int]) -> None:
    """Plant faults into approved renders; all that a run waits for goes before."""
    arguments = [{"sensitivity_id": one} for one in sensitivity_ids]
    defer(session, "plant_faults", ANALYSIS_QUEUE, [RENDER_PRIORITY] * len(arguments), arguments)


def settle_demo(session: Session, run_id: int, *, at: datetime | None = None) -> None:
    """Approve and decide what the demo shows, once its run is done."""
    defer(session, "settle_demo", ANALYSIS_QUEUE, [RENDER_PRIORITY], [{"run_id": run_id}], at=at)


def _first_turn(priority: int) -> int:
    return min(priority, _MOST_PRIORITY) * _TURNS
