"""Bodies of how it all stands."""

from datetime import date
from typing import Literal

from pydantic import AwareDatetime

from kind_echo.web.http.schemas import Body, BuildBody
from kind_echo.web.runs.schemas import VerdictCounts


class PlanStandingBody(Body):
    """A plan on the newest build that it was run on.

    `new` counts cells that fail, or have no reading, and did not on the build `before`; null where there is none.
    """

    plan_id: int
    plan: str
    run_id: int
    version: str
    requested_at: AwareDatetime
    cells: int
    finished: int
    verdicts: VerdictCounts
    needs_you: int
    new: int | None
    before: str
    waived: int
    waived_until: date | None


class EffectStandingBody(Body):
    """An effect: its newest build, and how that stands by plan; `missing` names plans that were not run on it."""

    effect_id: int
    effect: str
    latest: BuildBody | None
    plans: list[PlanStandingBody]
    missing: list[str]


class OldBody(Body):
    """Something that is old, in a sentence, and where a way leads: a run, a plan, else by its kind."""

    text: str
    kind: Literal["run", "missing", "waiver", "machine", "audio", "temporary files"]
    run_id: int | None
    plan_id: int | None


class OverviewBody(Body):
    """How it all stands: what is old, and the effects, those that need somebody first."""

    old: list[OldBody]
    effects: list[EffectStandingBody]
