"""What is expected of a setting, whatever plan it stands in: a law of levels, unity, a latency; and limits of that."""

from datetime import datetime

from pydantic import BaseModel, ConfigDict, Field, model_validator
from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.bench.plans.document import Law
from kind_echo.core.registry.errors import NotFound
from kind_echo.core.registry.measure import Limit
from kind_echo.core.signals import Stimulus
from kind_echo.database.models import Effect, Event, Setting

EXPECTED_MEASURES = ("curve_error_worst", "law_error_tone", "latency_told")
"""What the limits of an expectation are of."""


class NoSuchSetting(NotFound):
    """A setting is asked for that is not there."""

    def __init__(self, setting_id: int) -> None:
        self.setting_id = setting_id
        super().__init__(f"There is no setting {setting_id}.")


class Expectation(BaseModel):
    """What an effect so set is to do.

    `law` is what it makes of levels, `within` so many dB; a ratio of 1 without make-up is unity. `latency` is what the
    effect tells its host, in samples.
    """

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)

    law: Law | None = None
    within: float = Field(default=0.5, gt=0, le=60)
    latency: int | None = Field(default=None, ge=0, le=10_000_000)

    @model_validator(mode="after")
    def _expects_something(self) -> "Expectation":
        if self.law is None and self.latency is None:
            raise ValueError("nothing is expected: name a law of levels or a latency")
        return self


def expectations_of(session: Session, effect: Effect) -> dict[str, Expectation]:
    """What is expected of an effect's settings, by their name, of those of which anything is."""
    rows = select(Setting.name, Setting.expected).where(Setting.effect_id == effect.id, Setting.expected.is_not(None))
    return {name: Expectation(**expected) for name, expected in session.execute(rows) if expected}


def expect(session: Session, setting_id: int, expected: Expectation | None, *, who: str, now: datetime) -> Setting:
    """Say what is expected of a setting, or, with None, nothing more: plans that are kept from now on go by it.

    Raises NoSuchSetting.
    """
    setting = session.get(Setting, setting_id)
    if setting is None:
        raise NoSuchSetting(setting_id)
    setting.expected = None if expected is None else expected.model_dump(exclude_none=True)
    effect = session.get_one(Effect, setting.effect_id)
    detail = {"setting": setting.id, "effect": effect.name, "name": setting.name, "expected": setting.expected}
    session.add(Event(at=now, who=who, what="expectation set", detail=detail))
    return setting


def law_for(expected: Expectation | None, stimulus: Stimulus) -> Law | None:
    """The law that a render of a signal is held against: that of steady tones and staircases alone says anything."""
    return expected.law if expected is not None and _is_of_levels(stimulus) else None


def expected_limits(expected: Expectation | None, stimulus: Stimulus) -> dict[str, Limit]:
    """The limits that what is expected sets for a render of a signal, by measure."""
    if expected is None:
        return {}
    limits = {}
    if expected.law is not None and _is_of_levels(stimulus):
        key = "curve_error_worst" if stimulus.method == "transfer" else "law_error_tone"
        limits[key] = Limit(-expected.within, expected.within)
    if expected.latency is not None:
        limits["latency_told"] = Limit(expected.latency, expected.latency)
    return limits


def _is_of_levels(stimulus: Stimulus) -> bool:
    return stimulus.method in ("tone", "transfer")
