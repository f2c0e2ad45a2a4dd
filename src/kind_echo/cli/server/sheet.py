"""A run's sheet as the server sends it: what this command reads of it."""

from typing import NotRequired, TypedDict

from kind_echo.core.verdicts.verdict import VerdictName


class BuildThere(TypedDict):
    """A build."""

    version: str


class SheetRun(TypedDict):
    """The run itself, with counts of cells by verdict."""

    effect: str
    plan: str
    build: BuildThere
    cells: int
    finished: int
    stopped_by: str | None
    verdicts: dict[str, int]


class SheetCase(TypedDict):
    """A row."""

    id: int
    signal: str
    setting: str


class SheetCondition(TypedDict):
    """A column; a server of before knows nothing of `hosting`."""

    id: int
    host: str
    host_version: str
    mode: str
    rate: int
    block_size: int
    channels: int
    word_length: str
    hosting: NotRequired[str]


class SheetDecision(TypedDict):
    """What was decided on a cell last."""

    holds: bool
    kind: str
    who: str
    why: str
    until: str | None


class SheetCell(TypedDict):
    """A cell."""

    id: int
    case_id: int
    condition_id: int
    state: str
    verdict: VerdictName
    why: str
    ink: float
    needs_you: bool
    decision: SheetDecision | None


class SheetFinding(TypedDict):
    """What many cells have in common."""

    headline: str
    where: str
    cells: list[int]
    undecided: int


class SheetSibling(TypedDict):
    """The newest run of the same plan on another build."""

    run_id: int
    version: str


class Sheet(TypedDict):
    """All of it.

    `for_kit` counts cells that people render, `lacking` those that wait, by the host in which no known machine has the
    build.
    """

    run: SheetRun
    siblings: list[SheetSibling]
    for_kit: int
    lacking: dict[str, int]
    cases: list[SheetCase]
    conditions: list[SheetCondition]
    cells: list[SheetCell]
    findings: list[SheetFinding]
