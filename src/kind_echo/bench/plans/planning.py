"""From a plan as it is written to a revision that can be run, and back; and what a run of it will take."""

from collections import Counter
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from kind_echo.audio_io.encoding import ENCODINGS
from kind_echo.bench.documents import limit_document, limit_from
from kind_echo.bench.machines import cannot_render
from kind_echo.bench.plans.document import (
    BLOCKS,
    BadPlan,
    Law,
    PlanCase,
    PlanCondition,
    PlanDocument,
    PlanLimit,
    Values,
)
from kind_echo.bench.plans.revisions import CaseDraft, latest_revision, null_test_limits, revise_plan
from kind_echo.bench.signals import checked, shown
from kind_echo.core.registry.errors import KindEchoError
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.registry.names import check_name
from kind_echo.core.registry.numbers import number
from kind_echo.core.signals import OWN_FILE, in_one_channel, whole_seconds
from kind_echo.database.models import (
    Against,
    Cell,
    Condition,
    Content,
    Effect,
    Event,
    Host,
    Plan,
    PlanRevision,
    Render,
    Run,
    Setting,
    Signal,
)


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
    request: dict[str, Any]
    setting: SettingAsked
    limits: dict[str, Limit]
    takes: int
    against: Against
    expected: Values | None = None

    @property
    def renders(self) -> int:
        """How many renders one cell of it takes."""
        return self.takes * max(1, len(self.setting.parts))


@dataclass(frozen=True)
class Unfolded:
    """A plan with its sweeps, modes, rates and blocks written out; nothing of it is in the database yet.

    Attributes:
        cases: the rows of the sheet.
        conditions: as the table of conditions has them, with limits of their own.
        excluded: places of a case and a condition that are not rendered.
    """

    cases: list[CaseAsked]
    conditions: list[tuple[dict[str, Any], dict[str, Limit]]]
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


@dataclass(frozen=True)
class Cost:
    """What a run will take.

    Attributes:
        seconds: at the pace of earlier runs of the effect, or of any; None before the first.
        most_bytes: of audio, were no two renders alike.
    """

    cells: int
    renders: int
    seconds: float | None
    most_bytes: int


def unfold(session: Session, document: PlanDocument) -> Unfolded:
    """Write a plan out. Raises BadPlan where it names what is not there, or what is something else by that name."""
    effect = session.scalar(select(Effect).where(Effect.name == document.effect))
    if effect is None:
        raise BadPlan([f"effect: there is no effect {document.effect}"])
    reasons: list[str] = []
    signals = _signals(session, document, reasons)
    settings = _settings(session, effect, document, reasons)
    cases = []
    for place, case in enumerate(document.cases, start=1):
        if case.signal not in signals:
            reasons.append(f"cases.{place}: there is no signal {case.signal}")
        if case.setting not in settings:
            reasons.append(f"cases.{place}: {effect.name} has no setting {case.setting}")
        if case.signal in signals and case.setting in settings:
            limits = _case_limits(document, case)
            for setting in _swept(case, settings[case.setting], effect, place, reasons):
                expected = None if case.expected is None else case.expected.model_dump()
                asked = CaseAsked(
                    case.signal, signals[case.signal], setting, limits, case.takes, case.against, expected
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
    document: PlanDocument, cases: list[CaseAsked], conditions: list[tuple[dict[str, Any], dict[str, Limit]]]
) -> list[tuple[int, int]]:
    """Places of a case and a condition that are not rendered; a row and a column are looked at apart, once each."""
    rows = [{"signal": one.signal, "setting": one.setting.name} for one in cases]
    columns = [
        {"host": one["host"], "version": one["host_version"], "mode": one["mode"], "rate": one["rate"],
         "block": one["block_size"]}
        for one, _ in conditions
    ]  # fmt: skip
    found: set[tuple[int, int]] = set()
    for one in document.exclude:
        across = [j for j, column in enumerate(columns) if one.holds(column)]
        found.update((i, j) for i, row in enumerate(rows) if one.holds(row) for j in across)
    return sorted(found)


def unrenderable(session: Session, document: PlanDocument) -> list[str]:
    """The hosts of a plan, by name and version, in which no known machine can render its effect."""
    effect = session.scalars(select(Effect).where(Effect.name == document.effect)).one()
    return cannot_render(session, effect, [(one.host, one.version) for one in document.conditions])


