"""First build that differs: builds between the last that passes and one that does not, rendered by halves."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session, joinedload

from kind_echo.bench.machines import BY_HAND, renderers_of
from kind_echo.bench.runs.running import find_cell, start_search_run
from kind_echo.core.registry.errors import Conflict, NotFound
from kind_echo.database.models import Build, Case, Cell, Event, Run, Search


class SearchNotFound(NotFound):
    """A search is asked for that is not there."""

    def __init__(self, search_id: int) -> None:
        self.search_id = search_id
        super().__init__(f"There is no search {search_id}.")


class NothingToSearch(Conflict):
    """A cell passes, or no earlier build is known to pass."""

    def __init__(self, reason: str) -> None:
        self.reason = reason
        super().__init__(f"There is nothing to search: {reason}.")


@dataclass(frozen=True)
class Looked:
    """A build of a search, and the newest cell of it for the case and condition; None where it was never rendered."""

    build: Build
    cell: Cell | None

    @property
    def passes(self) -> bool | None:
        """None while that is not known."""
        if self.cell is None or not self.cell.finished or self.cell.verdict == "Waiting":
            return None
        return self.cell.verdict in ("Pass", "Changed")


@dataclass(frozen=True)
class BuildOutcome:
    """How a search stands.

    Attributes:
        looked: all builds from the one that passed to the one that did not, oldest first.
        first: place of the first that differs; None while it is searched.
    """

    search: Search
    looked: list[Looked]
    first: int | None


def halve(passes: Sequence[bool | None]) -> tuple[int, int]:
    """Between which places the first that does not pass lies: the last known to pass, and the first known not to.

    The first place passes and the last does not. Where one passes after one that does not, the earlier change is told.
    """
    bad = next(i for i, one in enumerate(passes) if one is False)
    good = max(i for i, one in enumerate(passes[:bad]) if one)
    return good, bad


def start_search(session: Session, cell_id: int, *, who: str, now: datetime) -> Search:
    """Look for the first build in which a cell's case and condition do not pass.

    Raises:
        CellNotFound: there is no such cell.
        NothingToSearch: it passes or is not judged, no earlier build is known to pass, or it is rendered by hand.
    """
    cell = find_cell(session, cell_id)
    if Looked(cell.run.build, cell).passes is not False:
        raise NothingToSearch("the cell passes, or is not judged yet")
    if BY_HAND in renderers_of(session, [cell.condition]).values():
        raise NothingToSearch("this host is rendered in by hand, and builds between would have to be rendered")
    builds = _builds(session, cell.run.build.effect_id, 0, cell.run.build.position - 1)
    known = _known(session, cell.case, cell.condition_id, builds)
    good = next((b for b in reversed(builds) if Looked(b, known.get(b.id)).passes), None)
    if good is None:
        raise NothingToSearch("no earlier build is known to pass here")
    search = Search(
        case_id=cell.case_id, condition_id=cell.condition_id, good_build_id=good.id, bad_build_id=cell.run.build_id,
        started_by=who, started_at=now,
    )  # fmt: skip
    session.add(search)
    session.flush()
    session.add(Event(at=now, who=who, what="first build searched", detail={"search": search.id, "cell": cell_id}))
    advance(session, search, now)
    return search


def advance(session: Session, search: Search, now: datetime) -> None:
    """Render the build halfway between the last that passes and the first that does not, if it is not there."""
    found = standing_of(session, search)
    if found.first is not None:
        return
    good, bad = halve([_free_of(one, found.looked[-1]) for one in found.looked])
    middle = found.looked[(good + bad) // 2]
    if middle.cell is None:
        start_search_run(session, search, middle.build, now)


def standing_of(session: Session, search: Search) -> BuildOutcome:
    """How a search stands by what is known now."""
    effect_id = search.good_build.effect_id
    builds = _builds(session, effect_id, search.good_build.position, search.bad_build.position)
    known = _known(session, search.case, search.condition_id, builds)
    looked = [Looked(build, known.get(build.id)) for build in builds]
    passes = [_free_of(one, looked[-1]) for one in looked]
    # By the time that it is looked at again an end may have been rendered anew and be something else.
    passes[0], passes[-1] = True, False
    good, bad = halve(passes)
    return BuildOutcome(search, looked, bad if bad - good == 1 else None)


def _free_of(one: Looked, last: Looked) -> bool | None:
    """Whether a build has not got what is wrong with the last: it passes, or has another cause."""
    if one.passes is not False or one is last:
        return one.passes
    mine, wanted = _causes(one.cell), _causes(last.cell)
    return not mine & wanted if mine and wanted else False


def _causes(cell: Cell | None) -> set[str]:
    if cell is None or cell.analysis is None:
        return set()
    return {str(cause["cause"]) for cause in cell.analysis.causes} - {"unexplained"}


def find_search(session: Session, search_id: int) -> Search:
    """A search by its number. Raises SearchNotFound."""
    search = session.get(Search, search_id)
    if search is None:
        raise SearchNotFound(search_id)
    return search


def _builds(session: Session, effect_id: int, first: int, last: int) -> list[Build]:
    query = select(Build).where(Build.effect_id == effect_id, Build.position.between(first, last))
    return list(session.scalars(query.order_by(Build.position)))


def _known(session: Session, case: Case, condition_id: int, builds: Sequence[Build]) -> Mapping[int, Cell]:
    """The newest cell of each build for a case and condition, in whatever run."""
    query = (
        select(Cell)
        .join(Case, Case.id == Cell.case_id)
        .join(Run, Run.id == Cell.run_id)
        .where(
            Case.fingerprint == case.fingerprint,
            Cell.condition_id == condition_id,
            Run.build_id.in_([build.id for build in builds]),
        )
        .options(joinedload(Cell.run))
        .order_by(Cell.id)
    )
    return {cell.run.build_id: cell for cell in session.scalars(query)}
