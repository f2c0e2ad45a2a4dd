"""The stand-in clipper does what it says, for any block size."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from kind_echo.core.registry.errors import BadParameter
from kind_echo.renderers.contract import RenderFailed, RenderRequest
from kind_echo.renderers.stand_in import StandInRenderer
from kind_echo.standins.effects import Effect, NoSuchBuild, Values
from kind_echo.standins.oversampling import HALF_LENGTH, anti_alias_filter
from kind_echo.standins.skerry import SKERRY

HARD: Values = {"shape": "hard", "ceiling": -6.0, "drive": 6.0, "oversampling": 1}


def _skerry(values: Values, channels: int = 1) -> Effect:
    return SKERRY.load("2.0.3", values, 48_000, channels)


def test_hard_clipping_without_oversampling_is_arithmetic() -> None:
    samples = np.linspace(-1, 1, 201)[:, None]
    out = _skerry(HARD).process(samples)
    ceiling = 10 ** (-6 / 20)
    np.testing.assert_allclose(out, np.clip(samples * 10 ** (6 / 20), -ceiling, ceiling), atol=1e-15)


@settings(max_examples=20)
@given(
    st.lists(st.integers(1, 300), min_size=1, max_size=8),
    st.sampled_from([1, 2, 4, 8, 16]),
    st.sampled_from(["all", "difference"]),
)
def test_block_sizes_change_no_bit(sizes: list[int], factor: int, raises: str) -> None:
    samples = np.random.default_rng(2).uniform(-1, 1, (sum(sizes), 2))
    values = HARD | {"oversampling": factor, "raises": raises, "mix": 70.0}
    whole = _skerry(values, 2).process(samples)
    effect = _skerry(values, 2)
    parts = [effect.process(block) for block in np.split(samples, np.cumsum(sizes)[:-1])]
    assert np.array_equal(np.concatenate(parts), whole)


@pytest.mark.parametrize("factor", [2, 4, 8, 16])
def test_oversampled_and_idle_it_is_a_delay_of_what_it_claims(factor: int) -> None:
    effect = _skerry({"oversampling": factor})
    tone = 0.5 * np.sin(2 * np.pi * 1000 * np.arange(4800) / 48_000)[:, None]
    out = effect.process(tone)
    assert effect.claimed_latency == 2 * HALF_LENGTH
    late = effect.claimed_latency
    np.testing.assert_allclose(out[2 * late : 4000], tone[late : 4000 - late], atol=1e-5)


def test_with_only_the_difference_raised_what_is_under_the_ceiling_passes_to_the_bit() -> None:
    noise = np.random.default_rng(3).uniform(-0.3, 0.3, (2000, 1))
    effect = _skerry({"oversampling": 8, "raises": "difference"})
    out = effect.process(noise)
    assert np.array_equal(out[effect.claimed_latency :], noise[: -effect.claimed_latency])


def test_half_the_mix_is_halfway_between_dry_and_wet() -> None:
    samples = np.linspace(-1, 1, 101)[:, None]
    wet, half = (_skerry(HARD | {"mix": mix}).process(samples) for mix in (100.0, 50.0))
    np.testing.assert_allclose(half, (samples + wet) / 2, atol=1e-15)


def test_the_dc_filter_takes_a_constant_away() -> None:
    out = _skerry({"dc filter": "on"}).process(np.full((48_000, 1), 0.25))
    assert abs(out[-1, 0]) < 1e-9


def test_the_anti_alias_filter_stops_what_would_fold() -> None:
    """scipy.signal.freqz as the outside yardstick: flat to 0.42 of the base rate, 100 dB down from 0.54 of it."""
    frequency, response = signal.freqz(anti_alias_filter(8), worN=8192, fs=8.0)
    level = 20 * np.log10(np.abs(response) + 1e-12)
    assert np.abs(level[frequency < 0.42]).max() < 0.01
    assert level[frequency > 0.54].max() < -100


def test_what_does_not_exist_is_refused() -> None:
    with pytest.raises(NoSuchBuild, match="has no build"):
        SKERRY.load("1.0", HARD, 48_000, 1)
    with pytest.raises(BadParameter, match="oversampling=3"):
        _skerry({"oversampling": 3})
    with pytest.raises(BadParameter, match="one of the parameters of Skerry"):
        _skerry({"warmth": 11})
    with pytest.raises(BadParameter, match="a number from -40 to 0"):
        _skerry({"ceiling": "low"})
    silence = np.zeros((10, 1))
    request = RenderRequest("Skerry", "2.0.3", HARD, "Almanac", "9", "offline", 48_000, 64, silence)
    with pytest.raises(RenderFailed, match="no stand-in host Almanac 9"):
        StandInRenderer().render(request)
