"""The log of events, read: who did what, and when."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from typing import Any

from sqlalchemy import Select, String, cast, select
from sqlalchemy.orm import Session

from kind_echo.database.models import Event


@dataclass(frozen=True)
class EventQuery:
    """Which events: all of them where nothing is named.

    Attributes:
        text: stands in what was done, or in what it was done to.
        first, last: days in UTC, both included.
    """

    who: str = ""
    what: str = ""
    text: str = ""
    first: date | None = None
    last: date | None = None


def events(session: Session, asked: EventQuery, before: int | None = None, most: int | None = None) -> list[Event]:
    """Events, newest first. Args: before: of a smaller number than that."""
    query = _matching(asked).order_by(Event.id.desc())
    if before is not None:
        query = query.where(Event.id < before)
    return list(session.scalars(query if most is None else query.limit(most)))


def known_names(session: Session) -> tuple[list[str], list[str]]:
    """Who has done anything, and what was done, in order of their names."""
    who = session.scalars(select(Event.who).distinct().order_by(Event.who))
    return list(who), list(session.scalars(select(Event.what).distinct().order_by(Event.what)))


def link_of(detail: Mapping[str, Any]) -> str:
    """The address of the page that shows what an event was about; empty where there is none."""
    cells = detail.get("cells")
    if isinstance(cells, list) and cells:
        return f"/cells/{cells[0]}"
    for key, page in (("run", "runs"), ("plan", "plans"), ("search", "searches"), ("test", "listen/tests")):
        if isinstance(detail.get(key), int):
            return f"/{page}/{detail[key]}"
    return ""


def _matching(asked: EventQuery) -> Select[Event]:
    query = select(Event)
    if asked.who:
        query = query.where(Event.who == asked.who)
    if asked.what:
        query = query.where(Event.what == asked.what)
    if asked.text:
        plain = asked.text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
        query = query.where(Event.what.ilike(f"%{plain}%") | cast(Event.detail, String).ilike(f"%{plain}%"))
    if asked.first is not None:
        query = query.where(Event.at >= datetime.combine(asked.first, time(), UTC))
    if asked.last is not None:
        query = query.where(Event.at < datetime.combine(asked.last + timedelta(days=1), time(), UTC))
    return query
