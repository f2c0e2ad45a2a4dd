"""What is not needed any more is archived: it stands in no list, and all that stands on it stays as it is."""

from datetime import datetime

from sqlalchemy.orm import Session

from kind_echo.bench.upkeep.things import Kind, find, write


def archive(session: Session, kind: Kind, number: int, *, archived: bool, who: str, now: datetime) -> None:
    """Archive something, or bring it back; nothing where it is so already. Raises ThingNotFound."""
    found = find(session, kind, number)
    if archived == (found.archived_at is not None):
        return
    found.archived_at = now if archived else None
    write(session, kind, number, "archived" if archived else "brought back", who, now)