def save_plan(session: Session, document: PlanDocument, *, who: str, now: datetime) -> PlanRevision:
    """Keep a plan as its newest revision; earlier ones stay as they are, and so do the runs of them.

    A plan that is the same as the newest revision makes no other. Raises BadPlan.
    """
    unfolded = unfold(session, document)
    _check_new_names(session, document)
    effect = session.scalars(select(Effect).where(Effect.name == document.effect)).one()
    plan = session.scalar(select(Plan).where(Plan.effect_id == effect.id, Plan.name == document.plan).with_for_update())
    if plan is None:
        plan = Plan(effect_id=effect.id, name=document.plan)
        session.add(plan)
        session.flush()
    elif document_of(session, latest_revision(session, plan.id)) == document:
        return latest_revision(session, plan.id)
    drafts = [
        CaseDraft(
            _signal(session, one.signal, one.request), setting_named(session, effect, one.setting), one.limits,
            one.takes, one.against, one.expected,
        )
        for one in unfolded.cases
    ]  # fmt: skip
    conditions = [condition_of(session, **condition) for condition, _ in unfolded.conditions]
    revision = revise_plan(
        session, plan, drafts, conditions, now, made_by=who, note=document.note,
        document=document.model_dump(mode="json"),
        excluded=[[i, conditions[j].id] for i, j in unfolded.excluded],
        condition_limits={
            str(condition.id): {key: limit_document(limit) for key, limit in own.items()}
            for condition, (_, own) in zip(conditions, unfolded.conditions, strict=True) if own
        },
    )  # fmt: skip
    session.add(Event(at=now, who=who, what="plan revised", detail={"plan": plan.id, "revision": revision.number}))
    return revision


def _check_new_names(session: Session, document: PlanDocument) -> None:
    """Refuse names that nobody can read, of what a plan brings along; those that are there already stay in use."""
    reasons = []
    brought = (("plan", Plan, [document.plan]), ("signals", Signal, document.signals),
               ("settings", Setting, document.settings))  # fmt: skip
    for what, table, names in brought:
        known = set(session.scalars(select(table.name).where(table.name.in_(names))))
        for name in sorted(set(names) - known):
            try:
                check_name(name)
            except ValueError as error:
                reasons.append(f"{what}: {name!r}: {error}")
    if reasons:
        raise BadPlan(reasons)


def document_of(session: Session, revision: PlanRevision) -> PlanDocument:
    """A revision as it was written; one that was made otherwise is written out, case by case."""
    if revision.document is not None:
        return _with_names_of_now(session, revision, PlanDocument.model_validate(revision.document))
    usual = null_test_limits()
    conditions = {c.id: c for c in session.scalars(select(Condition).where(Condition.id.in_(revision.condition_ids)))}
    return PlanDocument(
        plan=revision.plan.name,
        effect=revision.plan.effect.name,
        note=revision.note,
        signals={case.signal.name: shown(case.signal.request) for case in revision.cases},
        settings={case.setting.name: case.setting.parameters for case in revision.cases},
        cases=[
            PlanCase(
                signal=case.signal.name, setting=case.setting.name, takes=case.takes, against=case.against,
                limits=_unusual(case.limits, usual),
                expected=None if case.expected is None else Law(**case.expected),
            )
            for case in revision.cases
        ],
        conditions=_gathered([conditions[number] for number in revision.condition_ids]),
    )  # fmt: skip


def _with_names_of_now(session: Session, revision: PlanRevision, document: PlanDocument) -> PlanDocument:
    """A plan as it was written, with what has been renamed since by the names that it has now."""
    plan = revision.plan
    settings = {
        former: setting.name
        for setting in session.scalars(
            select(Setting).where(Setting.effect_id == plan.effect_id, Setting.former_names != [])
        )
        for former in setting.former_names
    }
    hosts = {
        (name, version): (host.name, host.version)
        for host in session.scalars(select(Host).where(Host.former_names != []))
        for name, version in host.former_names
    }
    named = {"plan": plan.name, "effect": plan.effect.name}
    if not settings and not hosts and (document.plan, document.effect) == (plan.name, plan.effect.name):
        return document

    def host(name: str | None, version: str | None) -> dict[str, str | None]:
        now = hosts.get((name or "", version or ""), (name, version))
        return {"host": now[0], "version": now[1]}

    return document.model_copy(update={
        **named,
        "settings": {settings.get(name, name): values for name, values in document.settings.items()},
        "cases": [one.model_copy(update={"setting": settings.get(one.setting, one.setting)}) for one in document.cases],
        "conditions": [one.model_copy(update=host(one.host, one.version)) for one in document.conditions],
        "exclude": [
            one.model_copy(
                update=host(one.host, one.version) | {"setting": settings.get(one.setting or "", one.setting)}
            )
            for one in document.exclude
        ],
    })  # fmt: skip


