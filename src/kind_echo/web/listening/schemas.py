"""Bodies of listening."""

from datetime import datetime
from typing import Annotated, Literal

from pydantic import AwareDatetime, Field

from kind_echo.audio_io.codecs import Codec
from kind_echo.bench.listening import LEAST_SIDES, MOST_SIDES, Align, Named
from kind_echo.core.listening.levels import Matched
from kind_echo.core.listening.rating import Scale
from kind_echo.database.states import SittingState, TestKind
from kind_echo.web.http.schemas import Body, RequestModel, ShownTitle

_SPEC = Field(min_length=1, max_length=400)


class SpecBody(Body):
    """A side: its address, with ~CODEC-BITRATE for a lossy copy, or two with ! between for their difference."""

    spec: str = _SPEC
    name: str = Field(min_length=1, max_length=200)


class AskedBody(Body):
    """How sides are listened to: `passage` one that is found, or `start` and `end` in s where it is null."""

    sides: list[SpecBody] = Field(min_length=LEAST_SIDES, max_length=MOST_SIDES)
    align: Align = "whole"
    by: Matched = "loudness_integrated"
    passage: Named | None = "loudest"
    start: float | None = Field(default=None, ge=0)
    end: float | None = Field(default=None, ge=0)
    low: float | None = Field(default=None, ge=0)
    high: float | None = Field(default=None, gt=0)
    snap: bool = True


class PartBody(Body):
    """A source that goes into a side, and what is done to it."""

    address: str = Field(max_length=200)
    codec: Codec | None = None
    bitrate: float = 0.0
    shift: int = Field(default=0, ge=-(1 << 40), le=1 << 40)
    fraction: float = Field(default=0.0, ge=-1, le=1)
    scale: float = Field(default=1.0, ge=-1, le=1)


class HeardSideBody(Body):
    """A side as it is played: `gain` in dB brings it to the level of the others, `error` is what is left of that."""

    spec: str
    name: str
    parts: list[PartBody]
    difference: bool
    delay: float | None
    gain: float
    error: float | None
    peak: float | None
    why: str
    notes: str


class ListeningBody(Body):
    """Sides on the time axis of the first; the passage in frames, of up to `most_seconds`.

    `safe_peak`: dBFS that a difference may reach.
    """

    rate: int
    channels: int
    frames: int
    start: int
    stop: int
    sides: list[HeardSideBody]
    found: str
    most_seconds: float
    safe_peak: float


class ClipQuery(RequestModel):
    """A passage of a side: `parts` as JSON, as they came with it."""

    parts: str = Field(max_length=4000)
    rate: int = Field(ge=4000, le=768_000)
    channels: int = Field(ge=1, le=2)
    start: int = Field(ge=0)
    stop: int = Field(ge=1)
    low: float | None = Field(default=None, ge=0)
    high: float | None = Field(default=None, gt=0)


class OutlookQuery(RequestModel):
    """A number of trials, and how often a listener who hears it is right."""

    trials: int = Field(ge=1, le=200)
    heard: float = Field(default=0.7, gt=0.5, lt=1)


class OutlookBody(Body):
    """What so many trials can show, in plain words."""

    words: str


class NewTestBody(Body):
    """A test to be made of sides that were listened to; `subject` is the page that they came from, as "cells/12"."""

    asked: AskedBody
    kind: TestKind
    name: Annotated[str, Field(min_length=1, max_length=200), ShownTitle]
    note: str = Field(default="", max_length=4000)
    subject: str = Field(default="", max_length=200)
    trials: int = Field(default=16, ge=0, le=200)
    heard: float = Field(default=0.7, gt=0.5, lt=1)
    false_alarm: float = Field(default=0.05, gt=0, lt=0.5)
    miss: float = Field(default=0.2, gt=0, lt=0.5)
    scale: Scale | None = None
    sittings: int = Field(default=1, ge=1, le=20)
    until: AwareDatetime | None = None


class TestPath(RequestModel):
    """The number of a test."""

    test_id: int


class TestsQuery(RequestModel):
    """A page of tests: those older than one."""

    before: int | None = None


class TestSideBody(Body):
    """A side of a test; hidden ones are the copies of the reference that a rating adds."""

    name: str
    hidden: bool
    gain: float
    error: float | None


class TestBody(Body):
    """A test. `results_hidden`: nobody sees results before `until`. `mine`: my sitting that is under way.

    `sittings` is how many each person sits, set beforehand, and `sat` how many of mine are over.
    """

    id: int
    kind: TestKind
    name: str
    note: str
    made_by: str
    made_at: datetime
    until: datetime | None
    closed: bool
    results_hidden: bool
    scale: Scale | None
    trials: int
    sittings: int
    sat: int
    outlook: str
    rate: int
    channels: int
    start: int
    stop: int
    by: Matched
    band: list[float] | None
    sides: list[TestSideBody]
    mine: int | None


