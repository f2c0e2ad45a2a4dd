"""Plans: templates, checking what is written, keeping it, and its revisions."""

from datetime import UTC, datetime

from flask import Response
from flask_openapi3 import APIBlueprint
from sqlalchemy.orm import Session

from kind_echo.bench.plans import (
    TEMPLATES,
    Plan,
    PlanDocument,
    PlanRevision,
    all_plans,
    builds_of,
    cost_of,
    differences,
    document_of,
    latest_revision,
    plan_from,
    plan_numbered,
    plan_of_effect,
    read_yaml,
    revision_numbered,
    revisions_of,
    run_counts,
    save_plan,
    unfold,
    unrenderable,
    write_yaml,
)
from kind_echo.bench.runs import places_in
from kind_echo.database.sessions import transaction
from kind_echo.web.http.answers import answer
from kind_echo.web.http.schemas import BuildBody, ChangeThingBody
from kind_echo.web.plans.schemas import (
    CostBody,
    KeepPlanBody,
    PlanBody,
    PlanPath,
    PlansBody,
    PlanTextBody,
    RevisionBody,
    RevisionQuery,
    TemplateBody,
    TemplateQuery,
    TemplatesBody,
    WrittenPlanBody,
)
from kind_echo.web.security.changing import change_thing
from kind_echo.web.security.doors import caller

api = APIBlueprint("plans", __name__, url_prefix="/api")


@api.get("/plans", responses={200: PlansBody})
def plans() -> Response:
    """All plans, with the builds that they can be run on."""
    with transaction() as session:
        return answer(PlansBody(plans=[_plan_body(session, plan) for plan in all_plans(session)]))


@api.get("/plans/templates", responses={200: TemplatesBody})
def templates() -> Response:
    """The kinds of plan that there are."""
    return answer(
        TemplatesBody(templates=[TemplateBody(key=t.key, title=t.title, purpose=t.purpose) for t in TEMPLATES])
    )


@api.get("/plans/from-template", responses={200: WrittenPlanBody})
def from_template(query: TemplateQuery) -> Response:
    """A template's plan for an effect; nothing is kept."""
    with transaction() as session:
        return answer(_written(session, plan_from(session, query.template, query.effect)))


@api.post("/plans/check", responses={200: WrittenPlanBody})
def check(body: PlanDocument) -> Response:
    """What a plan would be: its size, its cost, and what is different from the newest revision of that name."""
    with transaction() as session:
        return answer(_written(session, body))


@api.post("/plans/read", responses={200: WrittenPlanBody})
def read(body: PlanTextBody) -> Response:
    """A plan from YAML; nothing is kept."""
    with transaction() as session:
        return answer(_written(session, read_yaml(body.yaml)))


@api.post("/plans", responses={201: WrittenPlanBody})
def keep(body: KeepPlanBody) -> Response:
    """Keep a plan as the newest revision of its name."""
    with transaction() as session:
        revision = save_plan(session, body.document, who=caller().name, now=datetime.now(UTC))
        return answer(_kept(session, revision), 201)


@api.get("/plans/<int:plan_id>", responses={200: WrittenPlanBody})
def plan(path: PlanPath, query: RevisionQuery) -> Response:
    """A plan as it is written, in its newest revision or in another."""
    with transaction() as session:
        revision = (
            latest_revision(session, path.plan_id)
            if query.revision is None
            else revision_numbered(session, path.plan_id, query.revision)
        )
        return answer(_kept(session, revision))


@api.post("/plans/<int:plan_id>/change", responses={200: PlanBody})
def change(path: PlanPath, body: ChangeThingBody) -> Response:
    """Rename a plan, archive it, or bring it back."""
    with transaction() as session:
        change_thing(session, "plan", path.plan_id, body)
        return answer(_plan_body(session, plan_numbered(session, path.plan_id)))


def _kept(session: Session, revision: PlanRevision) -> WrittenPlanBody:
    return _written(session, document_of(session, revision))


def _written(session: Session, document: PlanDocument) -> WrittenPlanBody:
    cost = cost_of(session, document, unfold(session, document))
    kept = plan_of_effect(session, document.effect, document.plan)
    newest = document_of(session, latest_revision(session, kept.id)) if kept is not None else None
    return WrittenPlanBody(
        id=kept.id if kept is not None else None,
        document=document,
        yaml=write_yaml(document),
        cost=CostBody.model_validate(cost),
        differences=differences(newest, document) if newest is not None else [],
        revisions=_revisions(session, kept) if kept is not None else [],
        unrenderable=unrenderable(session, document),
    )


def _revisions(session: Session, kept: Plan) -> list[RevisionBody]:
    """Newest first, each with what changed in it."""
    listed = revisions_of(session, kept.id)
    documents = [document_of(session, revision) for revision in listed]
    counts = run_counts(session, kept.id)
    return [
        RevisionBody(
            id=revision.id, number=revision.number, created_at=revision.created_at, made_by=revision.made_by,
            note=revision.note, runs=counts.get(revision.id, 0),
            differences=differences(documents[i - 1], documents[i]) if i > 0 else [],
        )
        for i, revision in enumerate(listed)
    ][::-1]  # fmt: skip


def _plan_body(session: Session, plan: Plan) -> PlanBody:
    revision = latest_revision(session, plan.id)
    return PlanBody(
        id=plan.id,
        name=plan.name,
        archived=plan.archived_at is not None,
        effect=plan.effect.name,
        revision=revision.number,
        cells=len(places_in(revision)),
        builds=[BuildBody.model_validate(build) for build in builds_of(session, plan.effect_id)],
    )
