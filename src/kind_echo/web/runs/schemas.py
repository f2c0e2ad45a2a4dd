"""Bodies of plans, runs and their sheets."""

from datetime import datetime
from typing import Literal

from pydantic import Field

from kind_echo.bench.evidence import Kept
from kind_echo.core.causes.cause import CauseName
from kind_echo.core.verdicts.verdict import Ground, VerdictName
from kind_echo.database.states import CellState
from kind_echo.web.http.pair_schemas import JudgedReadingBody, StandingBody
from kind_echo.web.http.schemas import Body, BuildBody, ConditionBody


class VerdictCounts(Body):
    """Cells by verdict."""

    passed: int = 0
    changed: int = 0
    failed: int = 0
    no_reading: int = 0
    waiting: int = 0


class SinceBody(Body):
    """The run of the same plan before, and by how many more cells each verdict stands now; its cells may be others."""

    run_id: int
    version: str
    more: VerdictCounts


class RunBody(Body):
    """A run and how it stands."""

    id: int
    effect: str
    plan: str
    plan_id: int
    revision: int
    build: BuildBody
    requested_by: str
    requested_at: datetime
    priority: int
    forced: bool
    stopped_by: str | None
    archived: bool
    cells: int
    finished: int
    needs_you: int
    seconds_left: float | None
    verdicts: VerdictCounts
    since: SinceBody | None


class StartedRunBody(RunBody):
    """A run that was started, or one that was there and is joined."""

    joined: bool


class RunsBody(Body):
    """Some of the runs, newest first; whether there are older ones; the names of all effects that have runs."""

    runs: list[RunBody]
    older: bool
    effects: list[str]


class RunsQuery(Body):
    """Which runs: of one effect, with words in their plan, build or who asked, older than a run; how many at most.

    Those that are archived, or those that are not.
    """

    effect: str | None = None
    text: str = Field("", max_length=200)
    before: int | None = Field(None, ge=1)
    most: int = Field(50, ge=1, le=200)
    archived: bool = False


class NewRunBody(Body):
    """A run to start.

    With `join`, one that is under way on the same build is answered instead, or one that is over whose `artefact`, what
    the build was made of, is the same.
    """

    plan_id: int
    build_id: int
    render: Literal["what changed", "everything"] = "what changed"
    join: bool = False
    artefact: str = Field(default="", max_length=200)


class CaseBody(Body):
    """A row of the sheet."""

    id: int
    signal: str
    setting: str


class CellBody(Body):
    """A cell of the sheet; `value` is its reading of the measure that the sheet shows.

    `first`: it is fit to be the first reference of its place, which has none.
    """

    id: int
    case_id: int
    condition_id: int
    state: CellState
    verdict: VerdictName
    why: str
    ink: float
    unfit: bool
    reused: bool
    identical: bool
    value: float | None
    needs_you: bool
    change: Literal["new", "still", "fixed"] | None
    decision: StandingBody | None
    other: int | None
    first: bool


class SymptomBody(Body):
    """One thing that cells show, as facts and in words.

    `measure` broke its limit, or has no value; `found` is the reading of one of the cells; `amount` tells causes apart;
    `cause` alone explains the difference; `other` is what the renders were compared with.
    """

    verdict: VerdictName
    ground: Ground
    measure: str | None
    found: JudgedReadingBody | None
    amount: float | None
    cause: CauseName | None
    other: str
    words: str


class FindingBody(Body):
    """Something that cells share: what, where, since which build, and what was decided of it before."""

    key: str
    verdict: VerdictName
    headline: str
    symptoms: list[SymptomBody]
    where: str
    worst: str
    cells: list[int]
    undecided: int
    since: str | None
    before: str | None


class SiblingBody(Body):
    """Another run of the same plan, by its build."""

    run_id: int
    version: str


class SheetBody(Body):
    """A run as a sheet: cases down, conditions across.

    `by_hand` cells are rendered by people, `for_kit` of them still wait for it; `lacking` counts waiting cells by the
    host in which no known machine has the build. `version` names all of it; where `since` is not null, `cells` has
    those alone that differ from the sheet of that version.
    """

    run: RunBody
    siblings: list[SiblingBody]
    cases: list[CaseBody]
    conditions: list[ConditionBody]
    cells: list[CellBody]
    findings: list[FindingBody]
    measure: str
    measures: list[str]
    before: SiblingBody | None
    latest_act: int
    ink_at_limit: float
    by_hand: int
    for_kit: int
    lacking: dict[str, int]
    version: str = ""
    since: str | None = None


class SheetQuery(Body):
    """Which measure the figures and the ink of a sheet are of, the plan's own where none is named; what it is compared
    with, where no reference.

    `since` is the version of a sheet of the same question that the reader has: of the cells only those are sent then
    that are not the same in it, if that version is still known.
    """

    measure: str = ""
    against: str = ""
    since: str = Field(default="", max_length=64)


class EvidenceQuery(Body):
    """Of which cells the audio is wanted: of those that did not pass, of all, of none."""

    audio: Kept = "trouble"


class PicturesBody(Body):
    """Level of the difference over time, in dBFS, by number of the cell; empty for a run of many cells."""

    levels: dict[int, list[float]]


class AcrossBody(Body):
    """What a run is to be compared with: build:RUN, host:NAME VERSION, mode:MODE or rate:HERTZ."""

    against: str = Field(min_length=1, max_length=200)


class ComparingBody(Body):
    """How many pairs are compared."""

    pairs: int


class RunChangeBody(Body):
    """What is to become of a run."""

    change: Literal["stop", "resume", "put first", "archive", "bring back"]


class RenderAgainBody(Body):
    """Cells to render anew."""

    cell_ids: list[int] = Field(min_length=1, max_length=10_000)


class RenderedAgainBody(Body):
    """How many cells are rendered anew."""

    cells: int
