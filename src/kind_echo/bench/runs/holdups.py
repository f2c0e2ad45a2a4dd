"""What a run waits for that no worker will bring: files of a render kit, and builds that no known machine has."""

from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from kind_echo.bench.machines import BY_HAND, nobody_has, routes_of
from kind_echo.bench.runs.running import conditions_of
from kind_echo.database.models import Cell, Run


@dataclass(frozen=True)
class HeldUp:
    """Cells that wait for a person.

    Attributes:
        kit: cells that are rendered by hand, and whose files have not come back.
        lacking: cells in each host, by its name and version, in which no known machine has the build.
    """

    kit: int
    lacking: dict[str, int]

    @property
    def cells(self) -> int:
        """All of them."""
        return self.kit + sum(self.lacking.values())


def held_up(session: Session, run: Run) -> HeldUp:
    """What of a run waits for a person; nothing for one that was stopped."""
    if run.stopped_at is not None:
        return HeldUp(0, {})
    counted = select(Cell.condition_id, func.count()).where(Cell.run_id == run.id, Cell.state == "waiting")
    waiting: dict[int, int] = {row[0]: row[1] for row in session.execute(counted.group_by(Cell.condition_id))}
    if not waiting:
        return HeldUp(0, {})
    conditions = [condition for condition in conditions_of(session, run) if condition.id in waiting]
    routes = routes_of(session, run.build, conditions)
    kit = sum(waiting[c.id] for c in conditions if routes[c.id] == BY_HAND)
    lacking: dict[str, int] = {}
    for c in nobody_has(session, run.build, conditions):
        name = f"{c.host} {c.host_version}"
        lacking[name] = lacking.get(name, 0) + waiting[c.id]
    return HeldUp(kit, lacking)
