"""The shapes of a pair: its sides, readings, causes, curves and places."""

from datetime import date, datetime
from typing import Literal

from pydantic import Field

from kind_echo.core.causes.cause import CauseName
from kind_echo.core.registry.limits import Judgement
from kind_echo.core.registry.readings import Reason
from kind_echo.core.verdicts.verdict import Ground, VerdictName
from kind_echo.database.states import CellState, DecisionKind, PairState
from kind_echo.web.http.schemas import Body, ConditionBody, LimitBody


class ReadingBody(Body):
    """One reading, and how it stands to its limit."""

    measure: str
    channel: str
    value: float | None
    unit: str
    why: str | None
    uncertainty: float | None = None
    at_most: float | None = None
    reason: Reason | None = None
    limit: LimitBody | None = None
    judgement: Judgement | None = None


class JudgedReadingBody(Body):
    """A reading that a verdict rests on, and the limit that it was held to, where one was."""

    measure: str
    value: float | None
    unit: str
    why: str | None
    reason: Reason | None
    limit: LimitBody | None


class VerdictBody(Body):
    """What a verdict rests on: its ground, what the render was compared with, and the readings, worst first."""

    ground: Ground
    other: str
    found: list[JudgedReadingBody]


class SideBody(Body):
    """One side of a pair: its address is what waveform, spectrum and samples are asked for by.

    Of one whose audio was dropped by the rule for storage there is a waveform, and no sample. `flac`: it can be had as
    that, too.
    """

    address: str
    name: str
    detail: str
    flac: bool = False
    rate: int
    channels: int
    frames: int
    sha256: str | None
    dropped_at: datetime | None


class SpectrumBody(Body):
    """Level over frequency: Hz and dBFS."""

    frequencies: list[float]
    levels: list[float]
    window: int


class SpectraBody(Body):
    """The spectra of a pair's three sides."""

    reference: SpectrumBody
    render: SpectrumBody
    difference: SpectrumBody


class LevelMapBody(Body):
    """Level in dBFS by column of time and row of frequency, rows in equal steps of an octave or of frequency.

    `share` is the part of the frames that was looked at.
    """

    levels: list[list[int]]
    low: float
    high: float
    floor: float
    share: float


class NeedlesBody(Body):
    """What needles show along a file, a value at the end of each `step` of seconds; what is softer reads `floor`.

    `momentary` and `short` in LUFS; `needle` in VU, `peak` and `true_peak` in dBFS with their hold, by channel.
    """

    step: float
    floor: float
    momentary: list[float]
    short: list[float]
    needle: list[list[float]]
    peak: list[list[float]]
    true_peak: list[list[float]]


class RunningBandsBody(Body):
    """The spectrum of the last `step` of seconds, at the end of each such step from the `first` on, in third octaves.

    `levels` in dBFS (AES17), by step and band; what is softer reads `floor`.
    """

    step: float
    first: int
    floor: float
    frequencies: list[float]
    levels: list[list[float]]


class AlignmentBody(Body):
    """What was taken off the render before the difference was taken."""

    shift: int
    fraction: float
    scale: float


class StandingBody(Body):
    """A decision that a cell stands under, or one from before that holds no more."""

    kind: DecisionKind
    who: str
    at: datetime
    why: str
    ticket: str
    until: date | None
    act_id: int
    version: str
    holds: bool
    here: bool


class PairCellBody(Body):
    """Where in a run a pair stands."""

    cell_id: int
    run_id: int
    effect: str
    version: str
    signal: str
    setting: str
    condition: ConditionBody
    reference_version: str | None
    beside: str | None
    unfit: bool
    claimed_latency: int | None
    log: str
    decision: StandingBody | None
    latest_act: int
    previous_cell: int | None
    next_cell: int | None


class CauseBody(Body):
    """One thing that explains a part of a difference, and the words for it; `takes_off` in dB, its place in seconds.

    `orders`: first and last order of a tone, where it is of orders; `is_new`: nothing of them is in the reference;
    `sides`: whose noise it is, where the reference has some of its own.
    """

    cause: CauseName
    channel: str
    amount: float | None
    unit: str
    takes_off: float | None
    why: str | None
    words: str
    start: float | None = None
    length: float | None = None
    orders: list[int] | None = None
    is_new: bool = False
    sides: Literal["both", "reference"] | None = None


class MarkBody(Body):
    """A place on a curve's axis at which something was read or found; without a text, a line of a grid."""

    x: float
    text: str


class CurveBody(Body):
    """A curve of one side; its name is its key in files."""

    name: str
    side: Literal["reference", "render", "difference"]
    x_unit: str
    y_unit: str
    x: list[float]
    y: list[float]
    marks: list[MarkBody] = Field(default=[])


class PlaceBody(Body):
    """A stretch of the reference's time axis, in s, that is worth a look: of the difference, or of the render alone."""

    of: Literal["difference", "render"]
    start: float
    length: float
    cause: CauseName | None
    amount: float
    unit: str
    reason: str


class PairBody(Body):
    """Two sides and all that was found of them; a side is null while it is not there.

    `reference_readings` are what the reference is by itself: levels, loudness, integrity; `difference_readings` the
    same of the difference. `signal` is what went in, where that is not the reference.
    """

    kind: Literal["cell", "files"]
    state: CellState
    verdict: VerdictName | None
    facts: VerdictBody | None
    why: str
    cell: PairCellBody | None
    reference: SideBody | None
    render: SideBody | None
    difference: SideBody | None
    signal: SideBody | None
    readings: list[ReadingBody]
    reference_readings: list[ReadingBody]
    difference_readings: list[ReadingBody]
    explanation: str
    causes: list[CauseBody]
    curves: list[CurveBody]
    places: list[PlaceBody]
    alignment: AlignmentBody | None
    spectra: SpectraBody | None


class StripBody(Body):
    """A stretch of audio for drawing, by channel: extremes of columns, or samples and the curve through them."""

    start: int
    stop: int
    low: list[list[float]]
    high: list[list[float]]
    samples: list[list[float]]
    curve: list[list[float]]
    curve_points: int


class UploadBody(Body):
    """A file that was kept."""

    id: int
    name: str
    rate: int
    channels: int
    frames: int
    subtype: str
    file_sha256: str


class NewComparisonBody(Body):
    """Two uploaded files to compare."""

    reference_id: int
    render_id: int
    align: Literal["none", "samples", "fraction"] = "samples"
    match_gain: bool = False
    match_polarity: bool = False
    max_delay: int | None = Field(default=None, ge=1)


class ComparisonBody(Body):
    """A comparison of two files, for a list."""

    id: int
    reference: str
    render: str
    created_at: datetime
    state: PairState
    brought_by: list[str]


class ComparisonsBody(Body):
    """Comparisons of files, newest first."""

    comparisons: list[ComparisonBody]
