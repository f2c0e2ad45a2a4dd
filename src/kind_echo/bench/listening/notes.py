"""What people note while they listen, and the words of the house for it."""

from datetime import datetime

from sqlalchemy import delete, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from kind_echo.bench.accounts import Caller
from kind_echo.core.registry.errors import NotFound
from kind_echo.database.models import ListeningNote, ListeningWord

USUAL_WORDS = ("click", "dull", "harsh", "hiss", "hum", "late", "narrow", "pumping", "sharp", "soft", "wide")
"""Offered until keepers have a list of their own."""


class NoteNotFound(NotFound):
    """A note is named that is not there."""

    def __init__(self, note_id: int) -> None:
        self.note_id = note_id
        super().__init__(f"There is no note {note_id}.")


def add_note(
    session: Session, subject: str, side: str, second: float | None, text: str, *, who: str, now: datetime
) -> ListeningNote:
    """Keep what somebody heard.

    Args:
        subject: the page that it was heard on, as "cells/12".
        second: where on the first side's time axis; None for all of it.
    """
    note = ListeningNote(subject=subject, side=side, second=second, text=text, who=who, written_at=now)
    session.add(note)
    session.flush()
    return note


def notes_on(session: Session, subject: str) -> list[ListeningNote]:
    """All notes on a page, oldest first."""
    query = select(ListeningNote).where(ListeningNote.subject == subject).order_by(ListeningNote.id)
    return list(session.scalars(query))


def delete_note(session: Session, note_id: int, caller: Caller) -> None:
    """Delete a note; a keeper may delete anybody's. Raises NoteNotFound, NotAllowed."""
    note = session.get(ListeningNote, note_id)
    if note is None:
        raise NoteNotFound(note_id)
    if note.who != caller.name:
        caller.need("keep")
    session.delete(note)


def words(session: Session) -> list[str]:
    """The words of the house, in order; the usual ones while there are none."""
    return list(session.scalars(select(ListeningWord.word).order_by(ListeningWord.word))) or list(USUAL_WORDS)


def change_words(session: Session, wanted: list[str]) -> list[str]:
    """Make the list these words."""
    kept = sorted({word.strip() for word in wanted if word.strip()})
    session.execute(delete(ListeningWord).where(ListeningWord.word.not_in(kept)))
    if kept:
        session.execute(insert(ListeningWord).values([{"word": word} for word in kept]).on_conflict_do_nothing())
    return words(session)