class TestLineBody(Body):
    """A test in a list."""

    id: int
    kind: TestKind
    name: str
    made_by: str
    made_at: datetime
    until: datetime | None
    sides: list[str]
    sittings: int
    under_way: int


class TestsBody(Body):
    """Tests, newest first; `more` where there are older ones."""

    tests: list[TestLineBody]
    more: bool


class MadeTestBody(Body):
    """The number of a test that was made."""

    id: int


class SittingPath(RequestModel):
    """The number of a sitting."""

    sitting_id: int


class SlotBody(Body):
    """What can be played in a trial; `graded` where it is to be given a grade."""

    label: str
    address: str
    graded: bool


class TrialBody(Body):
    """The trial that is to be answered."""

    number: int
    slots: list[SlotBody]


class SittingBody(Body):
    """A sitting: `trials` in all, 0 where bounds end it; how many are answered, and the one under way."""

    id: int
    test_id: int
    state: SittingState
    trials: int
    answered: int
    trial: TrialBody | None


class AnswerBody(Body):
    """An answer to a trial: `choice` of two, or a grade for each letter."""

    number: int = Field(ge=1)
    choice: Literal[0, 1] | None = None
    grades: dict[str, float] | None = None
    notes: dict[str, str] = Field(default={}, max_length=16)
    switches: int = Field(default=0, ge=0, le=1_000_000)
    seconds: float = Field(default=0.0, ge=0, le=1e7)


class OddsBody(Body):
    """What right answers prove: p by guessing, bounds of the share right at 95 %.

    Where it is `corrected`, p is a bound that holds however often somebody looked before.
    """

    correct: int
    trials: int
    p: float | None
    low: float | None
    high: float | None
    words: str
    conclusive: bool
    corrected: bool


class MeanBody(Body):
    """Mean grade of a side with its confidence interval at 95 %."""

    side: str
    mean: float
    low: float | None
    high: float | None
    count: int


class SittingResultBody(Body):
    """A sitting that is over; a broken-off one counts for nothing. `note`: why it has no odds by itself."""

    sitting_id: int
    test_id: int
    who: str
    begun_at: datetime
    ended_at: datetime | None
    state: SittingState
    trials: int
    rights: list[bool]
    odds: OddsBody | None
    note: str
    means: list[MeanBody]


class PersonOddsBody(Body):
    """Pooled sittings of one person."""

    who: str
    odds: OddsBody


class ScreenedBody(Body):
    """A listener whose grades do not count, and the rule."""

    listener: str
    why: str


class ResultsBody(Body):
    """What a test came to."""

    sittings: list[SittingResultBody]
    by_person: list[PersonOddsBody]
    pooled: OddsBody | None
    means: list[MeanBody]
    screened: list[ScreenedBody]


class HeardPath(RequestModel):
    """The address of a clip of a trial."""

    secret: str = Field(max_length=100)


class NotesQuery(RequestModel):
    """The page whose notes are asked for."""

    subject: str = Field(max_length=200)


class NewNoteBody(Body):
    """Something that was heard."""

    subject: str = Field(min_length=1, max_length=200)
    side: str = Field(max_length=200)
    second: float | None = Field(default=None, ge=0)
    text: str = Field(min_length=1, max_length=2000)


class NoteBody(Body):
    """A note, and by whom."""

    id: int
    side: str
    second: float | None
    text: str
    who: str
    written_at: datetime


class NotesBody(Body):
    """Notes on a page, oldest first, tests that were made there, newest first, and the words of the house."""

    notes: list[NoteBody]
    tests: list[TestLineBody]
    words: list[str]


class RunNoteBody(Body):
    """A note, and the cell that it is on; null for one on the run as a whole."""

    cell_id: int | None
    note: NoteBody


class RunTestBody(Body):
    """A test, and the cell that it is of; null for one of several. Results are null while they are hidden."""

    cell_id: int | None
    test: TestLineBody
    results: ResultsBody | None


class RunHeardBody(Body):
    """What was heard of a run: notes, oldest first, and tests, newest first."""

    notes: list[RunNoteBody]
    tests: list[RunTestBody]


class NotePath(RequestModel):
    """The number of a note."""

    note_id: int


class WordsBody(Body):
    """The words of the house for what is heard."""

    words: list[str] = Field(max_length=100)
