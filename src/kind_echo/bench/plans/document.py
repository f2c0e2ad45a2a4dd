"""A plan as a person writes it, in YAML or in the editor: its parts, and what is wrong with one."""

from collections.abc import Mapping
from typing import Annotated, Any, Literal, Required, get_args

import yaml
from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError, model_validator
from typing_extensions import TypedDict

from kind_echo.core.registry.errors import Invalid
from kind_echo.core.registry.measure import Family, Limit
from kind_echo.core.registry.measures import MEASURES
from kind_echo.core.signals import SignalDocument
from kind_echo.database.states import Against
from kind_echo.renderers.contract import VARIATIONS
from kind_echo.wording.conditions import rates_text
from kind_echo.wording.figures import limit_text

Value = float | int | str


class Course(TypedDict, total=False):
    """A parameter that moves: `values` at times in seconds, stepped, or on lines from each to the next."""

    __pydantic_config__ = ConfigDict(extra="forbid")  # type: ignore[misc]

    at: Required[Annotated[list[Annotated[float, Field(ge=0, le=3600)]], Field(min_length=1, max_length=1000)]]
    values: Required[Annotated[list[Value], Field(max_length=1000)]]
    ramp: bool


def _in_order_of_time(course: Course) -> Course:
    if len(course["values"]) != len(course["at"]) or course["at"] != sorted(set(course["at"])):
        raise ValueError("a course has a value for each time, and its times go up")
    return course


Values = dict[str, Value | Annotated[Course, AfterValidator(_in_order_of_time)]]
WordLength = Literal["FLOAT", "DOUBLE", "PCM_16", "PCM_24"]
Mode = Literal["real time", "offline"]
Variation = Literal["blocks", "state", "instances", "reset"]
Hosting = Literal["latency off", "by the clock"]

BLOCKS: dict[str, int] = {"real time": 128, "offline": 512}
"""Frames that a host processes at a time, where a plan does not say."""

MOST_CELLS = 20_000
"""Of a plan: rows times columns."""

MOST_CHANNELS = 2
"""Of a condition."""

_MOST_REASONS = 20
_DEEPEST = 20  # lists and mappings in one another; a plan has seven
_MOST_PARTS = 200_000

Name = Annotated[str, Field(min_length=1, max_length=120)]


class BadPlan(Invalid):
    """A plan cannot be used; the reasons, each with its place."""

    def __init__(self, reasons: list[str]) -> None:
        self.reasons = reasons
        said = reasons[:_MOST_REASONS]
        if len(reasons) > len(said):
            said = [*said, f"and {len(reasons) - len(said)} more"]
        super().__init__(f"The plan cannot be used: {'; '.join(said)}.")


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class PlanLimit(_Part):
    """The bounds of a measure, and why they are not the usual ones. With neither bound it is not judged."""

    at_least: float | None = None
    at_most: float | None = None
    because: str = Field(default="", max_length=400)

    def limit(self) -> Limit | None:
        """The bounds; None where the measure is not to be judged."""
        return None if self.at_least is None and self.at_most is None else Limit(self.at_least, self.at_most)


def _known_measures(limits: dict[str, PlanLimit]) -> dict[str, PlanLimit]:
    unknown = sorted(set(limits) - set(MEASURES))
    if unknown:
        raise ValueError(f"there is no measure {', '.join(unknown)}")
    return limits


class Limited(_Part):
    """A part of a plan that has limits of its own."""

    limits: dict[str, PlanLimit] = {}

    @model_validator(mode="after")
    def _limits_are_of_measures(self) -> "Limited":
        _known_measures(self.limits)
        return self


class Sweep(_Part):
    """A parameter that takes several values, one after the other; all else as the setting has it.

    `summed` makes one render of them all: what comes out at each value, added up, as the bands of a splitter are.
    """

    parameter: Name
    values: list[Value] = Field(min_length=1, max_length=200)
    summed: bool = False


class Law(_Part):
    """The law expected of a compressor: threshold + (in − threshold) / ratio + make-up, above a quadratic knee."""

    threshold: float = Field(ge=-120, le=24)
    ratio: float = Field(ge=1, le=1000)
    knee: float = Field(default=0.0, ge=0, le=60)
    makeup: float = Field(default=0.0, ge=-60, le=60)


