"""Sittings: trials drawn by the operating system's randomness, answers that count once, and what they come to.

What stands behind a slot is drawn here and told nowhere until the answer is in. A listener's browser gets audio under
addresses that are drawn for each trial, all of one length, rate and size; a little noise, drawn anew for each, keeps
the bytes of one side from being the same twice.
"""

import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from threading import Lock
from typing import Any

import numpy as np
from cachetools import LRUCache, cached
from cachetools.keys import hashkey
from numpy.typing import NDArray
from sqlalchemy import Select, func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session, selectinload

from kind_echo.bench.listening.tests import HIDDEN_REFERENCE, Method, find_test, method_of
from kind_echo.core.listening.blind import sequential_readings
from kind_echo.core.listening.documents import SlotDocument
from kind_echo.core.listening.rating import check_grade
from kind_echo.core.registry.errors import BadParameter, Conflict, NotFound
from kind_echo.core.registry.readings import value_of
from kind_echo.database.blobs import BlobSource, find_content
from kind_echo.database.models import Event, ListeningTest, Sitting, Trial, TrialAnswer, TrialClip

X = "Which one is this?"
_LETTERS = "ABCDEFGHIJKL"
_STEP = 2.0**-23
"""Of a 24-bit file: what the noise that is added to every clip is as high as, −138 dBFS."""

_MOST_SEQUENTIAL = 400
"""Trials after which a sequential sitting ends without a conclusion."""

_CACHED_BYTES = 200 << 20
_drawn = secrets.SystemRandom()
Clip = NDArray[np.float32]


class SittingNotFound(NotFound):
    """A sitting is asked for that is not there, or is somebody else's."""

    def __init__(self, sitting_id: int) -> None:
        self.sitting_id = sitting_id
        super().__init__(f"There is no sitting {sitting_id} of yours.")


class ClipNotFound(NotFound):
    """There is no clip at an address."""

    def __init__(self) -> None:
        super().__init__("There is no audio at this address.")


class NotThisTrial(Conflict):
    """An answer is to a trial that is not the one under way."""

    def __init__(self, number: int, now: int | None) -> None:
        where = "the sitting is over" if now is None else f"trial {now} is under way"
        super().__init__(f"The answer to trial {number} was not taken: {where}.")


class AllSat(Conflict):
    """Somebody wants to sit more often than was set beforehand: whoever goes on until it is evidence finds some."""

    def __init__(self, most: int) -> None:
        self.most = most
        times = "once" if most == 1 else f"{most} times"
        super().__init__(f"You have sat down to this test {times}, as was set beforehand. Make another test for more.")


@dataclass(frozen=True)
class Slot:
    """What a listener can play in a trial.

    Attributes:
        label: what stands on it.
        secret: where its audio is.
        graded: it is to be given a grade.
    """

    label: str
    secret: str
    graded: bool


@dataclass(frozen=True)
class UnderWay:
    """The trial that is to be answered."""

    number: int
    slots: list[Slot]


def begin(session: Session, test_id: int, *, who: str, now: datetime) -> Sitting:
    """Sit down to a test, or go on with the sitting that is under way.

    Raises:
        TestNotFound: there is no such test.
        Conflict: its day is over.
        AllSat: this person has sat to it as often as was set beforehand.
    """
    test = find_test(session, test_id)
    held = _held(test_id, who)
    found = session.scalar(held)
    if found is not None:
        return found
    if test.until is not None and now >= test.until:
        raise Conflict(f"The test was open until {test.until:%Y-%m-%d %H:%M} UTC; nobody can sit down to it any more.")
    most = method_of(test).sittings
    if times_sat(session, test_id, who) >= most:
        raise AllSat(most)
    values = {"test_id": test_id, "who": who, "trials": trials_of(test), "begun_at": now, "state": "open"}
    # Two windows may sit down at once: one sitting comes of it, and one first trial.
    session.execute(
        insert(Sitting).values(values).on_conflict_do_nothing(
            index_elements=["test_id", "who"], index_where=Sitting.state == "open"
        )
    )  # fmt: skip
    sitting = session.scalars(held.with_for_update()).one()
    if not sitting.drawn:
        _draw_next(session, sitting, now)
    return sitting


def open_sitting(session: Session, test_id: int, who: str) -> Sitting | None:
    """A person's sitting to a test that is under way."""
    return session.scalar(_held(test_id, who))


def times_sat(session: Session, test_id: int, who: str) -> int:
    """How often a person has sat to a test to its end."""
    done = select(func.count()).where(Sitting.test_id == test_id, Sitting.who == who, Sitting.state == "done")
    return session.scalars(done).one()


def _held(test_id: int, who: str) -> Select[Sitting]:
    return select(Sitting).where(Sitting.test_id == test_id, Sitting.who == who, Sitting.state == "open")


