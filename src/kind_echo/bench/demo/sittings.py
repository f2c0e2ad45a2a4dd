"""Listening of the demo: three sittings by its two people, one with a conclusion and one without, and a grading."""

from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.bench.listening import (
    ListeningRequest,
    Method,
    add_note,
    answer_trial,
    begin,
    find_sitting,
    new_test,
    under_way,
)
from kind_echo.database.models import ListeningTest, Sitting, Trial, Upload

_ORGAN = "comparisons/2"
_HEARD = "ooo.oooooooo.ooo"  # of 16 trials, an o for each that is right
_GUESSED = "o.oo..oo.o.o.oo."
_GRADES = {"hidden reference": 100, "bent": 84, "cut off": 61, "anchor, 7 kHz": 43, "anchor, 3.5 kHz": 17}


def sit_down(session: Session, now: datetime, who: str, colleague: str) -> None:
    """The clipped organ told from the master by one, and guessed at by the other; ways to take 3 dB off, graded."""
    organ = _specs(session, {"reed organ, master.wav": "the master", "reed organ, clipped.wav": "the clipped render"})
    told = new_test(
        session, organ, ListeningRequest(), Method("abx", 16), name="Clipped organ", subject=_ORGAN, who=who,
        now=now - timedelta(hours=3),
    )  # fmt: skip
    _answer(session, told, who, _HEARD, now - timedelta(hours=2))
    _answer(session, told, colleague, _GUESSED, now - timedelta(hours=1))
    ways = _specs(session, {"strikes.wav": "strikes", "cut off.wav": "cut off", "bent.wav": "bent"})
    graded = new_test(
        session, ways, ListeningRequest(by="rms"), Method("rating", 2, scale="BS.1534"),
        name="3 dB off one peak", who=colleague,
        now=now - timedelta(minutes=50),
    )  # fmt: skip
    _grade(session, graded, colleague, now - timedelta(minutes=40))
    add_note(
        session, _ORGAN, "the clipped render", 1.2, "harsh on the loudest chord, gone where it is soft",
        who=who, now=now,
    )  # fmt: skip


def _specs(session: Session, names: Mapping[str, str]) -> list[tuple[str, str]]:
    rows = session.scalars(select(Upload).where(Upload.name.in_(names)).order_by(Upload.id.desc()))
    addresses = {upload.name: upload.content_sha256 for upload in rows}
    return [(addresses[name], said) for name, said in names.items()]


def _answer(session: Session, test: ListeningTest, who: str, right: Sequence[str], at: datetime) -> None:
    number = begin(session, test.id, who=who, now=at).id
    for i, mark in enumerate(right):
        sitting, trial = _trial(session, number, who)
        hidden = next(slot["side"] for slot in trial.slots if slot["label"] not in ("First", "Second"))
        choice = hidden if mark == "o" else 1 - hidden
        when = at + timedelta(seconds=14 * (i + 1))
        answer_trial(session, sitting, trial.number, {"choice": choice}, switches=5 + i % 4, seconds=13.0, now=when)


def _grade(session: Session, test: ListeningTest, who: str, at: datetime) -> None:
    number = begin(session, test.id, who=who, now=at).id
    for i in range(2):
        sitting, trial = _trial(session, number, who)
        names = {slot["label"]: test.sides[slot["side"]]["name"] for slot in trial.slots if slot["graded"]}
        grades = {label: float(min(100, _GRADES[name] + 3 * i)) for label, name in names.items()}
        when = at + timedelta(minutes=2 * (i + 1))
        given = {"grades": grades, "notes": {}}
        answer_trial(session, sitting, trial.number, given, switches=21, seconds=95.0, now=when)


def _trial(session: Session, number: int, who: str) -> tuple[Sitting, Trial]:
    session.flush()
    session.expire_all()
    sitting = find_sitting(session, number, who, lock=True)
    assert under_way(session, sitting) is not None
    return sitting, sitting.drawn[-1]
