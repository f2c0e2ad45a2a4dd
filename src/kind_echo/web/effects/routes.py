"""Effects and their builds."""

from datetime import UTC, datetime

from flask import Response
from flask_openapi3 import APIBlueprint
from sqlalchemy.orm import Session

from kind_echo.bench import upkeep
from kind_echo.bench.machines import add_build, add_offered, all_effects, settings_of
from kind_echo.bench.plans import builds_of
from kind_echo.database.models import Effect
from kind_echo.database.sessions import transaction
from kind_echo.web.effects.schemas import (
    BuildPath,
    ChangeBuildBody,
    EffectBody,
    EffectPath,
    EffectsBody,
    NamedBuildBody,
    NewBuildBody,
    NewEffectBody,
    SettingBody,
    SettingPath,
)
from kind_echo.web.http.answers import answer
from kind_echo.web.http.schemas import BuildBody, ChangeThingBody
from kind_echo.web.security.changing import change_thing
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


@api.post("/effects/<int:effect_id>/change", responses={200: EffectBody})
def change_effect(path: EffectPath, body: ChangeThingBody) -> Response:
    """Rename an effect, archive it, or bring it back."""
    with transaction() as session:
        change_thing(session, "effect", path.effect_id, body)
        return answer(_effect_body(session, upkeep.find(session, "effect", path.effect_id)))


@api.post("/effects/settings/<int:setting_id>/change")
def change_setting(path: SettingPath, body: ChangeThingBody) -> Response:
    """Rename a setting, archive it, or bring it back."""
    with transaction() as session:
        change_thing(session, "setting", path.setting_id, body)
    return Response(status=204)


@api.post("/builds/<int:build_id>/change", responses={200: BuildBody})
def change_build(path: BuildPath, body: ChangeBuildBody) -> Response:
    """Rename a build that no machine has, say something else of it, archive it, or bring it back."""
    with transaction() as session:
        change_thing(session, "build", path.build_id, ChangeThingBody(name=body.version, archived=body.archived))
        if body.note is not None:
            upkeep.change_note(session, path.build_id, body.note, who=caller().name, now=datetime.now(UTC))
        return answer(BuildBody.model_validate(upkeep.find(session, "build", path.build_id)))


@api.delete("/builds/<int:build_id>")
def delete_build(path: BuildPath) -> Response:
    """Delete a build that nothing stands on."""
    with transaction() as session:
        upkeep.delete_build(session, path.build_id, who=caller().name, now=datetime.now(UTC))
    return Response(status=204)


def _effect_body(session: Session, effect: Effect) -> EffectBody:
    builds = builds_of(session, effect.id)
    theirs = upkeep.named_by_machines(session, effect, builds)
    return EffectBody(
        id=effect.id,
        name=effect.name,
        archived=effect.archived_at is not None,
        description=effect.description,
        parameters=effect.parameters,
        builds=[
            NamedBuildBody(**BuildBody.model_validate(build).model_dump(), named_by_machine=build.id in theirs)
            for build in builds
        ],
        settings=[
            SettingBody(
                id=setting.id, name=setting.name, archived=setting.archived_at is not None, values=setting.parameters
            )
            for setting in settings_of(session, effect.id)
        ],
    )
