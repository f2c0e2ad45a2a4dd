"""What people heard of a run: their notes, and the listening tests that were made of its cells."""

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.bench.listening.results import Results, results_of
from kind_echo.bench.listening.tests import are_hidden, list_tests
from kind_echo.database.models import Cell, ListeningNote, ListeningTest, Run

MOST_TESTS = 200
"""Tests of one run that are listed, the newest."""


@dataclass(frozen=True)
class HeardNote:
    """A note, and the cell that it is on; None for one on the run as a whole."""

    cell_id: int | None
    note: ListeningNote


@dataclass(frozen=True)
class HeardTest:
    """A listening test, and the cell that it is of; None for one of several cells.

    Attributes:
        over, under_way: sittings.
        results: None before the day until which they are hidden.
    """

    cell_id: int | None
    test: ListeningTest
    over: int
    under_way: int
    results: Results | None


@dataclass(frozen=True)
class Heard:
    """All notes, oldest first, and the tests, newest first."""

    notes: list[HeardNote]
    tests: list[HeardTest]


def heard_of_run(session: Session, run: Run, now: datetime) -> Heard:
    """What was noted on a run and on its cells, and what the tests made from there came to."""
    cells = {f"cells/{number}": number for number in session.scalars(select(Cell.id).where(Cell.run_id == run.id))}
    subjects = [f"runs/{run.id}", *cells]
    notes = session.scalars(select(ListeningNote).where(ListeningNote.subject.in_(subjects)).order_by(ListeningNote.id))
    return Heard(
        [HeardNote(cells.get(note.subject), note) for note in notes],
        [
            HeardTest(cells.get(test.subject), test, over, going,
                      None if are_hidden(test, now) else results_of(session, test, now))
            for test, over, going in list_tests(session, count=MOST_TESTS, subjects=subjects)
        ],
    )  # fmt: skip
