"""What many cells notice together: the least size of each fault, who notices it, which cases others stand in for."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.sensitivity.fault import Fault
from kind_echo.core.sensitivity.faults import BY_KEY, FAULTS
from kind_echo.core.sensitivity.least import Least, State

Wanted = Mapping[str, float]
"""By fault the size from which it is to be noticed, in the fault's unit."""

USUAL_WANTED: Wanted = {"gain": 0.1, "delay": 1.0, "noise": -100.0}
"""What is cared about unless a team says otherwise."""


def wanted_size(key: str, size: object) -> float:
    """The size from which a fault is to be noticed. Raises BadParameter for an unknown fault, or no size of it."""
    if key not in BY_KEY:
        raise BadParameter("fault", repr(key), f"one of {', '.join(BY_KEY)}")
    fault = BY_KEY[key]
    if isinstance(size, bool) or not isinstance(size, int | float) or not fault.least <= size <= fault.most:
        raise BadParameter(key, size, f"a size from {fault.least:g} to {fault.most:g} {fault.unit}".rstrip())
    return float(size)


@dataclass(frozen=True)
class Cell:
    """What one approved render notices.

    Attributes:
        case, condition: what they are called; of a plan without conditions the condition is empty.
        seconds: of sound.
        found: by fault.
    """

    case: str
    condition: str
    seconds: float
    found: Mapping[str, Least]


@dataclass(frozen=True)
class Row:
    """A fault over all cells.

    Attributes:
        least: the least size that any cell notices; None where none does.
        where: the first cell that notices it.
        passing: cells that do not notice it at any size, or for which there is nothing of it.
        wanted: the size from which it is to be noticed; None where nobody said.
    """

    fault: Fault
    least: Least | None
    where: Cell | None
    passing: tuple[Cell, ...]
    wanted: float | None = None

    @property
    def states(self) -> set[State]:
        """What came of it in the cells that do not notice it."""
        return {cell.found[self.fault.key].state for cell in self.passing}

    @property
    def is_met(self) -> bool | None:
        """Whether it is noticed from the size wanted on; None where nobody said one."""
        if self.wanted is None:
            return None
        size = None if self.least is None else self.least.size
        return size is not None and self.fault.as_fine(size, self.wanted)


@dataclass(frozen=True)
class Cover:
    """Cases that notice together what all do.

    Attributes:
        kept: chosen one after the other, each time the one that adds most.
        spare: those that add nothing: in each condition one of the kept notices every fault at as small a size.
        seconds_saved: of sound, in all conditions.
    """

    kept: tuple[str, ...]
    spare: tuple[str, ...]
    seconds_saved: float = field(default=0.0)


def rows_of(cells: Sequence[Cell], wanted: Wanted = USUAL_WANTED) -> list[Row]:
    """A row a fault: those that no cell notices first, then those that miss what is wanted, then the others."""
    rows = [_row(fault, cells, wanted.get(fault.key)) for fault in FAULTS]
    return sorted(rows, key=lambda row: (row.least is not None, row.is_met is not False))


def _row(fault: Fault, cells: Sequence[Cell], wanted: float | None) -> Row:
    best, where = _best(fault, cells)
    passing = tuple(cell for cell in cells if (own := cell.found.get(fault.key)) and own.state != "noticed")
    return Row(fault, best, where, passing, wanted)


def _best(fault: Fault, cells: Iterable[Cell]) -> tuple[Least | None, Cell | None]:
    best: Least | None = None
    where: Cell | None = None
    for cell in cells:
        size = _size(cell, fault)
        if size is not None and (best is None or best.size is None or size < best.size):
            best, where = cell.found[fault.key], cell
    return best, where


def _size(cell: Cell, fault: Fault) -> float | None:
    own = cell.found.get(fault.key)
    return own.size if own is not None and own.state == "noticed" else None


def by_column(cells: Sequence[Cell], name: Callable[[Cell], str]) -> dict[str, list[Row]]:
    """The rows of each case, or of each condition, in the order of the cells; in each the faults as they are listed."""
    names = dict.fromkeys(name(cell) for cell in cells)
    return {one: [_row(fault, [c for c in cells if name(c) == one], None) for fault in FAULTS] for one in names}


def cover(cells: Sequence[Cell]) -> Cover:
    """The fewest cases, as far as a greedy choice finds them, that notice in each condition what all cases do there.

    V. Chvátal, A greedy heuristic for the set-covering problem, Mathematics of Operations Research 4 (1979).
    """
    conditions = dict.fromkeys(cell.condition for cell in cells)
    wanted: set[tuple[str, str]] = set()
    told: dict[str, set[tuple[str, str]]] = {cell.case: set() for cell in cells}
    for condition in conditions:
        here = [cell for cell in cells if cell.condition == condition]
        for fault in FAULTS:
            best, _ = _best(fault, here)
            if best is None or best.size is None:
                continue
            wanted.add((condition, fault.key))
            for cell in here:
                size = _size(cell, fault)
                if size is not None and fault.as_fine(size, best.size):
                    told[cell.case].add((condition, fault.key))
    kept: list[str] = []
    left = set(wanted)
    while left:
        case = max(told, key=lambda one: len(told[one] & left))
        kept.append(case)
        left -= told[case]
    spare = tuple(case for case in told if case not in kept)
    return Cover(tuple(kept), spare, sum(cell.seconds for cell in cells if cell.case in spare))
