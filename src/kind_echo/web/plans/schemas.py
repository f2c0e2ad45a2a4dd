"""Bodies of plans as they are written, checked and kept."""

from datetime import datetime

from pydantic import Field

from kind_echo.bench.plans import PlanDocument
from kind_echo.web.http.schemas import Body, BuildBody, RequestModel


class PlanBody(Body):
    """A plan, what it tests, and how large a run of it is."""

    id: int
    name: str
    archived: bool
    effect: str
    revision: int
    cells: int
    builds: list[BuildBody]


class PlansBody(Body):
    """All plans."""

    plans: list[PlanBody]


class TemplateBody(Body):
    """A kind of plan, and what it finds out."""

    key: str
    title: str
    purpose: str


class TemplatesBody(Body):
    """All templates."""

    templates: list[TemplateBody]


class RevisionBody(Body):
    """A revision of a plan: who made it and why, and what it has that the one before has not."""

    id: int
    number: int
    created_at: datetime
    made_by: str
    note: str
    runs: int
    differences: list[str]


class CostBody(Body):
    """What a run will take; no seconds before anything was rendered."""

    cells: int
    renders: int
    seconds: float | None
    most_bytes: int


class WrittenPlanBody(Body):
    """A plan as it is written, in both forms; `unrenderable` names hosts in which no known machine has the effect."""

    id: int | None
    document: PlanDocument
    yaml: str
    cost: CostBody
    differences: list[str]
    revisions: list[RevisionBody]
    unrenderable: list[str]


class PlanTextBody(Body):
    """A plan as YAML."""

    yaml: str = Field(min_length=1, max_length=1_000_000)


class KeepPlanBody(Body):
    """A plan to keep."""

    document: PlanDocument


class PlanPath(RequestModel):
    """Which plan."""

    plan_id: int


class RevisionQuery(RequestModel):
    """Which revision; the newest unless given."""

    revision: int | None = None


class TemplateQuery(RequestModel):
    """Which template, for which effect."""

    template: str
    effect: str
