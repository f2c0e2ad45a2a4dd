"""References and their history."""

from datetime import UTC, datetime

from flask import Response
from flask_openapi3 import APIBlueprint

from kind_echo.bench.decisions import (
    Reference,
    approve_build,
    current_references,
    history,
    references_by_build,
    renders_of_build,
)
from kind_echo.bench.notices import tell_of_act
from kind_echo.bench.runs import Cell
from kind_echo.database.sessions import transaction
from kind_echo.web.decisions.schemas import ActBody
from kind_echo.web.decisions.views import act_body, page_root
from kind_echo.web.http.answers import answer
from kind_echo.web.http.schemas import BuildPath, ConditionBody, EffectPath
from kind_echo.web.references.schemas import (
    ApprovedBuildBody,
    ReferenceBody,
    ReferencePath,
    ReferencesBody,
    ReferencesByBuildBody,
    ReferencesOfBuildBody,
    RendersOfBuildBody,
)
from kind_echo.web.security.doors import caller

api = APIBlueprint("references", __name__, url_prefix="/api")


@api.get("/references", responses={200: ReferencesBody})
def references() -> Response:
    """All current references."""
    with transaction() as session:
        found = current_references(session)
        return answer(ReferencesBody(references=[_reference_body(r, c) for r, c in found]))


@api.get("/references/<int:reference_id>/history", responses={200: ReferencesBody})
def reference_history(path: ReferencePath) -> Response:
    """All references that a case and condition ever had, newest first."""
    with transaction() as session:
        found = history(session, path.reference_id)
        return answer(ReferencesBody(references=[_reference_body(r, c) for r, c in found]))


@api.get("/effects/<int:effect_id>/references", responses={200: ReferencesByBuildBody})
def references_of_effect(path: EffectPath) -> Response:
    """The builds that references of an effect came from, with how many."""
    with transaction() as session:
        found = references_by_build(session, path.effect_id)
        return answer(ReferencesByBuildBody(builds=[ReferencesOfBuildBody.model_validate(one) for one in found]))


@api.post("/builds/<int:build_id>/references", responses={201: ActBody})
def approve_of_build(path: BuildPath, body: ApprovedBuildBody) -> Response:
    """Make the renders of a build that have one of some verdicts the references of their cases, in one act."""
    with transaction() as session:
        act = approve_build(
            session, path.build_id, body.verdicts, expected=body.expected, who=caller().name, why=body.why,
            now=datetime.now(UTC),
        )  # fmt: skip
        tell_of_act(session, act, page_root(), act.at)
        return answer(act_body(session, act), 201)


@api.get("/builds/<int:build_id>/references", responses={200: RendersOfBuildBody})
def renders_to_approve(path: BuildPath) -> Response:
    """How many renders of a build can become references, by verdict, and how many cannot or are already."""
    with transaction() as session:
        found = renders_of_build(session, path.build_id)
        return answer(
            RendersOfBuildBody(
                version=found.build.version,
                approvable={verdict: len(cells) for verdict, cells in found.cell_ids.items()},
                current=found.current,
                unfit=found.unfit,
                without_reading=found.without_reading,
            )
        )


def _reference_body(reference: Reference, cell: Cell) -> ReferenceBody:
    """A reference and where it came from."""
    return ReferenceBody(
        id=reference.id,
        effect=cell.run.build.effect.name,
        signal=cell.case.signal.name,
        setting=cell.case.setting.name,
        condition=ConditionBody.model_validate(reference.condition),
        version=cell.run.build.version,
        run_id=cell.run_id,
        cell_id=cell.id,
        approved_by=reference.act.who,
        approved_at=reference.act.at,
        why=reference.act.why,
        replaces_id=reference.replaces_id,
        retired_at=reference.retired_at,
        undone=reference.act.undone_at is not None,
        sha256=reference.render.content_sha256,
    )
