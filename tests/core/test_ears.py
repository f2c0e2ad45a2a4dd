"""What is made for ears: bands, loops, levels, passages; and what grades and right answers prove."""

import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal, stats

from kind_echo.core.audio.source import ArraySource
from kind_echo.core.listening.blind import listening_readings, needed, sequential_readings
from kind_echo.core.listening.clips import band_of, band_taps, loop_of, nearest_crossing
from kind_echo.core.listening.levels import one_level
from kind_echo.core.listening.passages import quietest, strongest
from kind_echo.core.listening.rating import Grades, check_grade, means, screen
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.readings import value_of
from tests.core.conftest import columns, noise, sine

R = 48_000


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000, 192_000])
@pytest.mark.parametrize("band", [(707.0, 1414.0), (0.0, 3500.0), (0.0, 7000.0), (5000.0, 1e6), (88.4, 176.8)])
def test_a_band_is_flat_inside_and_gone_a_sixth_of_an_octave_beyond(band: tuple[float, float], rate: int) -> None:
    """scipy.signal.freqz as the outside yardstick; of the anchors −25 dB at 4 kHz and −50 dB at 4.5 kHz (BS.1534-3,
    from memory)."""
    low, high = band
    taps = band_taps(band, rate)
    assert len(taps) % 2 == 1
    assert taps == pytest.approx(taps[::-1])
    points, response = signal.freqz(taps, worN=1 << 19, fs=rate)
    level = 20 * np.log10(np.abs(response) + 1e-12)
    inside = (points >= low) & (points <= min(high, rate / 2 * 0.95))
    assert np.abs(level[inside]).max() < 0.01
    beyond = (points < low / 2 ** (1 / 6)) | (points > high * 2 ** (1 / 6))
    if beyond.any():
        assert level[beyond].max() < -78.0


def test_a_band_is_cut_out_without_delay_or_refused() -> None:
    tones = sine(300, -6, 1) + sine(1000, -12, 1) + sine(9000, -6, 1)
    kept = band_of(columns(tones), 10_000, 30_000, (707.0, 1414.0))[:, 0]
    assert np.abs(kept - sine(1000, -12, 1)[10_000:30_000]).max() < 1e-3
    for wrong in ((2000.0, 1000.0), (-1.0, 100.0), (30_000.0, 40_000.0)):
        with pytest.raises(BadParameter):
            band_taps(wrong, R)


