"""What takes the space, the rule for it, and what a rule would drop."""

from datetime import UTC, datetime

from flask import Response
from flask_openapi3 import APIBlueprint

from kind_echo.bench import queue
from kind_echo.bench.storage import (
    GIGABYTE,
    Rule,
    current_rule,
    held_by,
    set_rule,
    what_takes_space,
    would_drop,
    would_drop_in_all,
)
from kind_echo.database.sessions import transaction
from kind_echo.web.http.answers import answer
from kind_echo.web.security.doors import caller
from kind_echo.web.storage.schemas import (
    DryRunBody,
    DryRunQuery,
    KeptRuleBody,
    OwnSpaceBody,
    PlanShareBody,
    RuleBody,
    ShareBody,
    SpaceBody,
    StorageBody,
)

api = APIBlueprint("storage", __name__, url_prefix="/api/storage")


@api.get("", responses={200: StorageBody})
def storage() -> Response:
    """What takes the space, and the rule in force."""
    with transaction() as session:
        space, rule = what_takes_space(session), current_rule(session)
        own = OwnSpaceBody(bytes=held_by(session, caller().name), most=rule.person_bytes)
    body = SpaceBody(
        parts=[ShareBody.model_validate(part) for part in space.parts],
        plans=[
            PlanShareBody(effect=effect, plan=plan, bytes=share.bytes, pieces=share.pieces or 0)
            for effect, plan, share in space.plans
        ],
        people=[ShareBody.model_validate(share) for share in space.people],
        raw=space.raw,
        dropped=space.dropped,
    )
    return answer(StorageBody(space=body, rule=_rule_body(rule), own=own))


@api.post("/rule", responses={200: KeptRuleBody})
def new_rule(body: RuleBody) -> Response:
    """Set the rule; what it drops goes within a day, or at once by POST /api/storage/drop."""
    with transaction() as session:
        rule = set_rule(
            session, body.keep_runs, body.person_gigabytes, body.all_gigabytes,
            who=caller().name, now=datetime.now(UTC),
        )  # fmt: skip
        return answer(_rule_body(rule))


@api.get("/dry-run", responses={200: DryRunBody})
def dry_run(query: DryRunQuery) -> Response:
    """What a rule would drop now; nothing is dropped."""
    with transaction() as session:
        whole = would_drop_in_all(session, query.keep_runs)
        plans = [
            PlanShareBody(effect=effect, plan=plan, bytes=part.bytes, pieces=part.pieces)
            for effect, plan, part in would_drop(session, query.keep_runs)
        ]
    return answer(DryRunBody(pieces=whole.pieces, bytes=whole.bytes, plans=plans))


@api.post("/drop")
def drop() -> Response:
    """Have a worker drop now what the rule in force says."""
    with transaction() as session:
        queue.drop_audio(session)
    return Response(status=204)


def _rule_body(rule: Rule) -> KeptRuleBody:
    return KeptRuleBody(
        keep_runs=rule.keep_runs,
        person_gigabytes=None if rule.person_bytes is None else rule.person_bytes / GIGABYTE,
        all_gigabytes=None if rule.all_bytes is None else rule.all_bytes / GIGABYTE,
        changed_by=rule.changed_by,
        changed_at=rule.changed_at,
    )
