"""Level controls whose detector is exponential and whose gain is not: closed forms, and a detector run by samples.

The gain computer of Giannoulis, Massberg and Reiss (J. Audio Eng. Soc. 60, 2012, section 2.2): over its threshold the
gain falls by a share of the decibels that the detector reads.
"""

import warnings
from typing import Literal

import numpy as np
import pytest
from numpy.typing import NDArray

from kind_echo.core.comparison.compare import compare
from kind_echo.core.registry.readings import Reading
from kind_echo.core.systems.dynamics import measure_dynamics
from kind_echo.core.systems.law_change import with_changed_law
from kind_echo.core.systems.times import time_constant
from kind_echo.wording.causes import describe
from tests.core.conftest import columns, noise, reading

R = 48_000
SLOPE = 0.75
Floats = NDArray[np.float64]
Follows = Literal["amplitude", "power"]


def _burst(low: float, high: float, seconds: float) -> Floats:
    frames = round(seconds * R)
    level = np.repeat([low, high, low, low], frames)
    return np.asarray(10 ** (level / 20) * np.sin(2 * np.pi * 1000 * np.arange(4 * frames) / R))


def _detected(follows: Follows, attack: float, release: float, low: float, high: float, seconds: float) -> Floats:
    """The level in dB that a detector reads, in closed form."""
    decibels = {"amplitude": 20, "power": 10}[follows]
    under, over = 10 ** (low / decibels), 10 ** (high / decibels)
    frames = round(seconds * R)
    rise = over + (under - over) * np.exp(-np.arange(frames) / R / attack)
    fall = under + (rise[-1] - under) * np.exp(-np.arange(2 * frames) / R / release)
    return np.asarray(decibels * np.log10(np.concatenate([np.full(frames, under), rise, fall])))


def _through(x: Floats, detected: Floats, threshold: float, added: float = 0.0) -> list[Reading]:
    gain = -SLOPE * np.maximum(0.0, detected - threshold)
    y = x * 10 ** (gain / 20) + added * noise(len(x))[:, 0]
    return measure_dynamics(columns(x), columns(y))[0]


@pytest.mark.parametrize("follows", ["amplitude", "power"])
@pytest.mark.parametrize(("low", "high", "threshold"), [(-26, -6, -50), (-16, -6, -50), (-26, -6, -20)])
@pytest.mark.parametrize(("attack", "release"), [(0.02, 0.06), (0.05, 0.2)])
def test_a_detector_has_its_own_constant(
    follows: Follows, low: float, high: float, threshold: float, attack: float, release: float
) -> None:
    found = _through(_burst(low, high, 1.2), _detected(follows, attack, release, low, high, 1.2), threshold)
    one = reading(found, "attack_constant")
    assert one.value == pytest.approx(1000 * attack, rel=0.01)
    assert f"of a detector that follows the {follows}" in str(one.why)
    assert one.reason == "detector"
    after = reading(found, "release_constant")
    if after.value is None:  # over its threshold alone it falls like a ramp, which two kinds of detector can make
        assert threshold > low
        assert "not one exponential" in str(after.why)
    else:
        assert after.value == pytest.approx(1000 * release, rel=0.01)
        assert f"of a detector that follows the {follows}" in str(after.why)


def test_an_averaging_detector_run_by_samples_has_its_constant() -> None:
    """One pole on the square of each sample, 10 ms; its ripple lies within a period of the tone."""
    x = _burst(-26, -6, 0.5)
    share, state, power = np.exp(-1 / (0.010 * R)), 0.0, np.empty(len(x))
    for i, square in enumerate(x * x):
        state = share * state + (1 - share) * square
        power[i] = state
    found = _through(x, 10 * np.log10(np.maximum(power, 1e-12)), -50)
    for key in ("attack_constant", "release_constant"):
        assert reading(found, key).value == pytest.approx(10, rel=0.01)
        assert "follows the power" in str(reading(found, key).why)


@pytest.mark.parametrize(("fast", "slow", "share"), [(0.03, 0.05, 0.5), (0.01, 0.3, 0.2), (0.03, 0.1, 0.5)])
def test_a_gain_that_is_not_quite_one_exponential_says_so_by_its_spread(fast: float, slow: float, share: float) -> None:
    """Two exponentials by construction: no detector, and known no better than the halves of the way agree."""
    seconds = 8 * slow
    x, frames = _burst(-26, -6, seconds), round(seconds * R)
    t = np.arange(2 * frames) / R
    left = share * np.exp(-t / fast) + (1 - share) * np.exp(-t / slow)
    gain = np.concatenate([np.zeros(frames), -8 * (1 - left[:frames]), -8 * (1 - left[frames - 1]) * left])
    one = reading(measure_dynamics(columns(x), columns(x * 10 ** (gain / 20)))[0], "release_constant")
    assert "not quite one exponential" in str(one.why)
    assert one.value is not None
    assert one.uncertainty is not None
    assert 1000 * fast < one.value < 1000 * slow
    assert one.uncertainty > 0.01 * one.value


def test_noise_is_no_delay() -> None:
    """Noise 16 dB under an output that hardly steps: taken late by more than it is long, it would move less."""
    low, high = -26, -6
    found = _through(_burst(low, high, 0.75), _detected("amplitude", 0.01, 0.01, low, high, 0.75), -50, 1e-3)
    assert reading(found, "settled_gain_low").value == pytest.approx(-SLOPE * 24, abs=0.1)
    assert reading(found, "settled_gain_high").value == pytest.approx(-SLOPE * 44, abs=0.1)


def test_a_detector_is_not_compared_with_a_gain() -> None:
    """Between the same two gains, once by a detector of amplitude, once by an exponential of the gain."""
    x = _burst(-26, -6, 1.2)
    by_level = -SLOPE * (_detected("amplitude", 0.05, 0.2, -26, -6, 1.2) + 50)
    frames = round(1.2 * R)
    t = np.arange(frames) / R
    fall = by_level[0] + (by_level[2 * frames - 1] - by_level[0]) * (1 - np.exp(-t / 0.02))
    own = np.concatenate([by_level[:frames], fall, by_level[2 * frames :]])
    reference, render = (columns(x * 10 ** (gain / 20)) for gain in (by_level, own))
    found = with_changed_law(compare(reference, render), columns(x), reference, render)
    assert "attack" not in describe(found.causes)


def test_the_noise_of_a_part_as_short_as_the_window_is_unknown_and_no_warning() -> None:
    """Four windows of the tone, 1 dB down with a time constant of one of them: it has settled, and no end is left."""
    smear = 48
    gain = -(1 - np.exp(-np.arange(4 * smear) / smear))
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        one = time_constant("attack_constant", "1", gain, (0.0, -1.0), (-26.0, -6.0), 0.0, smear, R)
    assert one.value == pytest.approx(1.0, rel=0.1)
