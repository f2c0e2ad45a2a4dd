"""Locks that several kinds of work share; each is held until its transaction ends."""

from sqlalchemy import func, select
from sqlalchemy.orm import Session

_REFERENCES = 0x6B65  # any number that nothing else in this database uses


def hold_references(session: Session, *, change: bool) -> None:
    """Keep references from changing until the transaction ends, or, to change them, be alone with them.

    Take it before any lock on a cell. Without it a cell judged while an approval is on its way would find no
    reference, after the approval had found no such cell to judge again.
    """
    lock = func.pg_advisory_xact_lock if change else func.pg_advisory_xact_lock_shared
    session.execute(select(lock(_REFERENCES)))
