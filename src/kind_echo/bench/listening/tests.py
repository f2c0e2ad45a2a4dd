"""Listening tests: what is asked, of which sides; made once, and never changed."""

import hashlib
import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from datetime import datetime, timedelta

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from kind_echo.audio_io.encoding import ENCODINGS
from kind_echo.bench.accounts import Caller
from kind_echo.bench.listening.sides import Listening, ListeningRequest, NothingToHear, Prepared, clip_of, prepare
from kind_echo.bench.queue import drop_unused
from kind_echo.bench.storage import check_space
from kind_echo.core.audio.source import ArraySource, Samples
from kind_echo.core.listening.blind import needed
from kind_echo.core.listening.clips import Band, band_of
from kind_echo.core.listening.documents import SideDocument
from kind_echo.core.listening.rating import Scale
from kind_echo.core.registry.errors import BadParameter, NotFound
from kind_echo.database.blobs import store_content
from kind_echo.database.models import Event, ListeningTest, Sitting
from kind_echo.database.states import TestKind

ANCHORS = {"anchor, 3.5 kHz": 3500.0, "anchor, 7 kHz": 7000.0}
"""Low-passed copies of the reference that BS.1534-3 hides among the sides, with the edge of each in Hz."""

HIDDEN_REFERENCE = "hidden reference"
MID_ANCHOR = "anchor, 7 kHz"
MOST_TRIALS = 200
MOST_SITTINGS = 20
_LONGEST = timedelta(days=366)


class TestNotFound(NotFound):
    """A listening test is asked for that is not there."""

    def __init__(self, test_id: int) -> None:
        self.test_id = test_id
        super().__init__(f"There is no listening test {test_id}.")


@dataclass(frozen=True)
class Method:
    """How a test asks.

    Attributes:
        kind: tell two apart, grade sides, or grade them in a hidden order without any standard.
        trials: of a sitting; 0 for a sequential one, which ends when a bound is reached.
        sittings: of each person; what more they sit counts in a sum alone that is corrected for looking.
        heard: share of right answers of a listener who hears it, for the power and the bounds.
        false_alarm, miss: error rates of a sequential test.
        scale: of a rating.
    """

    kind: TestKind
    trials: int = 16
    heard: float = 0.7
    false_alarm: float = 0.05
    miss: float = 0.2
    scale: Scale | None = None
    sittings: int = 1

    def __post_init__(self) -> None:
        if self.kind == "abx" and self.trials and needed(self.trials) is None:
            raise BadParameter("trials", self.trials, "at least 5: fewer could all be guessed")
        least = 0 if self.kind == "abx" else 1
        if not least <= self.trials <= MOST_TRIALS:
            raise BadParameter("trials", self.trials, f"from {least} to {MOST_TRIALS}")
        if not 1 <= self.sittings <= MOST_SITTINGS:
            raise BadParameter("sittings", self.sittings, f"from 1 to {MOST_SITTINGS}")
        if not 0.5 < self.heard < 1.0:
            raise BadParameter("heard", self.heard, "above 0.5 and below 1")
        for name, share in (("false_alarm", self.false_alarm), ("miss", self.miss)):
            if not 0.001 <= share < 0.5:
                raise BadParameter(name, share, "from 0.001 to below 0.5")
        if (self.kind == "rating") != (self.scale is not None):
            raise BadParameter("scale", self.scale, "that of a rating, and of nothing else")


def new_test(
    session: Session,
    specs: Sequence[tuple[str, str]],
    asked: ListeningRequest,
    method: Method,
    *,
    name: str,
    note: str = "",
    subject: str = "",
    until: datetime | None = None,
    who: str,
    now: datetime,
) -> ListeningTest:
    """Make a test. Its sides are rendered to clips now, so that nothing that is dropped later takes them away.

    The first side is the reference of a rating. Its hidden copy is added, and the anchors of BS.1534. `subject` is the
    page that the sides came from, as "cells/12".

    Raises:
        BadParameter: two sides alone are told apart, or a day that is past.
        NothingToHear: the sides are the same to the bit, or cannot be played side by side.
        ContentNotFound, AudioDropped, QuotaReached, StorageFull: as where audio is read and kept.
    """
    if method.kind == "abx" and len(specs) != 2:
        raise BadParameter("sides", len(specs), "two, which are to be told apart")
    if len(specs) < 2:
        raise BadParameter("sides", len(specs), "two or more")
    if until is not None and not now < until <= now + _LONGEST:
        raise BadParameter("until", f"{until:%Y-%m-%d}", "a day to come, within a year")
    heard = prepare(session, _told_apart(specs), asked)
    check_space(session, who)
    sides = [_kept(session, heard, side, asked.band, who) for side in heard.sides]
    if method.kind == "abx" and sides[0]["sha256"] == sides[1]["sha256"]:
        raise NothingToHear("over this passage, lined up and at one level, they are the same to the bit")
    if method.kind == "rating":
        sides += _hidden(session, heard, method, asked.band, who)
    check_space(session, who)
    options = {"way": asdict(method), "asked": asdict(asked)}
    asks = {"way": {k: v for k, v in options["way"].items() if k != "sittings"}, "asked": options["asked"]}
    alike = [side["sha256"] for side in sides], asks, heard.rate
    test = ListeningTest(
        kind=method.kind, name=name, note=note, subject=subject, made_by=who, made_at=now, until=until, rate=heard.rate,
        channels=heard.channels, start=heard.start, stop=heard.stop, sides=sides, options=options,
        alike=hashlib.sha256(json.dumps(alike, sort_keys=True).encode()).hexdigest(),
    )  # fmt: skip
    session.add(test)
    session.flush()
    return test