def cost_of(session: Session, document: PlanDocument, unfolded: Unfolded) -> Cost:
    """What a run of a plan will take, by what renders took so far."""
    most = 0
    excluded = set(unfolded.excluded)
    seconds_of: dict[tuple[str, int], float] = {}
    for i, one in enumerate(unfolded.cases):
        for j, (condition, _) in enumerate(unfolded.conditions):
            if (i, j) not in excluded:
                rate = condition["rate"]
                if (one.signal, rate) not in seconds_of:
                    seconds_of[one.signal, rate] = _seconds(session, one.request, rate)
                frames = round(seconds_of[one.signal, rate] * rate)
                width = ENCODINGS[condition["word_length"]].width
                most += frames * condition["channels"] * width * one.takes
    pace = _pace(session, document.effect)
    seconds = None if pace is None else pace * unfolded.renders
    return Cost(unfolded.cells, unfolded.renders, seconds, most)


def condition_of(session: Session, **wanted: Any) -> Condition:
    """The condition that has just these values; it is written down where it is new."""
    found = session.scalar(select(Condition).filter_by(**wanted))
    if found is None:
        found = Condition(**wanted)
        session.add(found)
        session.flush()
    return found


def setting_named(session: Session, effect: Effect, asked: SettingAsked) -> Setting:
    """The setting of that name; it is written down where it is new."""
    found = session.scalar(select(Setting).where(Setting.effect_id == effect.id, Setting.name == asked.name))
    if found is None:
        parts = [dict(values) for values in asked.parts]
        found = Setting(effect_id=effect.id, name=asked.name, parameters=asked.values, parts=parts)
        session.add(found)
        session.flush()
    return found


def _signal(session: Session, name: str, request: dict[str, Any]) -> Signal:
    found = session.scalar(select(Signal).where(Signal.name == name))
    if found is None:
        found = Signal(name=name, request=request)
        session.add(found)
        session.flush()
    return found


def _signals(session: Session, document: PlanDocument, reasons: list[str]) -> dict[str, dict[str, Any]]:
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
        parameters = {str(p["name"]): p for p in effect.parameters}
        for parameter, value in sorted(values.items()):
            if parameter not in parameters:
                reasons.append(f"settings.{name}: {effect.name} has no parameter {parameter}")
            elif not _within(parameters[parameter], value):
                reasons.append(f"settings.{name}: {_refusal(parameters[parameter], value)}")
    return known


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


def _within(parameter: dict[str, Any], value: object) -> bool:
    choices, least, greatest = parameter.get("choices"), parameter.get("least"), parameter.get("greatest")
    if choices:
        return value in choices
    if isinstance(value, str) or least is None or greatest is None:
        return False
    return bool(least <= value <= greatest)


def _refusal(parameter: dict[str, Any], value: object) -> str:
    """What a parameter can be, in words, where a value is none of that."""
    if parameter.get("choices"):
        allowed = f"one of {', '.join(map(_number, parameter['choices']))}"
    elif parameter.get("least") is None or parameter.get("greatest") is None:
        allowed = "left as it is"
    else:
        allowed = f"a number from {_number(parameter['least'])} to {_number(parameter['greatest'])}"
    return f"{parameter['name']} cannot be {_number(value)}: it must be {allowed}"


def _number(value: object) -> str:
    return number(value) if isinstance(value, int | float) else str(value)


