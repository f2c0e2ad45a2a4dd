"""Listening statistics, level matching, and what real encoders do."""

import math
from collections.abc import Callable
from fractions import Fraction
from typing import Any

import numpy as np
import pytest
import scipy.stats
from hypothesis import given
from hypothesis import strategies as st

from kind_echo.audio_io.codecs import LossyCodec, usual_codec, working_rate
from kind_echo.core.audio.source import ArraySource
from kind_echo.core.listening.blind import chance_whenever_looked, listening_readings, sequential_readings, tail
from kind_echo.core.listening.lossy import measure_lossy
from kind_echo.core.listening.match import match_level
from kind_echo.core.registry.errors import BadParameter
from tests.core.conftest import columns, noise, overall, reading


@pytest.mark.parametrize(("correct", "trials", "p"), [(7, 10, 0.172), (18, 25, 0.022)])
def test_listening_tests_by_the_exact_binomial(correct: int, trials: int, p: float) -> None:
    """The design's worked values, and scipy.stats.binom as the outside yardstick."""
    found = listening_readings(correct, trials)
    assert reading(found, "abx_p").value == pytest.approx(p, abs=0.0005)
    assert reading(found, "abx_p").value == pytest.approx(scipy.stats.binom.sf(correct - 1, trials, 0.5), abs=1e-12)
    assert ("No conclusion" in str(reading(found, "abx_p").why)) == (p > 0.05)
    enough = reading(found, "abx_needed").value
    assert enough is not None
    assert scipy.stats.binom.sf(enough - 1, trials, 0.5) <= 0.05 < scipy.stats.binom.sf(enough - 2, trials, 0.5)
    assert reading(found, "abx_power").value == pytest.approx(scipy.stats.binom.sf(enough - 1, trials, 0.7), abs=1e-9)


@pytest.mark.parametrize(("correct", "trials"), [(0, 10), (10, 10), (12, 16), (500, 1000), (1, 1)])
def test_the_share_right_is_bounded_as_clopper_and_pearson_do(correct: int, trials: int) -> None:
    found = listening_readings(correct, trials)
    exact = scipy.stats.binomtest(correct, trials).proportion_ci(0.95, method="exact")
    assert reading(found, "abx_low").value == pytest.approx(exact.low, abs=1e-9)
    assert reading(found, "abx_high").value == pytest.approx(exact.high, abs=1e-9)


def test_answers_are_judged_as_they_come_by_walds_bounds() -> None:
    # Wald's own formulas: log((1 − β)/α) and log(β/(1 − α)); 0.7 against 0.5 gains log 1.4 or loses log 0.6.
    found = sequential_readings([True] * 8 + [False], 0.7, 0.05, 0.05)
    assert reading(found, "abx_upper").value == pytest.approx(math.log(19))
    assert reading(found, "abx_lower").value == pytest.approx(-math.log(19))
    assert reading(found, "abx_ratio").value == pytest.approx(8 * math.log(1.4) - math.log(1 / 0.6))
    assert "go on" in str(reading(found, "abx_ratio").why)
    found = sequential_readings([True] * 9 + [False] * 50, 0.7, 0.05, 0.05)
    assert "against guessing after 9 answers" in str(reading(found, "abx_ratio").why)  # what follows counts for nothing
    found = sequential_readings([False] * 6, 0.7, 0.05, 0.05)
    assert "No sign of hearing it after 6 answers" in str(reading(found, "abx_ratio").why)


def test_a_guesser_is_believed_in_no_more_sittings_than_was_stated() -> None:
    rng = np.random.default_rng(1)
    sittings = (sequential_readings(list(rng.random(400) < 0.5), 0.7, 0.05, 0.2) for _ in range(2000))
    alarms = sum("against guessing" in str(reading(found, "abx_ratio").why) for found in sittings)
    # P(false alarm) ≤ α/(1 − β) by Wald's inequality; the overshoot of whole answers makes it less.
    assert alarms / 2000 < 0.05 / 0.8 + 3 * math.sqrt(0.06 * 0.94 / 2000)


def test_too_few_trials_prove_nothing() -> None:
    """All of 4 right is p = 0.0625: arithmetic."""
    assert reading(listening_readings(4, 4), "abx_needed").value is None
    many = listening_readings(5_000, 9_999, 0.5123)
    assert reading(many, "abx_p").value == pytest.approx(scipy.stats.binom.sf(4_999, 9_999, 0.5), abs=1e-9)
    assert reading(many, "abx_needed").value == scipy.stats.binom.isf(0.05, 9_999, 0.5) + 1
    with pytest.raises(BadParameter, match="from 0 to the 10 trials"):
        listening_readings(11, 10)


@pytest.mark.parametrize("by", ["rms", "loudness_integrated", "vu_max", "sample_peak", "true_peak"])
def test_a_match_reaches_its_target(by: Any) -> None:
    found = match_level(ArraySource(noise(4 * 48_000, 2), 48_000), -20.0, by)
    assert found.factor is not None
    assert reading(found.readings, "match_error").value == pytest.approx(0, abs=0.001)


def test_the_loudest_passage_is_where_it_was_put() -> None:
    samples = noise(20 * 48_000)
    samples[8 * 48_000 : 11 * 48_000] *= 4
    found = overall(match_level(ArraySource(samples, 48_000), -20.0, "rms", (8.0, 11.0)).readings)
    assert found["loudest_start"] == pytest.approx(8.0, abs=0.02)
    assert found["loudest_end"] == pytest.approx(11.0, abs=0.02)
    assert match_level(columns(np.zeros(48_000)), -20.0, "rms").factor is None


