"""Cells that need a person, gathered by the reason they share."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from kind_echo.store.models import Case, Cell, Condition

_RANK = {"Fail": 0, "No reading": 1, "Changed": 2, "Waiting": 3}


@dataclass(frozen=True)
class Reason:
    """A reason that cells share.

    Attributes:
        verdict: the verdict of all of them.
        headline: what is wrong, without figures.
        where: in which hosts and rates, and with which settings.
        worst: the reason of the cell with most ink, with its figures.
        cells: their numbers.
    """

    verdict: str
    headline: str
    where: str
    worst: str
    cells: tuple[int, ...]


def gather(cells: Iterable[Cell], cases: Sequence[Case], conditions: Sequence[Condition]) -> list[Reason]:
    """Reasons by weight: verdict first, then number of cells. Cells that pass or are still under way need nobody."""
    case_of, condition_of = {c.id: c for c in cases}, {c.id: c for c in conditions}
    groups: dict[tuple[str, str], list[Cell]] = {}
    for cell in cells:
        if cell.verdict in _RANK and cell.state in ("done", "failed"):
            groups.setdefault((cell.verdict, _headline(cell)), []).append(cell)
    reasons = []
    for (verdict, headline), members in groups.items():
        worst = max(members, key=lambda cell: cell.ink)
        hosts = _spread([condition_of[m.condition_id].host for m in members], [c.host for c in conditions], "host")
        rates = _spread(
            [_kilohertz(condition_of[m.condition_id].rate) for m in members],
            [_kilohertz(c.rate) for c in conditions],
            "rate",
        )
        settings = _spread(
            [case_of[m.case_id].setting.name for m in members], [c.setting.name for c in cases], "setting"
        )
        where = f"in {hosts}, at {rates}, {settings}"
        reasons.append(Reason(verdict, headline, where, worst.why, tuple(m.id for m in members)))
    return sorted(reasons, key=lambda r: (_RANK[r.verdict], -len(r.cells), r.headline))


def _headline(cell: Cell) -> str:
    """The reason without its figures: the parts before the colons."""
    if cell.verdict == "Changed":
        return "Within limits, but not the same"
    return ", ".join(part.split(":")[0].strip() for part in cell.why.split(";"))


def _spread(values: Sequence[str], possible: Sequence[str], what: str) -> str:
    found = [v for v in dict.fromkeys(possible) if v in set(values)]
    if len(found) == len(set(possible)):
        return f"every {what}"
    return found[0] if len(found) == 1 else f"{', '.join(found[:-1])} and {found[-1]}"


def _kilohertz(rate: int) -> str:
    return f"{rate / 1000:g} kHz"