def _case_limits(document: PlanDocument, case: PlanCase) -> dict[str, Limit]:
    """Those of a null regression, with what the plan and the case say otherwise; trimmed to the case's families."""
    limits: dict[str, Limit] = dict(null_test_limits())
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
) -> list[tuple[dict[str, Any], dict[str, Limit]]]:
    host = session.scalar(select(Host).where(Host.name == one.host, Host.version == one.version))
    if host is None:
        reasons.append(f"conditions.{place}: there is no host {one.host} {one.version}")
        return []
    missing = [mode for mode in one.modes if mode not in host.modes]
    if missing:
        reasons.append(f"conditions.{place}: {one.host} {one.version} does not render {' or '.join(missing)}")
    if effect.channels and one.channels not in effect.channels:
        takes = " or ".join(map(str, effect.channels))
        plural = "" if effect.channels == [1] else "s"
        reasons.append(f"conditions.{place}: {effect.name} takes {takes} channel{plural}, not {one.channels}")
    own = {key: limit for key, said in one.limits.items() if (limit := said.limit()) is not None}
    for key in sorted(set(one.limits) - set(own)):
        reasons.append(f"conditions.{place}: {key} is left unjudged for a case, not for a condition")
    return [
        (
            {
                "host": one.host, "host_version": one.version, "mode": mode, "rate": rate, "block_size": block,
                "channels": one.channels, "word_length": one.word_length,
            },
            own,
        )
        for mode in one.modes
        for rate in one.rates
        for block in one.blocks or [BLOCKS[mode]]
    ]  # fmt: skip


def _refuse_twice(cases: list[CaseAsked], conditions: list[Any], reasons: list[str]) -> None:
    places = Counter((case.signal, case.setting.name, case.takes, case.against) for case in cases)
    reasons += [f"cases: {signal} through {setting} is there twice"
                for (signal, setting, *_), count in sorted(places.items()) if count > 1]  # fmt: skip
    listed = [tuple(condition.items()) for condition, _ in conditions]
    if len(set(listed)) < len(listed):
        reasons.append("conditions: one of them is there twice")


def _unusual(limits: dict[str, Any], usual: dict[str, Limit]) -> dict[str, PlanLimit]:
    """Where limits differ from the usual ones."""
    own = {
        key: PlanLimit(at_least=d.get("at_least"), at_most=d.get("at_most"))
        for key, d in limits.items()
        if usual.get(key) != limit_from(d)
    }
    return own | {key: PlanLimit() for key in usual if key not in limits}


def _gathered(conditions: list[Condition]) -> list[PlanCondition]:
    """Conditions that differ in their rate alone, as one."""
    found: list[PlanCondition] = []
    for c in conditions:
        blocks = [] if c.block_size == BLOCKS[c.mode] else [c.block_size]
        one = PlanCondition.model_validate({
            "host": c.host, "version": c.host_version, "modes": [c.mode], "rates": [c.rate], "blocks": blocks,
            "channels": c.channels, "word_length": c.word_length,
        })  # fmt: skip
        last = found[-1] if found else None
        if last is not None and last.model_copy(update={"rates": one.rates}) == one:
            last.rates.append(c.rate)
        else:
            found.append(one)
    return found


def _seconds(session: Session, request: dict[str, Any], rate: int) -> float:
    if request["kind"] == OWN_FILE:
        content = session.get(Content, str(request["sha256"]))
        return content.frames / content.rate if content is not None else 0.0
    return whole_seconds(in_one_channel(request), rate)


def _pace(session: Session, effect: str) -> float | None:
    """Seconds a render, measuring and comparing included: of the newest runs of the effect, or of any."""
    spent = func.extract("epoch", func.max(Render.rendered_at) - func.min(Render.rendered_at))
    query = (
        select(spent / (func.count() - 1))
        .select_from(Cell)
        .join(Render, Render.id == Cell.render_id)
        .join(Run, Run.id == Cell.run_id)
        .join(PlanRevision, PlanRevision.id == Run.revision_id)
        .join(Plan, Plan.id == PlanRevision.plan_id)
        .join(Effect, Effect.id == Plan.effect_id)
        .where(Cell.reused.is_(False))
        .group_by(Run.id)
        .having(func.count() > 1)
        .order_by(Run.id.desc())
        .limit(3)
    )
    for narrowed in (query.where(Effect.name == effect), query):
        paces = sorted(float(pace) for pace in session.scalars(narrowed))
        if paces:
            return paces[len(paces) // 2]
    return None
