"""Parts of a report that show cells of a sheet: as ink, and as rows with their readings."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from itertools import groupby

from kind_echo.bench.decisions import Standing
from kind_echo.bench.reports.document import Grid, Look, Mark, Table
from kind_echo.bench.sheets import Sheet, SheetCell
from kind_echo.core.registry.limits import judge
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import MEASURES
from kind_echo.core.registry.readings import Reading
from kind_echo.database.models import Condition
from kind_echo.database.states import FINISHED
from kind_echo.wording.conditions import condition_text, rate_text
from kind_echo.wording.figures import counted, value_text
from kind_echo.wording.verdicts import verdict_text

LEGEND = (
    "Blank passes. The more ink, the more difference: full for a failure, hatched for a change, grey where it is "
    "decided. A cross where nothing could be measured, a ring where no reference is approved."
)

MOST_LISTED = 2000
"""Cells that a table or a grid of a report has; beyond it says how many are left out."""

_LOOKS: Mapping[str, Look] = {
    "Pass": "pass", "Changed": "changed", "Fail": "fail", "No reading": "no reading", "Waiting": "waiting",
}  # fmt: skip

Places = Mapping[int, tuple[str, str]]
"""What each cell is, by its number: its case, and its condition."""


def places_of(sheet: Sheet) -> Places:
    """What each cell of a sheet is: "Sweep, Gentle" and "Almanac 7, offline, 44.1 kHz"."""
    cases = {case.id: f"{case.signal.name}, {case.setting.name}" for case in sheet.cases}
    conditions = condition_names(sheet.conditions)
    return {cell.id: (cases[cell.case_id], conditions[cell.condition_id]) for cell in sheet.cells}


def condition_names(conditions: Sequence[Condition]) -> dict[int, str]:
    """Each condition in a line, by its number: with blocks, channels and words only where these differ among them."""
    parts: tuple[Callable[[Condition], str], ...] = (
        lambda one: f"blocks of {one.block_size}", lambda one: counted(one.channels, "channel"),
        lambda one: one.word_length,
    )  # fmt: skip
    telling = [part for part in parts if len({part(one) for one in conditions}) > 1]
    return {one.id: ", ".join([condition_text(one), *(part(one) for part in telling)]) for one in conditions}


def ink_grid(sheet: Sheet, cells: Sequence[SheetCell]) -> Grid:
    """Cells as ink: cases down, and conditions across by host, mode and rate."""
    wanted = {(cell.case_id, cell.condition_id): cell for cell in cells}
    shown = {condition for _, condition in wanted}
    conditions = sorted((one for one in sheet.conditions if one.id in shown), key=_in_order(sheet.conditions))
    told = [(_host(one), one.mode, rate_text(one.rate), str(one.block_size)) for one in conditions]
    levels = 4 if len({one[:3] for one in told}) < len(told) else 3
    heads = [
        [(group[-1], len(list(members))) for group, members in groupby(told, key=_to(level + 1))]
        for level in range(levels)
    ]
    cases = [case for case in sheet.cases if any((case.id, one.id) in wanted for one in conditions)]
    most, legend = max(1, MOST_LISTED // max(1, len(conditions))), LEGEND
    if len(cases) > most:
        legend = f"{len(cases) - most} of {len(cases)} rows are left out, those that pass first. {LEGEND}"
        wrong = {cell.case_id for cell in cells if cell.verdict != "Pass"}
        kept = {case.id for case in sorted(cases, key=lambda case: case.id not in wrong)[:most]}
        cases = [case for case in cases if case.id in kept]
    rows = [
        (f"{case.signal.name}, {case.setting.name}", [_mark(wanted.get((case.id, one.id))) for one in conditions])
        for case in cases
    ]
    return Grid("Signal, setting", heads, rows, legend)


def cells_table(
    cells: Iterable[SheetCell], places: Places, numbers: Mapping[int, int], decided: str = "Why, and what was decided"
) -> Table:
    """A row a cell: what it is, its verdict, and why.

    Args:
        numbers: of decisions as the report numbers them, by act.
    """
    rows = []
    for cell in cells:
        case, condition = places[cell.id]
        holds = cell.decision is not None and cell.decision.holds
        note = f" Decision {numbers[cell.decision.act_id]}." if cell.decision is not None and holds else ""
        why = f"{cell.why.rstrip('.')}.{note}" if cell.why else note.strip()
        rows.append((f"{case}\n{condition}", verdict_text(cell.verdict, finished=cell.state in FINISHED), why))
    return Table(("Signal, setting and condition", "Verdict", decided), rows, (38, 14, 48))


def readings_text(measured: Mapping[str, float], limits: Mapping[str, Limit]) -> str:
    """The readings of a cell that have a limit: "Delay 0.000 samples; Residual, RMS −120.30 dBFS".

    What counts or answers with yes or no is left out where it is as it has to be: that is most of them, in each cell.
    """
    parts = []
    for key, measure in MEASURES.items():
        value = measured.get(key)
        if key not in limits or value is None:
            continue
        dull = measure.drawing in ("flag", "sign") or (measure.decimals == 0 and value == 0)
        if not dull or judge(Reading(key, "all", value), limits[key]) != "met":
            parts.append(f"{measure.title} {value_text(value, measure)} {measure.unit}".rstrip())
    return "; ".join(parts)


def holding(cells: Iterable[SheetCell]) -> dict[int, tuple[Standing, list[int]]]:
    """The decisions that hold for cells, each once, by its act: with the cells that it holds for."""
    found: dict[int, tuple[Standing, list[int]]] = {}
    for cell in cells:
        if cell.decision is not None and cell.decision.holds:
            found.setdefault(cell.decision.act_id, (cell.decision, []))[1].append(cell.id)
    return dict(sorted(found.items()))


def _mark(cell: SheetCell | None) -> Mark | None:
    if cell is None:
        return None
    finished = cell.state in FINISHED
    look: Look = _LOOKS[cell.verdict] if finished else "under way"
    decided = cell.decision is not None and cell.decision.holds
    words = verdict_text(cell.verdict, finished=finished)
    if decided and look in ("fail", "changed"):
        look = "decided"
    return Mark(look, cell.ink, f"{words}, decided" if decided else words)


def _host(one: Condition) -> str:
    return f"{one.host} {one.host_version}"


def _in_order(conditions: Sequence[Condition]) -> Callable[[Condition], tuple[int, int, int]]:
    """By host, then by mode, each where the plan has it first; else as the plan has them."""
    hosts = list(dict.fromkeys(_host(one) for one in conditions))
    modes = list(dict.fromkeys((_host(one), one.mode) for one in conditions))
    order = {one.id: place for place, one in enumerate(conditions)}
    return lambda one: (hosts.index(_host(one)), modes.index((_host(one), one.mode)), order[one.id])


def _to(level: int) -> Callable[[tuple[str, ...]], tuple[str, ...]]:
    return lambda told: told[:level]
