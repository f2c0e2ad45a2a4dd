"""Sessions of people: whose a number is, and which have ended."""

import secrets
from datetime import datetime, timedelta

from sqlalchemy import delete
from sqlalchemy.orm import Session

from kind_echo.database.accounts import EndedSession, Person


def person_of_session(session: Session, person_id: int, stamp: str, number: str) -> Person | None:
    """The person whose session it is; None where it has ended, or they may not come in any more.

    Args:
        stamp: of all sessions of the person at the time when this one began; it changes when all are ended.
        number: of this session.
    """
    person = session.get(Person, person_id)
    if person is None or person.disabled_at is not None or not secrets.compare_digest(person.stamp, stamp):
        return None
    return None if not number or session.get(EndedSession, number) is not None else person


def end_session(session: Session, number: str, now: datetime, lifetime: timedelta) -> None:
    """End a session, so that no copy of its cookie lets anybody in; forget those that ended longer ago than that."""
    session.execute(delete(EndedSession).where(EndedSession.ended_at < now - lifetime))
    session.merge(EndedSession(number=number, ended_at=now))