def trials_of(test: ListeningTest) -> int:
    """How many trials a sitting of a test has; 0 where bounds end it."""
    method = method_of(test)
    if method.kind == "order":
        return 1
    if method.scale == "BS.1116":
        return method.trials * sum(not side["hidden"] for side in test.sides[1:])
    return method.trials


def find_sitting(session: Session, sitting_id: int, who: str, *, lock: bool = False) -> Sitting:
    """A sitting of that person. Raises SittingNotFound."""
    query = select(Sitting).where(Sitting.id == sitting_id, Sitting.who == who)
    if lock:
        query = query.with_for_update()
    found = session.scalar(query.options(selectinload(Sitting.drawn).selectinload(Trial.answer)))
    if found is None:
        raise SittingNotFound(sitting_id)
    return found


def under_way(session: Session, sitting: Sitting) -> UnderWay | None:
    """The trial that waits for an answer; None when the sitting is over."""
    if sitting.state != "open":
        return None
    trial = sitting.drawn[-1]
    clips = session.scalars(select(TrialClip).where(TrialClip.trial_id == trial.id).order_by(TrialClip.slot))
    slots = [
        Slot(trial.slots[clip.slot]["label"], clip.secret, bool(trial.slots[clip.slot]["graded"])) for clip in clips
    ]
    return UnderWay(trial.number, slots)


def answer_trial(
    session: Session,
    sitting: Sitting,
    number: int,
    given: Mapping[str, Any],
    *,
    switches: int,
    seconds: float,
    now: datetime,
) -> None:
    """Take an answer, and draw the next trial. The same answer that comes twice is taken once.

    Args:
        sitting: locked, so that two answers at once are looked at one after the other.
        given: of an ABX trial `choice`, 0 for the first and 1 for the second; else `grades` by label, and `notes`.
        switches: how often the listener switched.
    Raises:
        NotThisTrial: another trial is under way, and this one has another answer or none.
        BadParameter: it is no answer to what was asked.
    """
    known = next((trial for trial in sitting.drawn if trial.number == number), None)
    if known is not None and known.answer is not None and known.answer.given == dict(given):
        return  # sent twice, for the first time's reply was lost
    trial = sitting.drawn[-1]
    if sitting.state != "open" or trial.number != number or trial.answer is not None:
        raise NotThisTrial(number, trial.number if sitting.state == "open" else None)
    checked, right = _checked(method_of(sitting.test), trial, given)
    session.add(
        TrialAnswer(
            trial_id=trial.id, given=checked, right=right, switches=switches, seconds=round(seconds, 3), answered_at=now
        )
    )
    session.flush()
    session.expire(trial, ["answer"])
    if _is_over(sitting):
        sitting.state, sitting.ended_at = "done", now
        detail = {"sitting": sitting.id, "test": sitting.test_id, "state": "done"}
        session.add(Event(at=now, who=sitting.who, what="sitting ended", detail=detail))
    else:
        _draw_next(session, sitting, now)


def break_off(session: Session, sitting: Sitting, now: datetime) -> None:
    """End a sitting before its time: it is shown, and does not count. Raises Conflict for one that is over."""
    if sitting.state != "open":
        raise Conflict("The sitting is over already.")
    sitting.state, sitting.ended_at = "broken off", now
    detail = {"sitting": sitting.id, "test": sitting.test_id, "state": "broken off"}
    session.add(Event(at=now, who=sitting.who, what="sitting ended", detail=detail))


def clip_bytes(session: Session, secret: str, who: str) -> bytes:
    """Samples of a clip as 32-bit floats, interleaved, with noise of its own. Raises ClipNotFound."""
    clip = session.get(TrialClip, secret)
    if clip is None or clip.trial.sitting.who != who:
        raise ClipNotFound
    trial = clip.trial
    # All sides of the test are read before any is sent, so that the time that it takes tells nothing.
    sides = _samples(session, trial.sitting.test)
    samples = sides[trial.slots[clip.slot]["side"]]
    rng = np.random.default_rng(secrets.randbits(128))
    noise = rng.random(samples.shape) - rng.random(samples.shape)
    return np.asarray(np.round(samples / _STEP + noise) * _STEP, dtype="<f4").tobytes()


def answers_of(sitting: Sitting) -> list[tuple[Trial, TrialAnswer]]:
    """The trials that were answered, in order."""
    return [(trial, trial.answer) for trial in sitting.drawn if trial.answer is not None]


