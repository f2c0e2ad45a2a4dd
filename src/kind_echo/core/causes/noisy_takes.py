"""Two takes of a noisy effect: what is told of a pair in which the reference has noise of its own."""

from dataclasses import replace

import numpy as np

from kind_echo.core.causes import naming
from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.explained import Explained
from kind_echo.core.causes.fitting import without_events_and_offsets
from kind_echo.core.causes.lineup import LinedUp, Pair
from kind_echo.core.causes.models import Model, decibels
from kind_echo.core.causes.noisy_sides import SidesNoise, noise_of_sides
from kind_echo.core.causes.plain import length_cause
from kind_echo.core.causes.shares import by_share
from kind_echo.core.causes.thresholds import NAMING
from kind_echo.core.levels.integrity import Gap

_SOUND_OVER_NOISE_RATIO = 4.0  # times the power of the reference's noise, from which there is a sound in a gap


def explain_noisy(pair: Pair, at: LinedUp) -> Explained | None:
    """The causes where noise that the reference has too, a level and events explain all channels; else None."""
    plain = without_events_and_offsets(pair, at)
    noise: dict[int, SidesNoise] = {}
    models: dict[int, Model] = {}
    for c in pair.heard:
        # Where the reference has noise alone, a quiet render has what looks like a gap: as it is first, then without.
        one = replace(at.lined[c], y=at.lined[c].y - plain.offsets[c])
        found = noise_of_sides(one) or noise_of_sides(plain.level[c])
        if found is None or found.power <= NAMING.floor:
            return None
        error = one.y - found.gain * one.inner
        noise[c], models[c] = found, Model((), found.gain, error, one.power(error))
    plain.models.update(models)
    plain.tones.update(dict.fromkeys(models, False))
    plain.shapes.update(dict.fromkeys(models))
    causes = [*naming.channel_causes(pair, at), *naming.delay_causes(pair, at)]
    causes += [*naming.causes_at_level(plain, pair.heard), _named(list(noise.values()))]
    gaps = [gap for gap in pair.known.gaps if _is_one(pair, gap, noise.get(gap.channel))]
    causes += naming.event_causes(pair, plain, [list(steps) for steps in pair.known.clicks], gaps)
    return Explained([*by_share(causes), *length_cause(pair.known)], np.ones(pair.channels))


def _named(noise: list[SidesNoise]) -> Cause:
    mine = [one for one in noise if one.in_render]
    level = round(decibels(float(np.mean([one.power for one in mine or noise]))), 1)
    why = f"what differs does not follow the signal, and {'both have' if mine else 'the reference alone has'} it"
    return Cause("noise", amount=level, unit="dBFS", why=why, sides="both" if mine else "reference")


def _is_one(pair: Pair, gap: Gap, noise: SidesNoise | None) -> bool:
    """Whether more than noise is missing in a gap of the render."""
    if noise is None:
        return True
    x = pair.reference.read(max(0, gap.start), gap.start + gap.length)[:, gap.channel]
    return bool(np.mean(x**2) > _SOUND_OVER_NOISE_RATIO * noise.reference_power)