def find_test(session: Session, test_id: int) -> ListeningTest:
    """A test that was not deleted. Raises TestNotFound."""
    test = session.get(ListeningTest, test_id)
    if test is None or test.deleted_at is not None:
        raise TestNotFound(test_id)
    return test


def delete_test(session: Session, test_id: int, caller: Caller, now: datetime) -> None:
    """Delete a listening test: nobody can sit down to it any more, and its clips go in a while.

    What was drawn and answered is kept, and goes on to count where the same sides are tested again: else a guesser
    would delete the tests in which luck was against them.

    Raises:
        TestNotFound: there is no such test.
        NotAllowed: somebody else made it, and the caller keeps nothing here.
    """
    test = find_test(session, test_id)
    if caller.name != test.made_by:
        caller.need("keep")
    test.deleted_at = now
    session.flush()
    detail = {"test": test_id, "name": test.name, "made by": test.made_by}
    session.add(Event(at=now, who=caller.name, what="listening test deleted", detail=detail))
    drop_unused(session)


def method_of(test: ListeningTest) -> Method:
    """How a test asks."""
    return Method(**test.options["way"])


def list_tests(
    session: Session, before: int | None = None, count: int = 50, subjects: Sequence[str] | None = None
) -> list[tuple[ListeningTest, int, int]]:
    """The newest tests, each with its sittings that are over and those under way.

    Older than `before` where that is given, and of some pages alone where `subjects` are.
    """
    done = func.count(Sitting.id).filter(Sitting.state != "open")
    under_way = func.count(Sitting.id).filter(Sitting.state == "open")
    query = (
        select(ListeningTest, done, under_way)
        .outerjoin(Sitting, Sitting.test_id == ListeningTest.id)
        .where(ListeningTest.deleted_at.is_(None))
        .group_by(ListeningTest.id)
        .order_by(ListeningTest.id.desc())
        .limit(count)
    )
    if before is not None:
        query = query.where(ListeningTest.id < before)
    if subjects is not None:
        query = query.where(ListeningTest.subject.in_(subjects))
    return [(test, int(over), int(going)) for test, over, going in session.execute(query)]


def are_hidden(test: ListeningTest, now: datetime) -> bool:
    """Whether nobody sees results yet, not even who made the test."""
    return test.until is not None and now < test.until


def alike(session: Session, test: ListeningTest) -> list[int]:
    """Numbers of the tests whose sittings pool with those of this one, itself and deleted ones among them."""
    return list(session.scalars(select(ListeningTest.id).where(ListeningTest.alike == test.alike)))


def _told_apart(specs: Sequence[tuple[str, str]]) -> list[tuple[str, str]]:
    """The same with names that differ from each other, and from those of hidden copies: grades are kept by name."""
    taken = {HIDDEN_REFERENCE, *ANCHORS}
    found = []
    for spec, name in specs:
        free, number = name, 2
        while free in taken:
            free, number = f"{name} ({number})", number + 1
        taken.add(free)
        found.append((spec, free))
    return found


def _kept(session: Session, heard: Listening, side: Prepared, band: Band | None, who: str) -> SideDocument:
    clip = clip_of(session, side.parts, heard.rate, heard.channels, heard.start, heard.stop, band)
    return {
        "name": side.name, "hidden": False, "sha256": _store(session, heard, clip * 10 ** (side.level.gain / 20), who),
        "gain": side.level.gain, "error": side.level.error, "delay": side.delay,
    }  # fmt: skip


def _hidden(session: Session, heard: Listening, method: Method, band: Band | None, who: str) -> list[SideDocument]:
    """The copies of the reference that a rating hides: itself, and its anchors."""
    reference = heard.sides[0]
    clip = clip_of(session, reference.parts, heard.rate, heard.channels, heard.start, heard.stop, band)
    clip = clip * 10 ** (reference.level.gain / 20)
    copies = {HIDDEN_REFERENCE: clip}
    if method.scale == "BS.1534":
        # The loop is filtered as one: its end goes over into its start.
        around = ArraySource(np.tile(clip, (3, 1)), heard.rate)
        for name, edge in ANCHORS.items():
            copies[name] = band_of(around, len(clip), 2 * len(clip), (0.0, edge))
    return [
        {"name": name, "hidden": True, "sha256": _store(session, heard, samples, who), "gain": reference.level.gain,
         "error": None, "delay": reference.delay}
        for name, samples in copies.items()
    ]  # fmt: skip


def _store(session: Session, heard: Listening, samples: Samples, who: str) -> str:
    """Keep a clip as one of the files of who makes the test."""
    return store_content(session, ArraySource(samples, heard.rate), ENCODINGS["FLOAT"], brought_by=who).sha256
