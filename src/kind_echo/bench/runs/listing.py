"""Runs in lists: how each stands, and what was run before."""

from collections.abc import Sequence
from dataclasses import dataclass, field

from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session, aliased, joinedload

from kind_echo.database.models import Build, Cell, Effect, Plan, PlanRevision, Render, Run
from kind_echo.database.states import FINISHED


@dataclass(frozen=True)
class RunSummary:
    """A run with the count of its cells by verdict, and how long the rest will take where that can be told."""

    run: Run
    verdicts: dict[str, int]
    finished: int
    seconds_left: float | None = None

    @property
    def cells(self) -> int:
        """Cells in all."""
        return sum(self.verdicts.values())

    @property
    def is_finished(self) -> bool:
        """Nothing of it is under way or waits."""
        return self.finished == self.cells


def list_runs(
    session: Session,
    effect: str | None = None,
    before: int | None = None,
    most: int | None = None,
    text: str = "",
    archived: bool | None = None,
) -> list[RunSummary]:
    """Runs with their counts, newest first; but those of searches.

    Args:
        effect: name of the effect whose runs are wanted; all effects unless given.
        before: number of a run: only those that are older.
        most: of the newest, so many at most.
        text: what the plan's name, the build's version or note, or who asked for it must have in it.
        archived: those that are archived, or those that are not; all unless given.
    """
    query = select(Run).where(Run.search_id.is_(None)).order_by(Run.id.desc()).options(*_WITH_NAMES)
    if archived is not None:
        query = query.where(Run.archived_at.is_not(None) if archived else Run.archived_at.is_(None))
    if effect is not None:
        query = query.where(Run.build.has(Build.effect.has(name=effect)))
    if before is not None:
        query = query.where(Run.id < before)
    for word in text.split():
        of_build = or_(Build.version.icontains(word, autoescape=True), Build.note.icontains(word, autoescape=True))
        of_plan = PlanRevision.plan.has(Plan.name.icontains(word, autoescape=True))
        query = query.where(
            or_(
                Run.build.has(of_build),
                Run.revision.has(of_plan),
                Run.requested_by.icontains(word, autoescape=True),
            )
        )
    return _summaries(session, list(session.scalars(query.limit(most))))


def runs_before(session: Session, runs: Sequence[Run]) -> dict[int, RunSummary]:
    """The run of the same plan before each of some runs, by the number of the later; none before the first."""
    earlier, revision = aliased(Run), aliased(PlanRevision)
    before = (
        select(func.max(earlier.id))
        .join(revision, revision.id == earlier.revision_id)
        .where(revision.plan_id == PlanRevision.plan_id, earlier.id < Run.id, earlier.search_id.is_(None))
        .correlate(Run, PlanRevision)
        .scalar_subquery()
    )
    pairs = select(Run.id, before).join(PlanRevision, PlanRevision.id == Run.revision_id)
    rows = session.execute(pairs.where(Run.id.in_([run.id for run in runs])))
    found: dict[int, int | None] = {row[0]: row[1] for row in rows}
    wanted = {number for number in found.values() if number is not None}
    query = select(Run).where(Run.id.in_(wanted)).options(*_WITH_NAMES)
    known = {one.run.id: one for one in _summaries(session, list(session.scalars(query)))}
    return {later: known[number] for later, number in found.items() if number is not None}


def effects_that_ran(session: Session) -> list[str]:
    """Names of the effects of which there are runs, in order."""
    ran = select(Build.effect_id).join(Run, Run.build_id == Build.id).where(Run.search_id.is_(None))
    return list(session.scalars(select(Effect.name).where(Effect.id.in_(ran)).order_by(Effect.name)))


def summaries_of(session: Session, run_ids: Sequence[int]) -> list[RunSummary]:
    """Runs by their numbers, with their counts."""
    query = select(Run).where(Run.id.in_(run_ids)).options(*_WITH_NAMES)
    return _summaries(session, list(session.scalars(query)))


def summary_of(session: Session, run: Run) -> RunSummary:
    """A run with its counts."""
    return _summaries(session, [run])[0]


_WITH_NAMES = (
    joinedload(Run.build).joinedload(Build.effect),
    joinedload(Run.revision).joinedload(PlanRevision.plan),
)


_ENOUGH = 5  # renders from which the time left can be told


def _summaries(session: Session, runs: Sequence[Run]) -> list[RunSummary]:
    by = (Cell.run_id, Cell.state, Cell.verdict)  # in the order of an index, which tells it all
    query = select(*by, func.count()).where(Cell.run_id.in_([run.id for run in runs])).group_by(*by)
    found: dict[int, _Counted] = {}
    for run_id, state, verdict, count in session.execute(query):
        counted = found.setdefault(run_id, _Counted())
        counted.verdicts[verdict] = counted.verdicts.get(verdict, 0) + count
        counted.finished += count if state in FINISHED else 0
    under_way = [run_id for run_id, counted in found.items() if counted.finished < sum(counted.verdicts.values())]
    pace = (
        select(Cell.run_id, func.count(), func.extract("epoch", func.now() - func.min(Render.rendered_at)))
        .join(Render, Render.id == Cell.render_id)
        .where(Cell.run_id.in_(under_way), Cell.reused.is_(False))
        .group_by(Cell.run_id)
    )
    for run_id, rendered, elapsed in session.execute(pace) if under_way else ():
        found[run_id].rendered, found[run_id].seconds = rendered, float(elapsed)
    return [found.get(run.id, _Counted()).summary(run) for run in runs]


@dataclass
class _Counted:
    verdicts: dict[str, int] = field(default_factory=dict)
    finished: int = 0
    rendered: int = 0
    seconds: float = 0.0  # since its first render

    def summary(self, run: Run) -> RunSummary:
        """With the seconds that are left at the pace so far."""
        left = sum(self.verdicts.values()) - self.finished
        seconds = None
        if left and run.stopped_at is None and self.rendered >= _ENOUGH:
            seconds = round(self.seconds / self.rendered * left, 1)
        return RunSummary(run, self.verdicts, self.finished, seconds)