@settings(max_examples=25)
@given(st.integers(0, 20_000), st.integers(2, 30_000), st.integers(1, 2))
def test_a_loop_goes_on_where_it_began_and_changes_nothing_but_its_first_10_ms(
    start: int, length: int, channels: int
) -> None:
    """Where the end goes over into the start there is no step: the first frame is what would follow the last."""
    sound = ArraySource(noise(60_000, channels), R)
    loop = loop_of(sound, start, start + length)
    cross = min(480, length // 4)
    assert loop.shape == (length, channels)
    assert np.array_equal(loop[cross:], sound.read(start + cross, start + length))
    if cross > 1:
        assert loop[0] == pytest.approx(sound.read(start + length, start + length + 1)[0])


def test_an_edge_goes_to_the_nearest_rise_through_zero() -> None:
    wave = columns(sine(100, -6, 1))
    assert nearest_crossing(wave, 490) == pytest.approx(481, abs=1)
    assert nearest_crossing(columns(np.full(5000, 0.5)), 700) == 700


@pytest.mark.parametrize("by", ["rms", "loudness_integrated", "vu_max", "sample_peak"])
def test_the_quietest_side_sets_the_level(by: Any) -> None:
    sides = [noise(2 * R, 2) * g for g in (0.5, 0.25, 1.0)]
    found = one_level(sides, R, by)
    assert [round(one.gain, 2) for one in found] == [-6.02, 0.0, -12.04]
    assert all(one.error is not None and abs(one.error) < 0.01 for one in found)


def test_nothing_is_boosted_and_what_is_beyond_full_scale_takes_all_down() -> None:
    loud = np.clip(sine(997, 3.0, 1), -2, 2)[:, None]
    found = one_level([loud, loud * 0.9, np.zeros((R, 1))], R, "rms")
    assert max(one.peak or -99.0 for one in found) == pytest.approx(0.0, abs=0.01)
    assert found[0].gain - found[1].gain == pytest.approx(20 * math.log10(0.9), abs=0.001)
    assert (found[2].peak, found[2].error) == (None, None)
    assert found[2].why
    assert [one.gain for one in one_level([loud * 0.1, loud * 0.2], R, "none")] == [0.0, 0.0]


@pytest.mark.parametrize("rate", [8000, 44_100, 192_000])
def test_the_strongest_passage_of_all_and_of_a_band(rate: int) -> None:
    time = np.arange(10 * rate) / rate
    low = np.sin(2 * np.pi * 200 * time) * np.where((time > 2) & (time < 3), 0.5, 0.01)
    high = np.sin(2 * np.pi * 3000 * time) * np.where((time > 7) & (time < 8), 0.3, 0.001)
    sound = ArraySource((low + high)[:, None], rate)
    assert strongest(sound, 1.0) == pytest.approx((2.0, 3.0), abs=0.11)
    assert strongest(sound, 1.0, (2000.0, 3900.0)) == pytest.approx((7.0, 8.0), abs=0.11)
    assert strongest(ArraySource(np.zeros((rate, 1)), rate)) is None


@pytest.mark.parametrize("rate", [8000, 44_100, 96_000])
def test_the_quietest_passage_sounds_throughout(rate: int) -> None:
    """Noise that is 30 dB softer from 4 to 6 s, with silence before, between and after that is not what is quiet."""
    noise = np.random.default_rng(7).uniform(-0.5, 0.5, (10 * rate, 2))
    noise[4 * rate : 6 * rate] *= 10 ** (-30 / 20)
    noise[: rate // 2] = noise[7 * rate : 7 * rate + rate // 4] = noise[-rate:] = 0.0
    assert quietest(ArraySource(noise, rate), 1.5) == pytest.approx((4.25, 5.75), abs=0.26)
    assert quietest(ArraySource(noise, rate), 60.0) == pytest.approx((0.5, 7.0), abs=0.11)  # the longest that sounds
    assert quietest(ArraySource(np.zeros((rate, 1)), rate)) is None
    assert quietest(ArraySource(np.full((rate, 1), np.nan), rate)) is None
    assert quietest(ArraySource(noise[4 * rate : 4 * rate + 1], rate)) == pytest.approx((0.0, 1 / rate))


def test_a_guesser_passes_at_most_one_sitting_in_twenty() -> None:
    """10,000 sittings each, of fixed lengths and of Wald's bounds; the exact chance is that of scipy's binomial."""
    rng = np.random.default_rng(20)
    for trials in (5, 10, 16, 30, 100):
        enough = needed(trials)
        assert enough is not None
        assert stats.binom.sf(enough - 1, trials, 0.5) <= 0.05 < stats.binom.sf(enough - 2, trials, 0.5)
        passed = (rng.binomial(trials, 0.5, 10_000) >= enough).mean()
        assert passed < 0.05 + 3 * math.sqrt(0.05 * 0.95 / 10_000)
    upper, lower = math.log(0.8 / 0.05), math.log(0.2 / 0.95)
    steps = np.where(rng.random((10_000, 400)) < 0.5, math.log(1.4), math.log(0.6)).cumsum(axis=1)
    over = np.where((steps >= upper).any(axis=1), (steps >= upper).argmax(axis=1), 400)
    under = np.where((steps <= lower).any(axis=1), (steps <= lower).argmax(axis=1), 400)
    assert (over < under).mean() < 0.05 + 0.007
    one = [bool(step > 0) for step in np.diff(np.concatenate([[0.0], steps[3]]))][: int(min(over[3], under[3])) + 1]
    ratio = value_of(sequential_readings(one, 0.7, 0.05, 0.2), "abx_ratio")
    assert ratio == pytest.approx(steps[3][len(one) - 1])


def test_the_share_that_is_right_has_the_bounds_of_scipy() -> None:
    """scipy.stats.binomtest, Clopper-Pearson."""
    for correct, trials in ((12, 16), (0, 10), (10, 10), (57, 100)):
        readings = listening_readings(correct, trials)
        interval = stats.binomtest(correct, trials).proportion_ci(0.95, "exact")
        assert value_of(readings, "abx_low") == pytest.approx(interval.low)
        assert value_of(readings, "abx_high") == pytest.approx(interval.high)


def _given(listener: str, *grades: dict[str, float]) -> list[Grades]:
    return [Grades(listener, one) for one in grades]


def test_means_have_students_intervals() -> None:
    """scipy.stats.t.interval as the outside yardstick."""
    grades = [80.0, 70.0, 90.0, 85.0]
    (found,) = means([Grades(f"P{i}", {"side": grade}) for i, grade in enumerate(grades)])
    low, high = stats.t.interval(0.95, 3, np.mean(grades), stats.sem(grades))
    assert (found.mean, found.low, found.high) == pytest.approx((np.mean(grades), low, high))
    (alone,) = means(_given("P", {"side": 50.0}))
    assert (alone.low, alone.high, alone.count) == (None, None, 1)


def test_bs_1534_leaves_out_who_misses_the_reference_or_likes_the_anchor() -> None:
    """More than 15 % of the trials below 90 (or above): 1 of 7 is less than that, 2 of 7 are more."""
    good, missed = {"ref": 100.0, "mid": 40.0, "x": 70.0}, {"ref": 80.0, "mid": 40.0, "x": 70.0}
    liked = {"ref": 100.0, "mid": 95.0, "x": 70.0}
    given = [
        *_given("sure", *[good] * 6, missed), *_given("guesses", *[good] * 5, missed, missed),
        *_given("likes it", *[good] * 5, liked, liked),
    ]  # fmt: skip
    out = screen("BS.1534", given, "ref", "mid")
    assert [one.listener for one in out] == ["guesses", "likes it"]
    assert "2 of 7 trials" in out[0].why
    assert {one.side: one.count for one in means(given, out)} == {"ref": 7, "mid": 7, "x": 7}


def test_bs_1116_leaves_out_who_did_not_tell_the_reference() -> None:
    """A one-sided t-test of the difference grades, scipy.stats.ttest_1samp."""
    told = [{"ref": 5.0, "x": grade} for grade in (3.0, 4.0, 3.5, 4.5)]
    lost = [{"ref": 4.0, "x": 5.0}, {"ref": 5.0, "x": 4.0}, {"ref": 4.5, "x": 5.0}, {"ref": 5.0, "x": 4.5}]
    out = screen("BS.1116", [*_given("told", *told), *_given("lost", *lost), *_given("once", told[0])], "ref")
    assert [one.listener for one in out] == ["lost", "once"]
    with pytest.raises(BadParameter):
        check_grade("BS.1116", 5.1)
