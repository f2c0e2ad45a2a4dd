"""Effects and their builds."""

from datetime import UTC, datetime
from pathlib import Path

from flask import Response
from flask_openapi3 import APIBlueprint
from sqlalchemy.orm import Session

from kind_echo.bench import upkeep
from kind_echo.bench.machines import (
    Uploaded,
    add_bare_effect,
    add_build,
    add_offered,
    all_effects,
    artefacts_of,
    keep_artefact,
    learn_of_plugin,
    settings_of,
)
from kind_echo.bench.plans import MOST_PRESET, Effect, Expectation, Setting, builds_of, expect, make_setting
from kind_echo.core.registry.errors import BadParameter
from kind_echo.database.sessions import transaction
from kind_echo.web.effects.schemas import (
    AboutBody,
    ArtefactBody,
    ChangeBuildBody,
    EffectBody,
    EffectsBody,
    ExpectBody,
    NamedBuildBody,
    NewArtefactQuery,
    NewBuildBody,
    NewEffectBody,
    NewPresetQuery,
    NewSettingBody,
    SettingBody,
    SettingPath,
)
from kind_echo.web.http.answers import answer
from kind_echo.web.http.files import with_body
from kind_echo.web.http.schemas import BuildBody, BuildPath, ChangeThingBody, EffectPath
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
    """Add an effect that a machine has, or one whose builds are uploaded."""
    with transaction() as session:
        now = datetime.now(UTC)
        if body.bare:
            added = add_bare_effect(session, body.name, who=caller().name, now=now)
        else:
            added = add_offered(session, body.name, now)
        return answer(_effect_body(session, added), 201)


@api.post("/effects/<int:effect_id>/settings", responses={201: SettingBody})
def new_setting(path: EffectPath, body: NewSettingBody) -> Response:
    """Name some values of an effect's parameters, for its plans to render with."""
    with transaction() as session:
        now = datetime.now(UTC)
        made = make_setting(session, path.effect_id, body.name, dict(body.values), who=caller().name, now=now)
        return answer(_setting_body(made), 201)


@api.post("/effects/<int:effect_id>/presets", responses={201: SettingBody})
def new_preset(path: EffectPath, query: NewPresetQuery) -> Response:
    """Keep a preset's file as a setting of an effect."""

    def keep(file: Path) -> Response:
        if file.stat().st_size > MOST_PRESET:
            raise BadParameter("preset", query.file, f"a file of {MOST_PRESET / 1e6:.0f} MB at most")
        with transaction() as session:
            made = make_setting(
                session, path.effect_id, query.name, dict(query.values), who=caller().name, now=datetime.now(UTC),
                preset=file.read_bytes(), preset_name=query.file,
            )  # fmt: skip
            return answer(_setting_body(made), 201)

    return with_body(query.file, keep)


@api.post("/builds/<int:build_id>/artefacts", responses={201: ArtefactBody})
def new_artefact(path: BuildPath, query: NewArtefactQuery) -> Response:
    """Keep the plug-in that a build is: a file, or a ZIP of its folder. The same again changes nothing."""
    uploaded = Uploaded(query.name, query.system, query.signature)

    def keep(file: Path) -> Response:
        with transaction() as session:
            made = keep_artefact(session, path.build_id, file, uploaded, who=caller().name, now=datetime.now(UTC))
            return answer(ArtefactBody.model_validate(made), 201)

    return with_body(query.name, keep)


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


@api.put("/effects/settings/<int:setting_id>/expected", responses={200: SettingBody})
def expect_of_setting(path: SettingPath, body: ExpectBody) -> Response:
    """Say what is expected of a setting; plans that are kept from now on are judged by it."""
    with transaction() as session:
        setting = expect(session, path.setting_id, body.expected, who=caller().name, now=datetime.now(UTC))
        return answer(_setting_body(setting))


@api.post("/builds/<int:build_id>/change", responses={200: BuildBody})
def change_build(path: BuildPath, body: ChangeBuildBody) -> Response:
    """Rename a build that no machine has, say something else of it, move it, archive it, or bring it back."""
    with transaction() as session:
        change_thing(session, "build", path.build_id, ChangeThingBody(name=body.version, archived=body.archived))
        if body.note is not None:
            upkeep.change_note(session, path.build_id, body.note, who=caller().name, now=datetime.now(UTC))
        if body.move is not None:
            upkeep.move_build(session, path.build_id, body.move, who=caller().name, now=datetime.now(UTC))
        return answer(BuildBody.model_validate(upkeep.find(session, "build", path.build_id)))


@api.delete("/builds/<int:build_id>")
def delete_build(path: BuildPath) -> Response:
    """Delete a build that nothing stands on."""
    with transaction() as session:
        upkeep.delete_build(session, path.build_id, who=caller().name, now=datetime.now(UTC))
    return Response(status=204)


@api.post("/builds/<int:build_id>/about")
def new_about(path: BuildPath, body: AboutBody) -> Response:
    """What the plug-in of a build says of itself: an effect of which nothing is known takes it over."""
    with transaction() as session:
        parameters = [one.document for one in body.parameters]
        learn_of_plugin(session, path.build_id, parameters, body.channels)
    return Response(status=204)


def _effect_body(session: Session, effect: Effect) -> EffectBody:
    builds = builds_of(session, effect.id)
    uploaded = artefacts_of(session, builds)
    theirs = upkeep.named_by_machines(session, effect, builds)
    return EffectBody(
        id=effect.id,
        name=effect.name,
        archived=effect.archived_at is not None,
        description=effect.description,
        parameters=effect.parameters,
        builds=[
            NamedBuildBody(
                **BuildBody.model_validate(build).model_dump(),
                named_by_machine=build.id in theirs,
                artefacts=[ArtefactBody.model_validate(one) for one in uploaded.get(build.id, [])],
            )
            for build in builds
        ],
        settings=[_setting_body(setting) for setting in settings_of(session, effect.id)],
    )


def _setting_body(setting: Setting) -> SettingBody:
    return SettingBody(
        id=setting.id, name=setting.name, archived=setting.archived_at is not None, values=setting.parameters,
        preset=setting.preset_name, expected=None if not setting.expected else Expectation(**setting.expected),
    )  # fmt: skip
