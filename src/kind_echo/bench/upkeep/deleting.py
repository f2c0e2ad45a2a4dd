"""Builds and runs that nothing stands on are deleted; what somebody decided, approved or heard of keeps a run."""

from datetime import datetime

from sqlalchemy import ColumnElement, delete, exists, or_, select
from sqlalchemy.orm import Session, aliased

from kind_echo.bench.machines import drop_artefacts
from kind_echo.bench.queue import cancel_renders, drop_unused
from kind_echo.bench.upkeep.naming import named_by_machines
from kind_echo.bench.upkeep.things import find, write
from kind_echo.core.registry.errors import Conflict
from kind_echo.database.models import (
    Build,
    Cell,
    Decision,
    Delivery,
    KitFile,
    ListeningNote,
    ListeningTest,
    Reference,
    Render,
    Run,
    Search,
    Take,
)


class InUse(Conflict):
    """Something is to be deleted that something else stands on."""

    def __init__(self, what: str, why: str) -> None:
        self.what, self.why = what, why
        super().__init__(f"{what} is not deleted: {why}. It can be archived.")


def delete_build(session: Session, number: int, *, who: str, now: datetime) -> None:
    """Delete a build that was never run.

    Raises:
        ThingNotFound: there is no such build.
        InUse: there is a run of it, a search went over it, or a machine has it.
    """
    build: Build = find(session, "build", number)
    name = f"{build.effect.name} {build.version}"
    if _any(session, exists().where(Run.build_id == number)):
        raise InUse(name, "there are runs of it")
    if _any(session, exists().where(or_(Search.good_build_id == number, Search.bad_build_id == number))):
        raise InUse(name, "a search went over it")
    if named_by_machines(session, build.effect, [build]):
        raise InUse(name, "a machine has it, and would tell of it again")
    drop_artefacts(session, number)
    session.delete(build)
    write(session, "build", number, "deleted", who, now, name=name)


def delete_run(session: Session, number: int, *, who: str, now: datetime) -> None:
    """Delete a run with its cells, and the renders that no other run has; their audio goes in a while.

    Raises:
        ThingNotFound: there is no such run.
        InUse: it goes on still, or something was decided, approved or heard of it.
    """
    run: Run = find(session, "run", number)
    name = f"Run {number}"
    _refuse_in_use(session, run, name)
    cancel_renders(session, number)
    mine = select(Cell.id).where(Cell.run_id == number)
    renders = [
        *session.scalars(select(Cell.render_id).where(Cell.run_id == number, Cell.render_id.is_not(None)).distinct())
    ]
    for table in (Delivery, KitFile):
        session.execute(delete(table).where(table.cell_id.in_(mine)))
    session.execute(delete(KitFile).where(KitFile.run_id == number))
    session.execute(delete(Cell).where(Cell.run_id == number))
    other, reference = aliased(Cell), aliased(Reference)
    alone = (
        Render.id.in_(renders), ~exists().where(other.render_id == Render.id),
        ~exists().where(reference.render_id == Render.id),
    )  # fmt: skip
    gone = [*session.scalars(select(Render.id).where(*alone))]
    session.execute(delete(Take).where(Take.render_id.in_(gone)))
    session.execute(delete(Render).where(Render.id.in_(gone)))
    detail = {"plan": run.revision.plan.name, "build": run.build.version}
    session.delete(run)
    write(session, "run", number, "deleted", who, now, **detail)
    session.flush()
    drop_unused(session)


def _refuse_in_use(session: Session, run: Run, name: str) -> None:
    cells = select(Cell.id).where(Cell.run_id == run.id)
    under_way = exists().where(Cell.run_id == run.id, Cell.state.in_(("rendering", "analysing")))
    waits = exists().where(Cell.run_id == run.id, Cell.state == "waiting")
    if _any(session, under_way) or (run.stopped_at is None and _any(session, waits)):
        raise InUse(name, "it is under way; stop it first")
    if run.search_id is not None:
        raise InUse(name, "it belongs to a search")
    if _any(session, exists().where(Decision.cell_id.in_(cells))):
        raise InUse(name, "something was decided of its cells")
    if _any(session, exists().where(Reference.cell_id.in_(cells))):
        raise InUse(name, "renders of it are, or were, references")
    numbers = [f"runs/{run.id}", *(f"cells/{number}" for number in session.scalars(cells))]
    heard = or_(
        exists().where(ListeningNote.subject.in_(numbers)),
        exists().where(ListeningTest.subject.in_(numbers), ListeningTest.deleted_at.is_(None)),
    )
    if _any(session, heard):
        raise InUse(name, "there are listening tests or notes of it")


def _any(session: Session, condition: ColumnElement[bool]) -> bool:
    return session.scalar(select(condition)) is True
