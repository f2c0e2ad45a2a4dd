"""What takes the space: audio of renders and of people's own files, and all else that the database holds."""

from dataclasses import dataclass

from sqlalchemy import func, select, text
from sqlalchemy.orm import Session

from kind_echo.bench.storage.uses import plans_by_audio
from kind_echo.database.models import Content

_READINGS = ("analysis", "cell", "render", "take", "event", "decision", "reference", "act")
_QUEUE = "procrastinate%"


@dataclass(frozen=True)
class Share:
    """One kind of thing and the bytes it takes; `pieces` of it, where they can be counted."""

    name: str
    bytes: int
    pieces: int | None = None


@dataclass(frozen=True)
class Space:
    """What takes the space.

    Attributes:
        parts: kinds of audio and the rest of the database, in no order.
        plans: audio of renders by effect and plan, most first; audio of several plans counts in each of them.
        people: files that were brought, by whom, most first.
        raw: bytes that all audio would take unpacked.
        dropped: pieces of audio that retention dropped.
    """

    parts: list[Share]
    plans: list[tuple[str, str, Share]]
    people: list[Share]
    raw: int
    dropped: int


def what_takes_space(session: Session) -> Space:
    """What takes the space, as it is now."""
    brought = Content.brought_by != ""
    in_store = Content.object_key.is_not(None)
    pieces, size = func.count(), func.coalesce(func.sum(Content.bytes), 0)
    by_kind = {
        (of_people, elsewhere): Share("", int(held), count)
        for of_people, elsewhere, count, held in session.execute(
            select(brought, in_store, pieces, size).where(Content.dropped_at.is_(None)).group_by(brought, in_store)
        )
    }
    parts = [
        Share(name, by_kind[key].bytes, by_kind[key].pieces)
        for key, name in (
            ((False, False), "audio of renders and signals"),
            ((False, True), "audio of renders and signals, in the object store"),
            ((True, False), "people's own files"),
            ((True, True), "people's own files, in the object store"),
        )
        if key in by_kind
    ]
    in_database = sum(share.bytes for (_, elsewhere), share in by_kind.items() if not elsewhere)
    parts += [
        # What was dropped or packed leaves room in the table, which the system gets back by VACUUM FULL alone.
        Share("room for new audio", max(0, _tables(session, "relname = 'chunk'") - in_database)),
        Share("waveforms", _tables(session, "relname = 'peak_level'")),
        Share("readings, verdicts and decisions", _tables(session, "relname = ANY(:names)", names=list(_READINGS))),
        Share("queue of jobs", _tables(session, "relname LIKE :queue", queue=_QUEUE)),
    ]
    whole = int(session.scalar(text("SELECT pg_database_size(current_database())")) or 0)
    counted = sum(part.bytes for part in parts if "object store" not in part.name)
    parts.append(Share("all else in the database", max(0, whole - counted)))
    return Space(parts, _plans(session), _people(session), _raw(session), _dropped(session))


def _tables(session: Session, which: str, **values: object) -> int:
    """Bytes of tables with their indexes, and of the values that they hold out of line."""
    query = text(
        "SELECT coalesce(sum(pg_total_relation_size(oid)), 0) FROM pg_class "
        f"WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace AND {which}"
    )
    return int(session.scalar(query, values) or 0)


def _plans(session: Session) -> list[tuple[str, str, Share]]:
    plans, size = plans_by_audio(), func.sum(Content.bytes)
    rows = session.execute(
        select(plans.c.effect, plans.c.plan, func.count(), size)
        .join(Content, Content.sha256 == plans.c.sha256)
        .where(Content.dropped_at.is_(None))
        .group_by(plans.c.effect, plans.c.plan)
        .order_by(size.desc())
    )
    return [(effect, plan, Share(plan, int(held), count)) for effect, plan, count, held in rows]


def _people(session: Session) -> list[Share]:
    size = func.sum(Content.bytes)
    query = select(Content.brought_by, func.count(), size).where(Content.brought_by != "")
    rows = session.execute(query.group_by(Content.brought_by).order_by(size.desc()))
    return [Share(name, int(held), count) for name, count, held in rows]


def _raw(session: Session) -> int:
    rows = session.execute(
        text(
            "SELECT sum(frames * channels * CASE encoding WHEN 'PCM_16' THEN 2 WHEN 'PCM_24' THEN 3 "
            "WHEN 'DOUBLE' THEN 8 ELSE 4 END) FROM content WHERE dropped_at IS NULL"
        )
    )
    return int(rows.scalar() or 0)


def _dropped(session: Session) -> int:
    return int(session.scalar(select(func.count()).where(Content.dropped_at.is_not(None))) or 0)
