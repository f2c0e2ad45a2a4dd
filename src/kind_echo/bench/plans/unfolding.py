"""What a document asks for, cell by cell: its cases and conditions unfolded, or all that is wrong with it."""

from collections import Counter
from dataclasses import dataclass, field, fields

from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.bench.plans.document import (
    BLOCKS,
    BadPlan,
    Mode,
    PlanCase,
    PlanCondition,
    PlanDocument,
    Values,
)
from kind_echo.bench.plans.expectations import expectations_of, expected_limits, law_for
from kind_echo.bench.plans.revisions import null_test_limits
from kind_echo.bench.signals import checked
from kind_echo.core.registry.errors import KindEchoError
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.offer_documents import ParameterDocument
from kind_echo.core.signals import SignalDocument, stimulus_of
from kind_echo.database.models import Effect, Host, Setting, Signal
from kind_echo.database.states import Against


@dataclass(frozen=True)
class SettingAsked:
    """A setting by its name and values; of a sum, the values of each of its parts."""

    name: str
    values: Values
    parts: tuple[Values, ...] = ()


@dataclass(frozen=True)
class CaseAsked:
    """A row of the sheet as a plan asks for it."""

    signal: str
    request: SignalDocument
    setting: SettingAsked
    limits: dict[str, Limit]
    takes: int
    against: Against
    expected: dict[str, float] | None = None
    variation: str = ""

    @property
    def renders(self) -> int:
        """How many renders one cell of it takes."""
        return self.takes * max(1, len(self.setting.parts))


@dataclass(frozen=True)
class ConditionAsked:
    """A column of the sheet as a plan asks for it: where its cells are rendered, and limits of its own.

    Attributes:
        hosting: what the host does beside that, parted by commas; empty for nothing.
    """

    host: str
    host_version: str
    mode: Mode
    rate: int
    block_size: int
    channels: int
    word_length: str
    hosting: str = ""
    limits: dict[str, Limit] = field(default_factory=dict, compare=False)

    @property
    def columns(self) -> dict[str, str | int]:
        """As the table of conditions has it."""
        return {one.name: getattr(self, one.name) for one in fields(self) if one.compare}


@dataclass(frozen=True)
class Unfolded:
    """A plan with its sweeps, modes, rates and blocks written out; nothing of it is in the database yet.

    Attributes:
        cases: the rows of the sheet.
        conditions: the columns.
        excluded: places of a case and a condition that are not rendered.
    """

    cases: list[CaseAsked]
    conditions: list[ConditionAsked]
    excluded: list[tuple[int, int]]

    @property
    def cells(self) -> int:
        """How many cells a run has."""
        return len(self.cases) * len(self.conditions) - len(self.excluded)

    @property
    def renders(self) -> int:
        """How many renders it takes."""
        renders = [case.renders for case in self.cases]
        return sum(renders) * len(self.conditions) - sum(renders[case] for case, _ in self.excluded)


def unfold(session: Session, document: PlanDocument) -> Unfolded:
    """Write a plan out. Raises BadPlan where it names what is not there, or what is something else by that name."""
    effect = session.scalar(select(Effect).where(Effect.name == document.effect))
    if effect is None:
        raise BadPlan([f"effect: there is no effect {document.effect}"])
    reasons: list[str] = []
    signals = _signals(session, document, reasons)
    settings = _settings(session, effect, document, reasons)
    expectations = expectations_of(session, effect)
    cases = []
    for place, case in enumerate(document.cases, start=1):
        if case.signal not in signals:
            reasons.append(f"cases.{place}: there is no signal {case.signal}")
        if case.setting not in settings:
            reasons.append(f"cases.{place}: {effect.name} has no setting {case.setting}")
        if case.signal in signals and case.setting in settings:
            # A sweep sets what the setting does not: what is expected of that is not of its parts.
            awaited = None if case.sweep is not None else expectations.get(case.setting)
            request = signals[case.signal]
            stimulus = stimulus_of(request)
            limits = _case_limits(document, case, expected_limits(awaited, stimulus))
            law = case.expected or law_for(awaited, stimulus)
            for setting in _swept(case, settings[case.setting], effect, place, reasons):
                expected = None if law is None else law.model_dump()
                asked = CaseAsked(
                    case.signal,
                    request,
                    setting,
                    limits,
                    case.takes,
                    case.against,
                    expected,
                    case.variation or "",
                )
                cases.append(asked)
    conditions = [found for place, one in enumerate(document.conditions, start=1)
                  for found in _conditions(session, one, place, effect, reasons)]  # fmt: skip
    _refuse_twice(cases, conditions, reasons)
    if reasons:
        raise BadPlan(reasons)
    unfolded = Unfolded(cases, conditions, _excluded(document, cases, conditions))
    if unfolded.cells == 0:
        raise BadPlan(["exclude: nothing is left to render"])
    return unfolded


