"""Dropping audio that nobody needs any more: of renders that passed, older than the newest runs of their plan.

Never that of a reference, current or former, nor of a cell that fails, differs, has no reading or waits; nor what
anything in `uses` refers to beside renders. Readings, waveforms and verdicts stay. What nothing refers to any more is
marked, counts to nobody's files from then on, and goes after a time of grace.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import Select, Subquery, delete, exists, func, or_, select, union_all, update
from sqlalchemy.orm import Session, aliased

from kind_echo.bench.storage.rule import current_rule
from kind_echo.bench.storage.uses import is_used, plans_by_audio, renders_by_audio, used_beside_renders
from kind_echo.database.locks import hold_references
from kind_echo.database.models import (
    Analysis,
    Cell,
    Chunk,
    Content,
    Pair,
    PeakLevel,
    PlanRevision,
    Reference,
    Run,
    StorageRule,
)
from kind_echo.database.objects import object_store
from kind_echo.database.sessions import transaction

GRACE = timedelta(hours=1)
"""For which audio stays after the last thing that referred to it has gone: somebody may be about to use it again."""

_AT_ONCE = 500
_EVERY = timedelta(days=1)
_ORPHAN = timedelta(days=1)
"""An object that no audio names may belong to a transaction that is still under way; not for so long."""


@dataclass(frozen=True)
class Dropped:
    """What was dropped, or would be: how many pieces of audio, and the bytes that they take."""

    pieces: int
    bytes: int


def would_drop(session: Session, keep_runs: int) -> list[tuple[str, str, Dropped]]:
    """What a rule of so many runs would drop now, by effect and plan; what several plans share counts in each."""
    droppable, plans = _droppable(keep_runs).subquery(), plans_by_audio()
    total = func.sum(droppable.c.bytes)
    rows = session.execute(
        select(plans.c.effect, plans.c.plan, func.count(), total)
        .join_from(droppable, plans, plans.c.sha256 == droppable.c.sha256)
        .group_by(plans.c.effect, plans.c.plan)
        .order_by(total.desc())
    )
    return [(effect, plan, Dropped(pieces, int(size))) for effect, plan, pieces, size in rows]


def would_drop_in_all(session: Session, keep_runs: int) -> Dropped:
    """What a rule of so many runs would drop now."""
    droppable = _droppable(keep_runs).subquery()
    query = select(func.count(), func.coalesce(func.sum(droppable.c.bytes), 0)).select_from(droppable)
    pieces, size = session.execute(query).one()
    return Dropped(pieces, int(size))


def is_due(session: Session, now: datetime) -> bool:
    """Whether a day has passed since audio was last dropped; who is told so is to do it, and nobody else is told."""
    due = or_(StorageRule.applied_at.is_(None), StorageRule.applied_at < now - _EVERY)
    mine = update(StorageRule).where(due).values(applied_at=now).returning(StorageRule.id)
    return session.scalar(mine) is not None


def has_waited_out(session: Session, now: datetime) -> bool:
    """Whether audio that nothing refers to has waited for the time of grace."""
    return session.scalar(select(exists().where(Content.unused_since <= now - GRACE))) is True


def drop_audio(now: datetime) -> Dropped:
    """Drop what the rule in force says, some at a time, so that nobody waits for it long; nothing without a rule."""
    pieces, size = 0, 0
    while True:
        with transaction() as session:
            keep_runs = current_rule(session).keep_runs
            if keep_runs is None:
                break
            dropped, keys = _drop_some(session, keep_runs, now)
        if not dropped.pieces:
            break
        _delete_objects(keys)
        pieces, size = pieces + dropped.pieces, size + dropped.bytes
    return Dropped(pieces, size)


def drop_unused(now: datetime) -> Dropped:
    """Drop audio that nothing has referred to for the time of grace, with what was found of it; mark what waits."""
    with transaction() as session:
        mark_unused(session, now)
    pieces, size = 0, 0
    while True:
        with transaction() as session:
            some = session.scalars(_waited_out(now).limit(_AT_ONCE)).all()
            held = select(Content).where(Content.sha256.in_(some)).order_by(Content.sha256)
            session.scalars(held.with_for_update()).all()
            contents = session.scalars(held.where(Content.sha256.in_(_waited_out(now)))).all()
            keys = [content.object_key for content in contents if content.object_key]
            size += sum(content.bytes for content in contents)
            _forget_analyses(session, [content.sha256 for content in contents])
            _drop(session, contents, now)
        _delete_objects(keys)
        pieces += len(contents)
        if not contents:
            return Dropped(pieces, size)


def mark_unused(session: Session, now: datetime) -> None:
    """Write down since when nothing refers to a piece of audio, and of which that is true no more."""
    kept = Content.dropped_at.is_(None)
    session.execute(update(Content).where(kept, Content.unused_since.is_(None), ~is_used()).values(unused_since=now))
    session.execute(update(Content).where(Content.unused_since.is_not(None), is_used()).values(unused_since=None))


def _forget_analyses(session: Session, digests: Sequence[str]) -> None:
    """Remove what was found of audio that goes, and its waveforms."""
    of_it = or_(Analysis.reference_sha256.in_(digests), Analysis.render_sha256.in_(digests))
    unused = select(Analysis.key).where(of_it, ~exists().where(Pair.analysis_key == Analysis.key))
    keys = session.scalars(unused).all()
    owners = [*digests, *(f"{key}.{side}" for key in keys for side in ("render", "difference"))]
    session.execute(delete(PeakLevel).where(PeakLevel.owner.in_(owners)))
    session.execute(delete(Analysis).where(Analysis.key.in_(keys)))


def sweep_objects(now: datetime) -> int:
    """Delete objects that no audio names: their transactions failed, or a worker died; how many there were."""
    store = object_store()
    if store is None:
        return 0
    found, gone = store.keys(now - _ORPHAN), 0
    while some := [key for _, key in zip(range(_AT_ONCE), found, strict=False)]:
        with transaction() as session:
            named = set(session.scalars(select(Content.object_key).where(Content.object_key.in_(some))))
        orphans = [key for key in some if key not in named]
        store.delete(orphans)
        gone += len(orphans)
    return gone


def _drop_some(session: Session, keep_runs: int, now: datetime) -> tuple[Dropped, list[str]]:
    """Drop up to _AT_ONCE pieces; what they took, and the keys of the objects that held them."""
    hold_references(session, change=False)  # nobody makes one of these a reference meanwhile
    some = session.scalars(_droppable(keep_runs).with_only_columns(Content.sha256).limit(_AT_ONCE)).all()
    held = select(Content).where(Content.sha256.in_(some)).order_by(Content.sha256)
    session.scalars(held.with_for_update()).all()  # and no run takes one over
    sure = _droppable(keep_runs).with_only_columns(Content.sha256).where(Content.sha256.in_(some))
    contents = session.scalars(held.where(Content.sha256.in_(sure))).all()
    size = sum(content.bytes for content in contents)
    keys = [content.object_key for content in contents if content.object_key]
    _drop(session, contents, now)
    return Dropped(len(contents), size), keys


def _drop(session: Session, contents: Sequence[Content], now: datetime) -> None:
    """Remove samples; the objects that held them go once this is committed."""
    session.execute(delete(Chunk).where(Chunk.sha256.in_([content.sha256 for content in contents])))
    for content in contents:
        content.dropped_at, content.bytes, content.object_key, content.unused_since = now, 0, None, None


def _delete_objects(keys: Iterable[str]) -> None:
    store = object_store()
    if store is not None:
        store.delete(keys)


def _droppable(keep_runs: int) -> Select[str, int]:
    """Digests and bytes of all audio that may go."""
    uses, needed = renders_by_audio(), _needed(keep_runs)
    return select(Content.sha256, Content.bytes).where(
        Content.dropped_at.is_(None),
        Content.brought_by == "",
        exists().where(uses.c.sha256 == Content.sha256),
        ~exists().where(needed.c.sha256 == Content.sha256),
    )


def _needed(keep_runs: int) -> Subquery:
    """Audio that stays: of what was ever a reference, of cells that did not pass or are of a new run, and of others.

    What such a cell is compared with stays as well.
    """
    of_cells, of_references = renders_by_audio(), renders_by_audio()
    stays = or_(Cell.verdict != "Pass", Cell.state != "done", Cell.run_id.not_in(_old_runs(keep_runs)))
    compared = select(Analysis.reference_sha256).join(Cell, Cell.analysis_key == Analysis.key)
    return union_all(
        select(of_cells.c.sha256).join(Cell, Cell.render_id == of_cells.c.render_id).where(stays),
        compared.where(stays),
        select(of_references.c.sha256).join(Reference, Reference.render_id == of_references.c.render_id),
        select(used_beside_renders().c.sha256),
    ).subquery()


def _waited_out(now: datetime) -> Select[str]:
    """Digests of what nothing refers to, and nothing has for the time of grace."""
    waited = Content.unused_since <= now - GRACE
    return select(Content.sha256).where(Content.dropped_at.is_(None), waited, ~is_used())


def _old_runs(keep_runs: int) -> Select[int]:
    """Runs after which the plan was run so many times more; those of searches are in no list, and count as none."""
    newer, newers_revision, revision = aliased(Run), aliased(PlanRevision), aliased(PlanRevision)
    later = (
        select(func.count())
        .select_from(newer)
        .join(newers_revision, newers_revision.id == newer.revision_id)
        .where(newers_revision.plan_id == revision.plan_id, newer.search_id.is_(None), newer.id > Run.id)
        .correlate(Run, revision)
        .scalar_subquery()
    )
    return select(Run.id).join(revision, revision.id == Run.revision_id).where(later >= keep_runs)