class PlanCase(Limited):
    """A signal through a setting, or through several that a sweep makes of it.

    `measures` names the families that are judged; all that come with the signal unless given. `against` is what its
    renders are compared with: their approved references, or the signal itself. `expected` is the law that levels are
    held against. `variation` is what the host does otherwise in the second take and those after it: with it there are
    two at least.
    """

    signal: Name
    setting: Name
    sweep: Sweep | None = None
    takes: int = Field(default=1, ge=1, le=50)
    against: Against = "reference"
    measures: list[Family] | None = Field(default=None, max_length=50)
    expected: Law | None = None
    variation: Variation | None = None

    @model_validator(mode="after")
    def _varies_a_take(self) -> "PlanCase":
        if self.variation is not None and self.takes < 2:
            raise ValueError("what varies from take to take needs two takes at least")
        return self

    @property
    def rows(self) -> int:
        """How many rows of the sheet it makes."""
        return 1 if self.sweep is None or self.sweep.summed else len(self.sweep.values)


class PlanCondition(Limited):
    """A version of a host in some modes, at some rates, with some block sizes.

    `hosting` is what the host does beside that: it takes off the latency that the effect tells, or gives it each block
    at its time only.
    """

    host: Name
    version: Name
    modes: list[Mode] = Field(min_length=1, max_length=2)
    rates: list[Annotated[int, Field(ge=8000, le=384_000)]] = Field(min_length=1, max_length=50)
    blocks: list[Annotated[int, Field(ge=1, le=65_536)]] = Field(default=[], max_length=200)
    channels: int = Field(default=1, ge=1, le=MOST_CHANNELS)
    word_length: WordLength = "FLOAT"
    hosting: list[Hosting] = Field(default=[], max_length=2)

    @model_validator(mode="after")
    def _is_in_time(self) -> "PlanCondition":
        self.hosting = [one for one in get_args(Hosting) if one in self.hosting]
        if "by the clock" in self.hosting and self.modes != ["real time"]:
            raise ValueError("blocks go by the clock in real time alone")
        return self

    @property
    def columns(self) -> int:
        """How many columns of the sheet it makes."""
        return len(self.modes) * len(self.rates) * max(1, len(self.blocks))


class Exclusion(_Part):
    """What is not rendered: all cells that are alike in everything that is named."""

    signal: str | None = None
    setting: str | None = None
    host: str | None = None
    version: str | None = None
    mode: Mode | None = None
    rate: int | None = None
    block: int | None = None

    @model_validator(mode="after")
    def _names_something(self) -> "Exclusion":
        if not self.model_dump(exclude_none=True):
            raise ValueError("an exclusion must name something")
        return self

    def holds(self, has: Mapping[str, Value]) -> bool:
        """Whether something that has some of these factors is excluded by all of those."""
        return all(getattr(self, name) in (None, value) for name, value in has.items())


class PlanDocument(Limited):
    """A whole plan. Signals and settings that it brings along are kept under their names when it is."""

    plan: Name
    effect: Name
    note: str = Field(default="", max_length=2000)
    signals: dict[Name, SignalDocument] = Field(default={}, max_length=1000)
    settings: dict[Name, Values] = Field(default={}, max_length=1000)
    cases: list[PlanCase] = Field(min_length=1, max_length=2000)
    conditions: list[PlanCondition] = Field(min_length=1, max_length=500)
    exclude: list[Exclusion] = Field(default=[], max_length=1000)

    @model_validator(mode="after")
    def _is_no_larger_than_any(self) -> "PlanDocument":
        cells = sum(case.rows for case in self.cases) * sum(one.columns for one in self.conditions)
        if cells > MOST_CELLS:
            raise ValueError(f"it has {cells} cells, and {MOST_CELLS} are the most")
        return self


def check_document(data: object) -> PlanDocument:
    """The plan that some data is. Raises BadPlan."""
    try:
        return PlanDocument.model_validate(data)
    except ValidationError as error:
        raise BadPlan([_reason(one) for one in error.errors()]) from error


def read_yaml(text: str) -> PlanDocument:
    """A plan from YAML. Raises BadPlan, with the line where the text is no YAML."""
    try:
        _look_at_parts(text)
        data = yaml.load(text, yaml.CSafeLoader)
    except yaml.YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        # What is missing at the end is missing on the line after the last one, for the parser.
        where = f"line {min(mark.line, text.rstrip().count(chr(10))) + 1}: " if mark is not None else ""
        raise BadPlan([f"{where}{getattr(error, 'problem', None) or 'this is not YAML'}"]) from error
    except ValueError as error:
        # A number of more digits than any is read with, or a day that no calendar has.
        raise BadPlan([f"a value cannot be read: {error}"]) from error
    if not isinstance(data, dict):
        raise BadPlan(["it has no parts such as plan, effect, cases and conditions"])
    return check_document(data)