def _excluded(
    document: PlanDocument, cases: list[CaseAsked], conditions: list[ConditionAsked]
) -> list[tuple[int, int]]:
    """Places of a case and a condition that are not rendered; a row and a column are looked at apart, once each."""
    rows: list[dict[str, str | float]] = [{"signal": one.signal, "setting": one.setting.name} for one in cases]
    columns: list[dict[str, str | float]] = [
        {"host": one.host, "version": one.host_version, "mode": one.mode, "rate": one.rate, "block": one.block_size}
        for one in conditions
    ]  # fmt: skip
    found: set[tuple[int, int]] = set()
    for one in document.exclude:
        across = [j for j, column in enumerate(columns) if one.holds(column)]
        found.update((i, j) for i, row in enumerate(rows) if one.holds(row) for j in across)
    return sorted(found)


def _signals(session: Session, document: PlanDocument, reasons: list[str]) -> dict[str, SignalDocument]:
    wanted = {case.signal for case in document.cases} | set(document.signals)
    known = {s.name: s.request for s in session.scalars(select(Signal).where(Signal.name.in_(wanted)))}
    for name, request in document.signals.items():
        try:
            asked = checked(request)
        except KindEchoError as error:
            reasons.append(f"signals.{name}: {error}".rstrip("."))
            continue
        # Compared as checked, for what is as usual may be written down or not.
        if checked(known.setdefault(name, asked)) != asked:
            reasons.append(f"signals.{name}: there is another signal of that name; choose another name")
    return known


def _settings(session: Session, effect: Effect, document: PlanDocument, reasons: list[str]) -> dict[str, Values]:
    rows = session.scalars(select(Setting).where(Setting.effect_id == effect.id))
    known: dict[str, Values] = {s.name: s.parameters for s in rows}
    for name, values in document.settings.items():
        if known.setdefault(name, values) != values:
            reasons.append(f"settings.{name}: {effect.name} has another setting of that name; choose another name")
        reasons += [f"settings.{name}: {why}" for why in refused_values(effect, values)]
    return known


def refused_values(effect: Effect, values: Values) -> list[str]:
    """What is wrong with values of an effect's parameters, in words."""
    parameters = {str(p["name"]): p for p in effect.parameters}
    return [
        f"{effect.name} has no parameter {name}" if name not in parameters else _refusal(parameters[name], value)
        for name, value in sorted(values.items())
        if name not in parameters or not _within(parameters[name], value)
    ]


def _swept(case: PlanCase, values: Values, effect: Effect, place: int, reasons: list[str]) -> list[SettingAsked]:
    """The settings that a case goes through."""
    if case.sweep is None:
        return [SettingAsked(case.setting, values)]
    wanted = case.sweep.parameter
    parameter = next((p for p in effect.parameters if p["name"] == wanted), None)
    if parameter is None:
        reasons.append(f"cases.{place}.sweep: {effect.name} has no parameter {wanted}")
        return []
    unit = f" {parameter['unit']}" if parameter.get("unit") else ""
    for value in case.sweep.values:
        if not _within(parameter, value):
            reasons.append(f"cases.{place}.sweep: {_refusal(parameter, value)}")
    parts = [{**values, wanted: v} for v in case.sweep.values]
    if case.sweep.summed:
        added = " + ".join(_number(v) for v in case.sweep.values)
        return [SettingAsked(f"{case.setting}, {wanted} {added}{unit}", values, tuple(parts))]
    return [
        SettingAsked(f"{case.setting}, {wanted} {_number(v)}{unit}", part)
        for v, part in zip(case.sweep.values, parts, strict=True)
    ]


