"""From a plan as it is written to a revision that can be run, and back; and what a run of it will take."""

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Any, cast

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
    Variation,
)
from kind_echo.bench.plans.expectations import EXPECTED_MEASURES
from kind_echo.bench.plans.revisions import CaseDraft, latest_revision, null_test_limits, revise_plan
from kind_echo.bench.plans.unfolding import CaseAsked, ConditionAsked, SettingAsked, Unfolded, unfold
from kind_echo.bench.signals import seconds_of, shown
from kind_echo.core.registry.documents import LimitDocument
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.names import check_name
from kind_echo.core.signals import SignalDocument, stimulus_of
from kind_echo.database.blobs import ContentNotFound
from kind_echo.database.models import (
    Case,
    Cell,
    Condition,
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


def unrenderable(session: Session, document: PlanDocument) -> list[str]:
    """The hosts of a plan, by name and version, in which no known machine can render its effect."""
    effect = session.scalars(select(Effect).where(Effect.name == document.effect)).one()
    return cannot_render(session, effect, [(one.host, one.version) for one in document.conditions])


def save_plan(session: Session, document: PlanDocument, *, who: str, now: datetime) -> PlanRevision:
    """Keep a plan as its newest revision; earlier ones stay as they are, and so do the runs of them.

    A plan that is the same as the newest revision makes no other, unless something else is expected of its settings
    since then. Raises BadPlan.
    """
    unfolded = unfold(session, document)
    _check_new_names(session, document)
    effect = session.scalars(select(Effect).where(Effect.name == document.effect)).one()
    plan = session.scalar(select(Plan).where(Plan.effect_id == effect.id, Plan.name == document.plan).with_for_update())
    if plan is None:
        plan = Plan(effect_id=effect.id, name=document.plan)
        session.add(plan)
        session.flush()
    else:
        last = latest_revision(session, plan.id)
        if document_of(session, last) == document and _expects_the_same(last, unfolded):
            return last
    drafts = [
        CaseDraft(
            _signal(session, one.signal, one.request), setting_named(session, effect, one.setting), one.limits,
            one.takes, one.against, one.expected, one.variation,
        )
        for one in unfolded.cases
    ]  # fmt: skip
    conditions = [condition_of(session, condition) for condition in unfolded.conditions]
    revision = revise_plan(
        session, plan, drafts, conditions, now, made_by=who, note=document.note,
        document=document.model_dump(mode="json"),
        excluded=[[i, conditions[j].id] for i, j in unfolded.excluded],
        condition_limits={
            str(condition.id): {key: limit_document(limit) for key, limit in asked.limits.items()}
            for condition, asked in zip(conditions, unfolded.conditions, strict=True) if asked.limits
        },
    )  # fmt: skip
    session.add(Event(at=now, who=who, what="plan revised", detail={"plan": plan.id, "revision": revision.number}))
    return revision


def _expects_the_same(revision: PlanRevision, unfolded: Unfolded) -> bool:
    def expected(cases: Iterable[CaseAsked | Case]) -> list[Any]:
        return [
            (case.expected or None, [_as_kept(case.limits.get(key)) for key in EXPECTED_MEASURES]) for case in cases
        ]

    return expected(revision.cases) == expected(unfolded.cases)


def _as_kept(limit: Limit | LimitDocument | None) -> LimitDocument | None:
    return limit_document(limit) if isinstance(limit, Limit) else limit


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
                variation=cast(Variation | None, case.variation or None),
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
    lengths: dict[tuple[str, int], float] = {}
    for i, one in enumerate(unfolded.cases):
        for j, condition in enumerate(unfolded.conditions):
            if (i, j) not in excluded:
                rate = condition.rate
                if (one.signal, rate) not in lengths:
                    lengths[one.signal, rate] = _seconds(session, one.request, rate)
                frames = round(lengths[one.signal, rate] * rate)
                width = ENCODINGS[condition.word_length].width
                most += frames * condition.channels * width * one.takes
    pace = _pace(session, document.effect)
    seconds = None if pace is None else pace * unfolded.renders
    return Cost(unfolded.cells, unfolded.renders, seconds, most)


def condition_of(session: Session, wanted: ConditionAsked) -> Condition:
    """The condition that is asked for; it is written down where it is new."""
    found = session.scalar(select(Condition).filter_by(**wanted.columns))
    if found is None:
        found = Condition(**wanted.columns)
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


def _signal(session: Session, name: str, request: SignalDocument) -> Signal:
    found = session.scalar(select(Signal).where(Signal.name == name))
    if found is None:
        found = Signal(name=name, request=request)
        session.add(found)
        session.flush()
    return found


def _unusual(limits: dict[str, LimitDocument], usual: dict[str, Limit]) -> dict[str, PlanLimit]:
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
            "hosting": [what for what in c.hosting.split(", ") if what],
        })  # fmt: skip
        last = found[-1] if found else None
        if last is not None and last.model_copy(update={"rates": one.rates}) == one:
            last.rates.append(c.rate)
        else:
            found.append(one)
    return found


def _seconds(session: Session, request: SignalDocument, rate: int) -> float:
    try:
        return seconds_of(session, stimulus_of(request), rate)
    except ContentNotFound:
        return 0.0  # a plan may name a file that is not there yet


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
