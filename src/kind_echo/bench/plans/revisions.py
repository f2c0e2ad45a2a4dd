"""Plans: cases × conditions for an effect, in revisions that are never edited."""

import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from kind_echo.bench.documents import limit_document
from kind_echo.core.registry.errors import NotFound
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import default_limits
from kind_echo.core.signals import SignalDocument
from kind_echo.database.models import Build, Case, Condition, Effect, Plan, PlanRevision, Run, Setting, Signal
from kind_echo.database.states import Against


class PlanNotFound(NotFound):
    """A plan is asked for that is not there."""

    def __init__(self, plan: object) -> None:
        self.plan = plan
        super().__init__(f"There is no plan {plan}.")


class BuildNotOfPlan(NotFound):
    """A build is asked for that is not there, or is none of the plan's effect."""

    def __init__(self, build: object) -> None:
        self.build = build
        super().__init__(f"There is no build {build} of the effect that this plan tests.")


@dataclass(frozen=True)
class CaseDraft:
    """A case as it is written down: a signal through a setting, its limits, and how often it is rendered."""

    signal: Signal
    setting: Setting
    limits: dict[str, Limit]
    takes: int = 1
    against: Against = "reference"
    expected: dict[str, float] | None = None
    variation: str = ""


def null_test_limits() -> dict[str, Limit]:
    """The default limits of a null regression: integrity, and all that is measured against the reference."""
    return default_limits(("integrity", "compare"))


def case_fingerprint(
    signal: SignalDocument,
    parameters: Mapping[str, object],
    parts: Sequence[Mapping[str, object]] = (),
    preset: str | None = None,
) -> str:
    """What makes two cases the same, whatever plan they stand in: the stimulus and the parameters, of a sum each's.

    Args:
        preset: digest of the state that it begins from.
    """
    content = [signal, parameters, *parts, *([preset] if preset else [])]
    return hashlib.sha256(json.dumps(content, sort_keys=True).encode()).hexdigest()


def revise_plan(
    session: Session,
    plan: Plan,
    cases: Sequence[CaseDraft],
    conditions: Sequence[Condition],
    now: datetime,
    **also: Any,
) -> PlanRevision:
    """Write the next revision of a plan, with whatever else its columns hold: once it is there, it is never changed."""
    last = session.scalar(select(func.max(PlanRevision.number)).where(PlanRevision.plan_id == plan.id)) or 0
    revision = PlanRevision(
        plan_id=plan.id, number=last + 1, created_at=now, condition_ids=[one.id for one in conditions], **also
    )
    revision.cases = [
        Case(
            position=position,
            signal=draft.signal,
            setting=draft.setting,
            fingerprint=case_fingerprint(
                draft.signal.request,
                draft.setting.parameters,
                draft.setting.parts or (),
                draft.setting.preset_sha256,
            ),
            limits={key: limit_document(limit) for key, limit in draft.limits.items()},
            takes=draft.takes,
            against=draft.against,
            expected=draft.expected,
            variation=draft.variation,
        )
        for position, draft in enumerate(cases)
    ]
    session.add(revision)
    session.flush()
    return revision


def latest_revision(session: Session, plan_id: int) -> PlanRevision:
    """The newest revision of a plan. Raises PlanNotFound."""
    revision = session.scalar(
        select(PlanRevision).where(PlanRevision.plan_id == plan_id).order_by(PlanRevision.number.desc()).limit(1)
    )
    if revision is None:
        raise PlanNotFound(plan_id)
    return revision


def revisions_of(session: Session, plan_id: int) -> list[PlanRevision]:
    """All revisions of a plan, oldest first."""
    query = select(PlanRevision).where(PlanRevision.plan_id == plan_id).order_by(PlanRevision.number)
    return list(session.scalars(query))


def run_counts(session: Session, plan_id: int) -> dict[int, int]:
    """How many runs there are of each revision of a plan, by the number of the revision."""
    query = select(Run.revision_id, func.count()).join(PlanRevision).where(PlanRevision.plan_id == plan_id)
    return {row[0]: row[1] for row in session.execute(query.group_by(Run.revision_id))}


def revision_numbered(session: Session, plan_id: int, number: int) -> PlanRevision:
    """A revision of a plan by its number. Raises PlanNotFound."""
    found = session.scalar(select(PlanRevision).where(PlanRevision.plan_id == plan_id, PlanRevision.number == number))
    if found is None:
        raise PlanNotFound(f"{plan_id} in revision {number}")
    return found


def plan_of_effect(session: Session, effect: str, name: str) -> Plan | None:
    """The plan of that name for that effect; None where there is none."""
    return session.scalar(select(Plan).join(Effect).where(Effect.name == effect, Plan.name == name))


def plan_numbered(session: Session, plan_id: int) -> Plan:
    """A plan by its number. Raises PlanNotFound."""
    plan = session.get(Plan, plan_id)
    if plan is None:
        raise PlanNotFound(plan_id)
    return plan


def find_plan(session: Session, name: str) -> Plan:
    """A plan by its name. Raises PlanNotFound."""
    plan = session.scalar(select(Plan).where(Plan.name == name))
    if plan is None:
        raise PlanNotFound(repr(name))
    return plan


def find_build(session: Session, plan: Plan, version: str) -> Build:
    """A build of the plan's effect by its version. Raises BuildNotOfPlan."""
    build = session.scalar(select(Build).where(Build.effect_id == plan.effect_id, Build.version == version))
    if build is None:
        raise BuildNotOfPlan(version)
    return build


def builds_of(session: Session, effect_id: int) -> list[Build]:
    """The builds of an effect, oldest first."""
    return list(session.scalars(select(Build).where(Build.effect_id == effect_id).order_by(Build.position)))


def all_plans(session: Session) -> list[Plan]:
    """All plans by effect and name."""
    return list(session.scalars(select(Plan).join(Effect).order_by(Effect.name, Plan.name)))