def _within(parameter: ParameterDocument, value: object) -> bool:
    """Whether a parameter can take a value, or all values of a course."""
    if isinstance(value, dict):
        return all(_within(parameter, one) for one in value["values"])
    choices, least, greatest = parameter.get("choices"), parameter.get("least"), parameter.get("greatest")
    if choices:
        return value in choices
    if isinstance(value, str):
        return bool(parameter.get("text"))  # a plug-in that writes texts reads them, when it is rendered
    if least is None or greatest is None or not isinstance(value, int | float):
        return False
    return least <= value <= greatest


def _refusal(parameter: ParameterDocument, value: object) -> str:
    """What a parameter can be, in words, where a value is none of that."""
    if parameter.get("choices"):
        allowed = f"one of {', '.join(map(_number, parameter['choices']))}"
    elif parameter.get("least") is None or parameter.get("greatest") is None:
        allowed = "left as it is"
    else:
        allowed = f"a number from {_number(parameter['least'])} to {_number(parameter['greatest'])}"
    return f"{parameter['name']} cannot be {_number(value)}: it must be {allowed}"


def _number(value: object) -> str:
    if isinstance(value, dict):
        return ", ".join(map(_number, value["values"]))
    return number(value) if isinstance(value, int | float) else str(value)


def _case_limits(document: PlanDocument, case: PlanCase, expected: dict[str, Limit]) -> dict[str, Limit]:
    """Those of a null regression and of what is expected of the setting, with what the plan and the case say otherwise.

    They are trimmed to the case's families.
    """
    limits: dict[str, Limit] = null_test_limits() | expected
    for said in (document.limits, case.limits):
        for key, one in said.items():
            limit = one.limit()
            if limit is None:
                limits.pop(key, None)
            else:
                limits[key] = limit
    if case.measures is None:
        return limits
    kept = {"integrity", *case.measures}
    own = set(case.limits) | set(document.limits)
    return {key: limit for key, limit in limits.items() if find_measure(key).family in kept or key in own}


def _conditions(
    session: Session, one: PlanCondition, place: int, effect: Effect, reasons: list[str]
) -> list[ConditionAsked]:
    host = session.scalar(select(Host).where(Host.name == one.host, Host.version == one.version))
    if host is None:
        reasons.append(f"conditions.{place}: there is no host {one.host} {one.version}")
        return []
    missing = [mode for mode in one.modes if mode not in host.modes]
    if missing:
        reasons.append(f"conditions.{place}: {one.host} {one.version} does not render {' or '.join(missing)}")
    cannot = [what for what in one.hosting if what not in host.hosting]
    if cannot:
        reasons.append(f"conditions.{place}: {one.host} {one.version} cannot do this: {', '.join(cannot)}")
    if effect.channels and one.channels not in effect.channels:
        takes = " or ".join(map(str, effect.channels))
        plural = "" if effect.channels == [1] else "s"
        reasons.append(f"conditions.{place}: {effect.name} takes {takes} channel{plural}, not {one.channels}")
    own = {key: limit for key, said in one.limits.items() if (limit := said.limit()) is not None}
    for key in sorted(set(one.limits) - set(own)):
        reasons.append(f"conditions.{place}: {key} is left unjudged for a case, not for a condition")
    return [
        ConditionAsked(
            one.host, one.version, mode, rate, block, one.channels, one.word_length, ", ".join(one.hosting), own
        )
        for mode in one.modes
        for rate in one.rates
        for block in one.blocks or [BLOCKS[mode]]
    ]  # fmt: skip


def _refuse_twice(cases: list[CaseAsked], conditions: list[ConditionAsked], reasons: list[str]) -> None:
    places = Counter((case.signal, case.setting.name, case.takes, case.against, case.variation) for case in cases)
    reasons += [f"cases: {signal} through {setting} is there twice"
                for (signal, setting, *_), count in sorted(places.items()) if count > 1]  # fmt: skip
    if len(set(conditions)) < len(conditions):
        reasons.append("conditions: one of them is there twice")