class Counted:
    """Counts how often an encoder is used."""

    def __init__(self, encoder: LossyCodec) -> None:
        self.encoder, self.rate, self.trips = encoder, encoder.rate, 0

    def round_trip(self, samples: Any) -> Any:
        self.trips += 1
        return self.encoder.round_trip(samples)


@pytest.mark.parametrize("codec", ["mp3", "vorbis", "opus"])
def test_real_encoders_raise_the_peaks_of_clipped_material(codec: Any) -> None:
    """The encoders themselves, through libsndfile: at the headroom found, nothing is over full scale any more."""
    samples = np.clip(noise(3 * 48_000, 2, level=0.5), -0.99, 0.99)
    encoder = Counted(LossyCodec(codec, 128, 48_000, 2))
    readings = measure_lossy(ArraySource(samples, 48_000), encoder)[0]
    found = overall(readings)
    spread = next(r.uncertainty or 0.0 for r in readings if r.measure == "lossy_headroom")
    assert encoder.trips <= 5  # one to measure, four to find the headroom
    assert found["lossy_peak_rise"] > 0
    assert found["lossy_overs"] > 0
    lowered = samples * 10 ** (-found["lossy_headroom"] / 20)
    assert np.abs(encoder.round_trip(lowered)).max() <= 1.0
    assert spread <= 0.3
    higher = samples * 10 ** (-(found["lossy_headroom"] - spread - 0.1) / 20)
    assert np.abs(encoder.round_trip(higher)).max() > 1.0


def test_an_mp3_of_128_kbits_ends_near_16_khz() -> None:
    """Common practice, no source: 128 kbit/s of stereo end near 16 kHz."""
    encoder = LossyCodec("mp3", 128, 44_100, 2)
    found = overall(measure_lossy(ArraySource(noise(4 * 44_100, 2), 44_100), encoder)[0])
    assert 15_000 < found["lossy_edge"] < 17_500
    doubled = noise(4 * 88_200, 2)
    doubled[:, 1] *= 0.1
    found = measure_lossy(ArraySource(doubled, 88_200), LossyCodec("mp3", 128, 88_200, 2))[0]  # type: ignore[assignment]
    assert 15_000 < overall(found)["lossy_edge"] < 17_500  # type: ignore[arg-type]
    peaks = {r.channel: r for r in found if r.measure == "lossy_sample_peak"}  # type: ignore[attr-defined]
    assert peaks["all"].value == peaks["1"].value > peaks["2"].value  # type: ignore[attr-defined]
    assert peaks["1"].why == "resampled to 44100 Hz for the encoder"  # type: ignore[attr-defined]
    with pytest.raises(BadParameter, match=r"bitrate=10.* from 12 to 512 kbit/s for opus"):
        LossyCodec("opus", 10, 48_000, 2)
    for rate, channels, works_at in ((8000, 2, 8000), (22_050, 2, 22_050), (48_000, 8, 48_000), (96_000, 1, 48_000)):
        usual = usual_codec(rate, channels)
        assert (usual.rate, usual.round_trip(noise(works_at, channels)).shape[1]) == (works_at, channels)
    wanted = {("opus", 44_100): 48_000, ("opus", 88_200): 48_000, ("mp3", 37_800): 44_100, ("vorbis", 384_000): 192_000}
    assert {given: working_rate(*given) for given in wanted} == wanted  # type: ignore[arg-type]
    with pytest.raises(BadParameter, match="bitrate=500"):
        LossyCodec("mp3", 500, 48_000, 2)


def _ever_reached(p_of: Callable[[int, int], float], trials: int, looks: int) -> float:
    """The chance that a guesser's p falls to 0.05 at any of some looks, exactly: step by step over all counts."""
    chances, reached = {0: 1.0}, 0.0
    for look in range(1, looks + 1):
        after: dict[int, float] = {}
        for before, chance in chances.items():
            for right in range(trials + 1):
                after[before + right] = after.get(before + right, 0.0) + chance * math.comb(trials, right) / 2**trials
        stopped = {k: c for k, c in after.items() if p_of(k, look * trials) <= 0.05}
        reached += sum(stopped.values())
        chances = {k: c for k, c in after.items() if k not in stopped}
    return reached


def test_who_sits_again_until_it_is_evidence_finds_none_by_the_corrected_odds() -> None:
    """With the exact odds of the sum a guesser gets there within ten sittings of 16 trials in 13 of 100 series."""
    exact = _ever_reached(lambda right, trials: float(tail(trials, right, Fraction(1, 2))), 16, 10)
    assert 0.12 < exact < 0.15
    assert _ever_reached(chance_whenever_looked, 16, 10) <= 0.05
    assert _ever_reached(chance_whenever_looked, 1, 300) <= 0.05  # a look after every trial


@given(st.integers(1, 300), st.data())
def test_the_corrected_odds_are_the_integral_that_they_are_said_to_be(trials: int, data: Any) -> None:
    """By numerical integration with SciPy, a second way to the same number."""
    from scipy.integrate import quad

    right = data.draw(st.integers(0, trials))
    peak = min(max(right / trials, 0.5), 1.0)

    def ratio(share: float) -> float:
        wrong = trials - right
        if share >= 1.0:
            return 2.0 * 2.0**trials if wrong == 0 else 0.0
        return 2.0 * math.exp(right * math.log(2 * share) + wrong * math.log(2 * (1 - share)))

    whole = quad(ratio, 0.5, 1.0, points=[peak], limit=500)[0]
    assert chance_whenever_looked(right, trials) == pytest.approx(min(1.0, 1.0 / whole), rel=1e-6)
