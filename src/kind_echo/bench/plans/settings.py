"""Settings made by themselves: named values of an effect's parameters, with a preset that they are set over."""

import hashlib
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.bench.machines import EffectNotFound
from kind_echo.bench.plans.unfolding import refused_values
from kind_echo.core.registry.errors import Conflict, Invalid
from kind_echo.core.registry.names import check_name
from kind_echo.database.models import Effect, Event, Setting
from kind_echo.renderers.contract import Values

MOST_PRESET = 16_000_000
"""Bytes."""


class SettingExists(Conflict):
    """A setting is to be made that is there."""

    def __init__(self, effect: str, name: str) -> None:
        self.effect, self.name = effect, name
        super().__init__(f"{effect} has a setting named {name} already; what was rendered with it stays what it was.")


class BadSetting(Invalid):
    """A setting cannot be what it is to be."""


def make_setting(
    session: Session, effect_id: int, name: str, values: Values, *, who: str, now: datetime,
    preset: bytes = b"", preset_name: str = "",
) -> Setting:  # fmt: skip
    """Write down a setting.

    Args:
        preset: a state that the plug-in saved, or a file of a preset; empty for none.
    Raises:
        BadSetting: a name that nobody can read, a parameter or a value that the effect has not, a preset too large.
        SettingExists: there is one of that name.
    """
    effect = session.get(Effect, effect_id)
    if effect is None:
        raise EffectNotFound(effect_id)
    try:
        check_name(name)
    except ValueError as error:
        raise BadSetting(f"{name!r} cannot be the name of a setting: {error}.") from error
    reasons = refused_values(effect, values)
    if reasons:
        raise BadSetting(f"{'; '.join(reasons)}.")
    if len(preset) > MOST_PRESET:
        raise BadSetting(f"{preset_name} has {len(preset) / 1e6:.1f} MB, and {MOST_PRESET / 1e6:.0f} MB are taken.")
    if session.scalar(select(Setting.id).where(Setting.effect_id == effect_id, Setting.name == name)) is not None:
        raise SettingExists(effect.name, name)
    made = Setting(effect_id=effect_id, name=name, parameters=values, parts=[])
    if preset:
        made.preset, made.preset_name = preset, preset_name
        made.preset_sha256 = hashlib.sha256(preset).hexdigest()
    session.add(made)
    session.flush()
    detail = {"setting": made.id, "effect": effect.name, "name": name, "preset": preset_name or None}
    session.add(Event(at=now, who=who, what="setting made", detail=detail))
    return made
