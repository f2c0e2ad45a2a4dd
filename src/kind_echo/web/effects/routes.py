"""Effects and their builds."""

from datetime import UTC, datetime

from flask import Response
from flask_openapi3 import APIBlueprint
from sqlalchemy.orm import Session

from kind_echo.bench.machines import add_build, add_offered, all_effects, settings_of
from kind_echo.bench.plans import builds_of
from kind_echo.database.models import Effect
from kind_echo.database.sessions import transaction
from kind_echo.web.effects.schemas import EffectBody, EffectsBody, NewBuildBody, NewEffectBody, SettingBody
from kind_echo.web.http.answers import answer
from kind_echo.web.http.schemas import BuildBody
from kind_echo.web.security.doors import caller

api = APIBlueprint("effects", __name__, url_prefix="/api")


@api.get("/effects", responses={200: EffectsBody})
def effects() -> Response:
    """All effects with their builds and settings."""
    with transaction() as session:
        return answer(EffectsBody(effects=[_effect_body(session, effect) for effect in all_effects(session)]))


@api.post("/effects", responses={201: EffectBody})
def new_effect(body: NewEffectBody) -> Response:
    """Add an effect that a machine has."""
    with transaction() as session:
        return answer(_effect_body(session, add_offered(session, body.name, datetime.now(UTC))), 201)


@api.post("/builds", responses={201: BuildBody})
def new_build(body: NewBuildBody) -> Response:
    """Tell of a build that has been made; one that is known already is answered as it is."""
    with transaction() as session:
        now = datetime.now(UTC)
        build = add_build(session, body.effect, body.version, body.note, who=caller().name, now=now)
        return answer(BuildBody.model_validate(build), 201)


def _effect_body(session: Session, effect: Effect) -> EffectBody:
    return EffectBody(
        id=effect.id,
        name=effect.name,
        description=effect.description,
        parameters=effect.parameters,
        builds=[BuildBody.model_validate(build) for build in builds_of(session, effect.id)],
        settings=[
            SettingBody(id=setting.id, name=setting.name, values=setting.parameters)
            for setting in settings_of(session, effect.id)
        ],
    )
