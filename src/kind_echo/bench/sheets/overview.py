"""How it all stands: of each effect its newest build in each plan, and what is old."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from typing import Literal

from sqlalchemy import ColumnElement, and_, func, or_, select
from sqlalchemy.dialects.postgresql import distinct_on
from sqlalchemy.orm import Session, aliased

from kind_echo.bench.decisions import undecided
from kind_echo.bench.machines import is_seen, workers
from kind_echo.bench.runs import RunSummary, summaries_of
from kind_echo.bench.sheets.sheet import TROUBLE, names_of, same_trouble
from kind_echo.bench.storage import little_room
from kind_echo.database.models import Act, Analysis, Build, Case, Cell, Decision, Effect, Plan, PlanRevision, Run

OLD_DAYS = 7
"""After which a run is old, and before which the end of a waiver is near."""


@dataclass(frozen=True)
class PlanStanding:
    """A plan on the newest build that it was run on.

    Attributes:
        needs_you: cells that wait for a person.
        new: cells that fail, or have no reading, and did not on the build before, or for other causes; None where there
            is none.
        before: the version of that.
        waived: cells that stand under a waiver, the first of which ends on `waived_until`.
    """

    plan: Plan
    summary: RunSummary
    needs_you: int
    new: int | None
    before: str
    waived: int
    waived_until: date | None


@dataclass(frozen=True)
class EffectStanding:
    """An effect.

    Attributes:
        latest: its newest build; None before the first.
        plans: those that were run, by name.
        missing: plans that were not run on the newest build.
    """

    effect: Effect
    latest: Build | None
    plans: list[PlanStanding]
    missing: list[Plan]


@dataclass(frozen=True)
class Old:
    """Something that is old, or soon will be.

    Attributes:
        kind: "run": the newest build was last run long ago; "missing": it was not run with a plan; "waiver": one ends
            soon; "machine": one is away; "audio", "temporary files": there is little room for them.
        run_id: of what a way leads to; None where it leads to a plan, or to the machines.
        since: when it was last run or seen; until: the last day of a waiver; left: bytes of room.
    """

    kind: Literal["run", "missing", "waiver", "machine", "audio", "temporary files"]
    name: str = ""
    plan: str = ""
    run_id: int | None = None
    plan_id: int | None = None
    cells: int = 0
    since: datetime | None = None
    until: date | None = None
    left: int = 0


@dataclass(frozen=True)
class Overview:
    """All effects that are not archived, those that need somebody first, and what is old."""

    effects: list[EffectStanding] = field(default_factory=list)
    old: list[Old] = field(default_factory=list)


def overview(session: Session, now: datetime) -> Overview:
    """How it all stands, in a few queries however many runs there are."""
    effects = list(session.scalars(select(Effect).where(Effect.archived_at.is_(None)).order_by(Effect.name)))
    latest = _latest_builds(session)
    plans = list(session.scalars(select(Plan).where(Plan.archived_at.is_(None)).order_by(Plan.name)))
    runs = _newest_runs(session)
    newest = {plan.id: runs[plan.id][-1] for plan in plans if plan.id in runs}
    before = {listed[-1][1]: listed[-2] for listed in runs.values() if len(listed) > 1}
    summaries = {one.run.id: one for one in summaries_of(session, [run for _, run, _ in newest.values()])}
    needs = undecided(session, now.date(), list(summaries))
    waived = _waived(session, now.date(), list(summaries))
    new = _new_trouble(session, {run: before[run][1] for run in summaries if run in before})
    found = []
    for effect in effects:
        build, own = latest.get(effect.id), [plan for plan in plans if plan.effect_id == effect.id]
        standings = []
        for plan in own:
            if plan.id not in newest:
                continue
            run = newest[plan.id][1]
            count, until = waived.get(run, (0, None))
            earlier = before.get(run)
            standings.append(
                PlanStanding(
                    plan, summaries[run], needs.get(run, 0), None if earlier is None else new.get(run, 0),
                    "" if earlier is None else earlier[2], count, until,
                )
            )  # fmt: skip
        missing = [plan for plan in own if build is not None
                   and (plan.id not in newest or newest[plan.id][0] != build.position)]  # fmt: skip
        found.append(EffectStanding(effect, build, standings, missing))
    found.sort(key=lambda one: -sum(plan.needs_you for plan in one.plans))
    full = [Old(one.what, left=one.left) for one in little_room(session)]
    return Overview(found, [*full, *_old(found, now), *_away(session, now)])


def _latest_builds(session: Session) -> dict[int, Build]:
    query = select(Build).where(Build.archived_at.is_(None)).order_by(Build.effect_id, Build.position.desc())
    return {build.effect_id: build for build in session.scalars(query.ext(distinct_on(Build.effect_id)))}


def _newest_runs(session: Session) -> dict[int, list[tuple[int, int, str]]]:
    """Of each plan, by its number, position of the build, number of the newest run and version, in order of builds."""
    query = (
        select(PlanRevision.plan_id, Build.position, func.max(Run.id), Build.version)
        .join(PlanRevision, PlanRevision.id == Run.revision_id)
        .join(Build, Build.id == Run.build_id)
        .where(Run.search_id.is_(None), Run.archived_at.is_(None), Build.archived_at.is_(None))
        .group_by(PlanRevision.plan_id, Build.position, Build.version)
        .order_by(PlanRevision.plan_id, Build.position)
    )
    found: dict[int, list[tuple[int, int, str]]] = {}
    for plan_id, position, run_id, version in session.execute(query):
        found.setdefault(plan_id, []).append((position, run_id, version))
    return found


def _waived(session: Session, today: date, run_ids: Sequence[int]) -> dict[int, tuple[int, date]]:
    """How many cells of runs stand under a waiver, and when the first of these ends."""
    covering: ColumnElement[bool] = and_(
        Act.undone_at.is_(None),
        Decision.kind == "waived",
        Decision.effect_id == Build.effect_id,
        Decision.fingerprint == Case.fingerprint,
        Decision.condition_id == Cell.condition_id,
        Decision.covers.contains(Cell.broken),
        Decision.until >= today,
    )
    query = (
        select(Cell.run_id, func.count(Cell.id.distinct()), func.min(Decision.until))
        .join(Case, Case.id == Cell.case_id)
        .join(Run, Run.id == Cell.run_id)
        .join(Build, Build.id == Run.build_id)
        .join(Decision, Decision.condition_id == Cell.condition_id)
        .join(Act, Act.id == Decision.act_id)
        .where(Cell.run_id.in_(run_ids), Cell.asks_for_review, covering)
        .group_by(Cell.run_id)
    )
    return {run: (count, until) for run, count, until in session.execute(query) if until is not None}


def _new_trouble(session: Session, before: Mapping[int, int]) -> dict[int, int]:
    """How many cells of runs fail, or have no reading, and did not in the run of the build before, or otherwise."""
    if not before:
        return {}
    earlier, its_case, own, then = aliased(Cell), aliased(Case), aliased(Analysis), aliased(Analysis)
    pairs = or_(*(and_(Cell.run_id == run, earlier.run_id == other) for run, other in before.items()))
    query = (
        select(
            Cell.run_id, Cell.verdict, Cell.broken, own.causes, earlier.verdict, earlier.broken, then.causes
        )
        .join(Case, Case.id == Cell.case_id)
        .join(earlier, earlier.condition_id == Cell.condition_id)
        .join(its_case, and_(its_case.id == earlier.case_id, its_case.fingerprint == Case.fingerprint))
        .outerjoin(own, own.key == Cell.analysis_key)
        .outerjoin(then, then.key == earlier.analysis_key)
        .where(
            Cell.run_id.in_(before), earlier.run_id.in_(before.values()), pairs,
            Cell.finished, earlier.finished, Cell.verdict.in_(TROUBLE),
        )
    )  # fmt: skip
    found: dict[int, int] = {}
    for run, verdict, broken, causes, its_verdict, its_broken, its_causes in session.execute(query):
        now = verdict, frozenset(broken), names_of(causes)
        was = its_verdict, frozenset(its_broken), names_of(its_causes)
        if was[0] not in TROUBLE or not same_trouble(now, was):
            found[run] = found.get(run, 0) + 1
    return found


def _old(effects: Iterable[EffectStanding], now: datetime) -> list[Old]:
    found = []
    soon, long_ago = now.date() + timedelta(days=OLD_DAYS), now - timedelta(days=OLD_DAYS)
    for one in effects:
        version = "" if one.latest is None else f" {one.latest.version}"
        name = f"{one.effect.name}{version}"
        found += [
            Old("waiver", one.effect.name, plan.plan.name, plan.summary.run.id, cells=plan.waived,
                until=plan.waived_until)
            for plan in one.plans if plan.waived_until is not None and plan.waived_until <= soon
        ]  # fmt: skip
        found += [Old("missing", name, plan.name, plan_id=plan.id) for plan in one.missing]
        missing = {plan.id for plan in one.missing}
        found += [
            Old("run", name, plan.plan.name, plan.summary.run.id, since=plan.summary.run.requested_at)
            for plan in one.plans
            if plan.plan.id not in missing and plan.summary.run.requested_at < long_ago
        ]
    return found


def _away(session: Session, now: datetime) -> list[Old]:
    """Machines of which no process is at work, and one went without a word."""
    found: dict[str, datetime] = {}
    listed = workers(session)
    present = {one.machine for one in listed if one.stopped_at is None and is_seen(one, now)}
    for one in listed:
        if one.stopped_at is None and one.machine not in present:
            found[one.machine] = max(one.seen_at, found.get(one.machine, one.seen_at))
    return [Old("machine", name, since=seen) for name, seen in sorted(found.items())]