def _draw_next(session: Session, sitting: Sitting, now: datetime) -> None:
    drawn = select(func.count()).select_from(Trial).where(Trial.sitting_id == sitting.id)
    number = session.scalars(drawn).one() + 1
    slots = _draw(sitting.test, sitting, number)
    trial = Trial(sitting_id=sitting.id, number=number, slots=slots, drawn_at=now)
    session.add(trial)
    session.flush()
    session.add_all(
        TrialClip(secret=secrets.token_urlsafe(24), trial_id=trial.id, slot=slot) for slot in range(len(slots))
    )
    session.flush()
    session.expire(sitting, ["drawn"])


def _draw(test: ListeningTest, sitting: Sitting, number: int) -> list[SlotDocument]:
    """Which side stands behind each slot of a trial."""
    method = method_of(test)
    if method.kind == "abx":
        hidden = _drawn.randrange(2)
        return [
            {"label": "First", "side": 0, "graded": False}, {"label": X, "side": hidden, "graded": False},
            {"label": "Second", "side": 1, "graded": False},
        ]  # fmt: skip
    if method.scale == "BS.1116":
        copy = next(i for i, side in enumerate(test.sides) if side["name"] == HIDDEN_REFERENCE and side["hidden"])
        graded = [_of_this_trial(test, sitting, number), copy]
    elif method.kind == "rating":
        graded = list(range(1, len(test.sides)))
    else:
        graded = list(range(len(test.sides)))
    _drawn.shuffle(graded)
    known: list[SlotDocument] = [{"label": "Reference", "side": 0, "graded": False}] if method.kind == "rating" else []
    return known + [{"label": _LETTERS[i], "side": side, "graded": True} for i, side in enumerate(graded)]


def _of_this_trial(test: ListeningTest, sitting: Sitting, number: int) -> int:
    """The side that a trial of BS.1116 is about: each as often as the others, in an order drawn round by round."""
    objects = [i for i, side in enumerate(test.sides) if i > 0 and not side["hidden"]]
    done = [
        slot["side"]
        for trial in sitting.drawn[(number - 1) // len(objects) * len(objects) :]
        for slot in trial.slots
        if slot["graded"] and slot["side"] in objects
    ]
    return _drawn.choice([side for side in objects if side not in done])


def _checked(method: Method, trial: Trial, given: Mapping[str, Any]) -> tuple[dict[str, Any], bool | None]:
    """An answer as it is kept, and whether it is right; None where there is no right and wrong."""
    if method.kind == "abx":
        choice = given.get("choice")
        if choice not in (0, 1) or set(given) != {"choice"}:
            raise BadParameter("choice", choice, "0 for the first or 1 for the second")
        hidden = next(slot["side"] for slot in trial.slots if slot["label"] == X)
        return dict(given), choice == hidden
    labels = [slot["label"] for slot in trial.slots if slot["graded"]]
    grades, notes = given.get("grades", {}), given.get("notes", {})
    if set(grades) != set(labels):
        raise BadParameter("grades", ", ".join(sorted(grades)), f"one for each of {', '.join(labels)}")
    for grade in grades.values():
        check_grade(method.scale or "BS.1534", float(grade))
    if method.scale == "BS.1116" and max(grades.values()) < 5.0:
        raise BadParameter("grades", max(grades.values()), "5.0 for one of the two: one is the reference (BS.1116-3)")
    if not set(notes) <= set(labels):
        raise BadParameter("notes", ", ".join(sorted(notes)), f"of {', '.join(labels)}")
    return {"grades": dict(grades), "notes": dict(notes)}, None


def _is_over(sitting: Sitting) -> bool:
    given = [answer.right for _, answer in answers_of(sitting)]
    if sitting.trials:
        return len(given) >= sitting.trials
    return len(given) >= _MOST_SEQUENTIAL or bound_reached(method_of(sitting.test), [bool(right) for right in given])


def _bytes(sides: list[Clip]) -> int:
    return sum(side.nbytes for side in sides)


def bound_reached(method: Method, rights: Sequence[bool]) -> bool:
    """Whether a sequential sitting has come to an end."""
    readings = sequential_readings(rights, method.heard, method.false_alarm, method.miss)
    ratio, upper, lower = (value_of(readings, key) for key in ("abx_ratio", "abx_upper", "abx_lower"))
    assert ratio is not None
    assert upper is not None
    assert lower is not None
    return ratio >= upper or ratio <= lower


@cached(
    LRUCache(_CACHED_BYTES, getsizeof=_bytes),
    key=lambda session, test: hashkey(test.id, *(side["sha256"] for side in test.sides)),
    lock=Lock(),
)
def _samples(session: Session, test: ListeningTest) -> list[Clip]:
    """The samples of all sides of a test, as 32-bit floats."""
    sources = [BlobSource(session, find_content(session, side["sha256"])) for side in test.sides]
    return [source.read(0, source.frames).astype(np.float32) for source in sources]
