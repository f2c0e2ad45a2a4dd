"""How it all stands."""

from datetime import UTC, datetime

from flask import Response
from flask_openapi3 import APIBlueprint

from kind_echo.bench.sheets import EffectStanding, Old, PlanStanding, overview
from kind_echo.database.sessions import snapshot
from kind_echo.web.http.cache import AnswerCache
from kind_echo.web.http.lasting import conditional, known_or_made
from kind_echo.web.http.schemas import BuildBody
from kind_echo.web.overview.schemas import EffectStandingBody, OldBody, OverviewBody, PlanStandingBody
from kind_echo.web.runs.views import verdict_counts
from kind_echo.wording.overview import old_text

api = APIBlueprint("overview", __name__, url_prefix="/api")

# For seconds alone, for machines come and go, and days pass, without a run that changes.
_kept: AnswerCache[bytes] = AnswerCache(most_bytes=4 << 20, seconds=2.0)


@api.get("/overview", responses={200: OverviewBody})
def how_it_stands() -> Response:
    """Of each effect its newest build by plan; what is old, or soon will be."""

    def make() -> bytes:
        with snapshot() as session:
            found = overview(session, datetime.now(UTC))
            effects = [_effect(one) for one in found.effects]
            return OverviewBody(old=[_old(one) for one in found.old], effects=effects).model_dump_json().encode()

    return conditional(known_or_made(_kept, ("overview",), None, make))


def _old(one: Old) -> OldBody:
    text = old_text(one.kind, one.name, one.plan, cells=one.cells, since=one.since, until=one.until, left=one.left)
    return OldBody(text=text, kind=one.kind, run_id=one.run_id, plan_id=one.plan_id)


def _effect(one: EffectStanding) -> EffectStandingBody:
    return EffectStandingBody(
        effect_id=one.effect.id, effect=one.effect.name,
        latest=None if one.latest is None else BuildBody.model_validate(one.latest),
        plans=[_plan(plan) for plan in one.plans], missing=[plan.name for plan in one.missing],
    )  # fmt: skip


def _plan(one: PlanStanding) -> PlanStandingBody:
    run = one.summary.run
    return PlanStandingBody(
        plan_id=one.plan.id, plan=one.plan.name, run_id=run.id, version=run.build.version,
        requested_at=run.requested_at, cells=one.summary.cells, finished=one.summary.finished,
        verdicts=verdict_counts(one.summary), needs_you=one.needs_you, new=one.new, before=one.before,
        waived=one.waived, waived_until=one.waived_until,
    )  # fmt: skip