def _look_at_parts(text: str) -> None:
    """Raises BadPlan for what would cost more than any plan is worth, before it is built.

    A few lines of aliases can stand for more than any memory holds, and lists in lists for more than any stack.
    """
    depth = 0
    for count, event in enumerate(yaml.parse(text, Loader=yaml.CSafeLoader)):
        line = event.start_mark.line + 1 if event.start_mark is not None else 1
        if isinstance(event, yaml.AliasEvent):
            raise BadPlan([f"line {line}: an alias is not taken; write out what it stands for"])
        depth += isinstance(event, yaml.CollectionStartEvent) - isinstance(event, yaml.CollectionEndEvent)
        if depth > _DEEPEST:
            raise BadPlan([f"line {line}: it is nested deeper than any plan is"])
        if count > _MOST_PARTS:
            raise BadPlan([f"line {line}: it has more than {_MOST_PARTS} parts"])


def write_yaml(document: PlanDocument) -> str:
    """A plan as YAML: the same plan gives the same text, and parts that are as usual are left out."""
    data = _in_order(document.model_dump(mode="json", exclude_defaults=True))
    order = [name for name in PlanDocument.model_fields if name in data]
    text: str = yaml.safe_dump(
        {name: data[name] for name in ("plan", "effect", *(n for n in order if n not in ("plan", "effect")))},
        sort_keys=False, allow_unicode=True, width=110,
    )  # fmt: skip
    return text


def _in_order(data: dict[str, Any]) -> dict[str, Any]:
    """The same with what has names, not places, by name: a database keeps no order of its own."""
    for part in (data, *data.get("cases", ()), *data.get("conditions", ())):
        if "limits" in part:
            part["limits"] = dict(sorted(part["limits"].items()))
    for name in ("signals", "settings"):
        if name in data:
            data[name] = {key: _kind_first(data[name][key]) for key in sorted(data[name])}
    return data


def _kind_first(values: dict[str, Any]) -> dict[str, Any]:
    return dict(sorted(values.items(), key=lambda item: (item[0] != "kind", item[0])))


def differences(before: PlanDocument, after: PlanDocument) -> list[str]:
    """What one plan has that the other has not, in words; nothing for plans that are alike."""
    said = []
    for name, one, other in (
        ("case", [_case_text(c) for c in before.cases], [_case_text(c) for c in after.cases]),
        ("condition", [_condition_text(c) for c in before.conditions], [_condition_text(c) for c in after.conditions]),
        ("exclusion", [_exclusion_text(e) for e in before.exclude], [_exclusion_text(e) for e in after.exclude]),
        ("limit", _limit_texts(before), _limit_texts(after)),
    ):
        said += [f"{name} added: {text}" for text in other if text not in one]
        said += [f"{name} removed: {text}" for text in one if text not in other]
    return said


def _reason(error: Any) -> str:
    place = ".".join(str(part + 1) if isinstance(part, int) else str(part) for part in error["loc"])
    message = str(error["msg"]).removeprefix("Value error, ")
    return f"{place}: {message}" if place else message


def _case_text(case: PlanCase) -> str:
    text = f"{case.signal} through {case.setting}"
    if case.sweep is not None:
        between = " + " if case.sweep.summed else ", "
        text += f", {case.sweep.parameter} {between.join(f'{v}' for v in case.sweep.values)}"
    if case.takes > 1:
        text += f", {case.takes} takes"
    if case.variation is not None:
        text += f" with {VARIATIONS[case.variation]}"
    if case.against == "signal":
        text += ", against the signal"
    if case.expected is not None:
        text += f", {case.expected.ratio:g}:1 over {case.expected.threshold:g} dBFS expected"
    return text if case.measures is None else f"{text}, judged by {', '.join(case.measures)}"


def _condition_text(one: PlanCondition) -> str:
    blocks = f", blocks of {', '.join(map(str, one.blocks))}" if one.blocks else ""
    channels = ", two channels" if one.channels == 2 else ""
    word = "" if one.word_length == "FLOAT" else f", {one.word_length}"
    beside = f", {', '.join(one.hosting)}" if one.hosting else ""
    modes = f"{' and '.join(one.modes)}{beside}"
    return f"{one.host} {one.version}, {modes}, {rates_text(one.rates)}{blocks}{channels}{word}"


def _exclusion_text(one: Exclusion) -> str:
    return ", ".join(f"{name} {value}" for name, value in one.model_dump(exclude_none=True).items())


def _limit_texts(document: PlanDocument) -> list[str]:
    owners: list[tuple[str, dict[str, PlanLimit]]] = [("everywhere", document.limits)]
    owners += [(_case_text(case), case.limits) for case in document.cases]
    owners += [(_condition_text(one), one.limits) for one in document.conditions]
    return [f"{MEASURES[key].title} {_bounds(limit)}, {where}" for where, limits in owners
            for key, limit in limits.items()]  # fmt: skip


def _bounds(limit: PlanLimit) -> str:
    text = limit_text(Limit(limit.at_least, limit.at_most)) or "not judged"
    return f"{text} ({limit.because})" if limit.because else text
