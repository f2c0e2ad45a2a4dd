"""Lines of a spectrum whose levels follow from closed forms."""

import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kind_echo.core.audio.folding import fold, fold_line, fold_path
from kind_echo.core.audio.source import ArraySource
from kind_echo.core.audio.transforms import LOBE_BETA, hann
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.signals import make_request, synthesise
from kind_echo.core.tones.alias_sweep import measure_alias_sweep
from kind_echo.core.tones.imd import measure_imd
from kind_echo.core.tones.tone import ToneOptions, measure_tone
from tests.core.conftest import columns, noise, overall, reading, sine


@pytest.mark.parametrize(
    ("frequency", "lands"),
    [(8000, 4000), (9000, 3000), (10_000, 2000), (12_000, 0), (12_005, 5), (14_000, 2000), (18_000, 6000)],
)
def test_folding_at_12_khz(frequency: float, lands: float) -> None:
    """Arithmetic of the sampling theorem."""
    assert fold(frequency, 12_000) == pytest.approx(lands)
    assert fold(11 * 2220, 48_000) == pytest.approx(23_580)


@given(
    frequency=st.floats(20, 20_000), rate=st.sampled_from([8000, 44_100, 96_000]), order=st.integers(1, 30),
    at=st.floats(0, 1),
)  # fmt: skip
def test_the_ways_of_the_orders_run_straight_between_their_turns(
    frequency: float, rate: int, order: int, at: float
) -> None:
    """Between the turns that are given, the folding formula itself."""
    orders, folded = np.array(fold_path(frequency, rate, 30)).T
    assert np.interp(30 * at, orders, folded) == pytest.approx(fold(30 * at * frequency, rate), abs=1e-6 * rate)
    tones, lines = np.array(fold_line(order, frequency, 2 * frequency, rate)).T
    tone = frequency * (1 + at)
    assert np.interp(tone, tones, lines) == pytest.approx(fold(order * tone, rate), abs=1e-6 * rate)


def _tone(samples: Any, frequency: float, rate: int = 48_000, **options: Any) -> Any:
    return measure_tone(columns(samples, rate=rate), ToneOptions(frequency, **options))[0]


def test_a_cubic_has_its_third_harmonic_at_minus_19_08_db() -> None:
    """x − x³/3 of a unit sine is (3/4)·sin + (1/12)·sin 3: 1/9, trigonometry."""
    s = sine(997, 0, 2)
    found = _tone(s - s**3 / 3, 997)
    assert reading(found, "harmonic_3").value == pytest.approx(20 * math.log10(1 / 9), abs=0.001)
    assert reading(found, "harmonic_2").value is None
    assert reading(found, "harmonic_2").at_most < -150
    assert reading(found, "thd_percent").value == pytest.approx(11.11, abs=0.01)


def test_a_band_limited_square_has_odd_harmonics_of_one_over_n() -> None:
    """Fourier series of the square wave; THD of the whole series is 48.3 %."""
    orders = range(1, 48, 2)
    square = sum(sine(497, 0, 2) * 0 + np.sin(2 * np.pi * 497 * n * np.arange(96_000) / 48_000) / n for n in orders)
    found = _tone(0.5 * square, 497)
    for n in (3, 5, 7, 9):
        assert reading(found, f"harmonic_{n}").value == pytest.approx(-20 * math.log10(n), abs=0.01)
    expected = 100 * math.sqrt(sum(1 / n**2 for n in orders) - 1)
    assert reading(found, "thd_percent").value == pytest.approx(expected, abs=0.01)
    assert reading(found, "thd_percent").value == pytest.approx(48.3, abs=1.2)


def test_a_clipped_sine_has_the_coefficients_of_its_fourier_series() -> None:
    """Clipping at c: b_n by integration over the quarter wave; the sine is low, so what folds is negligible."""
    c, theta = 0.5, math.asin(0.5)
    s = np.clip(sine(101, 0, 2, 192_000), -c, c)

    def coefficient(n: int) -> float:
        angle = np.linspace(0, np.pi, 400_001)
        return float(2 / np.pi * np.trapezoid(np.clip(np.sin(angle), -c, c) * np.sin(n * angle), angle))

    assert coefficient(1) == pytest.approx((2 * theta + 4 * c * math.cos(theta) - math.sin(2 * theta)) / math.pi)
    found = _tone(s, 101, 192_000)
    assert reading(found, "fundamental_level").value == pytest.approx(20 * math.log10(coefficient(1)), abs=0.001)
    for n in (3, 5, 9):
        expected = 20 * math.log10(abs(coefficient(n) / coefficient(1)))
        assert reading(found, f"harmonic_{n}").value == pytest.approx(expected, abs=0.02)


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000, 192_000, 37_800])
@pytest.mark.parametrize("level", [-60.0, -100.0, -140.0])
def test_alias_levels_are_right_between_bins_down_to_minus_140(rate: int, level: float) -> None:
    """Truth by construction: a line where harmonic 2k+1 folds, at a level of its own, in 32-bit float samples."""
    frequency = 0.1234567 * rate
    order = 7
    at = fold(order * frequency, rate)
    samples = (sine(frequency, -3, 2, rate) + sine(at, level, 2, rate)).astype(np.float32).astype(float)
    found = _tone(samples, frequency, rate)
    assert reading(found, "alias_worst_level").value == pytest.approx(level, abs=0.1)
    assert reading(found, "alias_worst_order").value == order
    assert reading(found, "alias_worst_frequency").value == pytest.approx(at, abs=0.05)
    assert reading(found, "alias_first_order").value == order


@pytest.mark.parametrize("seconds", [1.0, 2.0, 5.0])
def test_an_alias_beside_the_fundamental_is_told(seconds: float) -> None:
    """12 000.5 Hz through a cubic: order 3 folds to 11 998.5 Hz, at a quarter of the cube: sin³ = (3 sin − sin 3)/4."""
    x = sine(12_000.5, -6, seconds, phase=0.3)
    found = _tone(x + 1e-3 * x**3, 12_000.5)
    level = 20 * math.log10(1e-3 * 10 ** (-18 / 20) / 4)
    assert reading(found, "alias_worst_level").value == pytest.approx(level, abs=0.01)
    assert reading(found, "alias_worst_order").value == 3
    assert reading(found, "alias_worst_frequency").value == pytest.approx(11_998.5, abs=0.01)


def test_an_alias_that_hides_in_the_fundamental_leaves_a_bound() -> None:
    """At a quarter of the rate order 3 falls on the tone itself: it may be as loud as that, and no limit is met."""
    x = sine(12_000, -6, 1, phase=0.3)
    worst = reading(_tone(x + 1e-3 * x**3, 12_000), "alias_worst_level")
    assert worst.value is None
    assert worst.at_most == pytest.approx(-6, abs=0.1)
    x = sine(12_000.05, -6, 2, phase=0.3)
    near = reading(_tone(x + 1e-3 * x**3, 12_000.05), "alias_worst_level")  # a fifth of a hertz away, in 2 s
    assert near.value is None
    assert (near.at_most or -400.0) > -90


def test_no_alias_is_a_bound_that_meets_a_limit() -> None:
    found = _tone(sine(2220.7, -3, 2).astype(np.float32), 2220.7)
    worst = reading(found, "alias_worst_level")
    assert worst.value is None
    assert worst.why is not None
    assert worst.why.startswith("no alias stands out of the floor at −")
    assert worst.at_most < -140


def test_orders_that_fall_on_another_line_are_left_out_and_counted() -> None:
    """At 12 kHz in 48 kHz every order lies on 12 kHz, zero or half the rate."""
    found = _tone(sine(12_000, -3, 1, phase=0.3), 12_000)
    assert "cannot" in str(reading(found, "alias_worst_level").why) or "no alias" in str(
        reading(found, "alias_worst_level").why
    )


def test_a_band_with_nothing_clear_of_the_lines_is_no_silence() -> None:
    """What cannot be seen is no reading, and meets no limit; here the band lies within the lobe of the fundamental."""
    found = _tone(sine(1000, -6, 1.0), 1000, band=(998.0, 1002.0))
    for key in ("thd_n", "noise_floor"):
        assert reading(found, key).why == "no room between the known lines"
        assert reading(found, key).at_most is None


def test_noise_floor_and_distortion_and_noise_of_known_noise() -> None:
    """White noise of power s² over the whole band has s²·(20 000 − 20)/24 000 of it in the band; AES17 adds 3.01 dB."""
    samples = sine(997, -6, 4) + noise(4 * 48_000, level=1e-4)[:, 0]
    found = _tone(samples, 997)
    expected = 10 * math.log10(2 * 1e-8 * (20_000 - 20) / 24_000)
    assert reading(found, "noise_floor").value == pytest.approx(expected, abs=0.15)
    assert reading(found, "thd_n").value == pytest.approx(expected + 6, abs=0.15)


@pytest.mark.parametrize(("noise_level", "said"), [(0.0, True), (1e-5, True), (1e-2, False)])
def test_a_floor_says_that_aliases_of_still_higher_orders_are_part_of_it(noise_level: float, said: bool) -> None:
    """What clipping folds goes on far beyond the orders that are told one by one."""
    clipped = np.clip(sine(997, -6, 2.0), -0.35, 0.35) + noise_level * noise(96_000)[:, 0]
    found = reading(measure_tone(columns(clipped), ToneOptions(997))[0], "noise_floor")
    assert ("over order 100" in (found.why or "")) == said


def test_a_spurious_line_is_found_and_the_missing_tone_is_refused() -> None:
    found = _tone(sine(997, -6, 2) + sine(5500.3, -70, 2), 997)
    assert reading(found, "spurious_level").value == pytest.approx(-70, abs=0.1)
    assert reading(found, "spurious_frequency").value == pytest.approx(5500.3, abs=0.3)
    for samples in (noise(96_000)[:, 0], np.zeros(96_000), sine(1500, -6, 2)):
        refused = _tone(samples, 997)
        assert {r.value for r in refused} == {None}
        assert "not in the render" in str(reading(refused, "thd").why)
    with pytest.raises(BadParameter, match="below half the rate"):
        _tone(sine(997, -6, 1), 24_000)


def test_channels_keep_their_own_readings_and_all_is_the_worst() -> None:
    clean, dirty = sine(997, -6, 2), sine(997, -6, 2)
    dirty = dirty - 0.2 * dirty**3
    found = measure_tone(columns(clean, dirty), ToneOptions(997))[0]
    assert reading(found, "harmonic_3", "1").value is None
    assert reading(found, "harmonic_3").value == reading(found, "harmonic_3", "2").value


def test_intermodulation_of_a_square_law() -> None:
    """x + a·x²: side lines of a·A1·A2 about the upper tone; a difference tone of a·A². Trigonometry."""
    x = 0.4 * sine(60, 0, 2) + 0.1 * sine(7000, 0, 2)
    smpte = overall(measure_imd(columns(x + 0.1 * x**2), (60, 7000))[0])
    assert smpte["imd_smpte"] == pytest.approx(20 * math.log10(math.sqrt(2) * 0.1 * 0.4), abs=0.01)
    y = 0.25 * sine(19_000, 0, 2) + 0.25 * sine(20_000, 0, 2)
    twin = overall(measure_imd(columns(y + 0.1 * y**2), (19_000, 20_000))[0])
    assert twin["imd_difference_percent"] == pytest.approx(100 * 0.1 * 0.25 / 2, abs=0.001)
    assert twin["imd_smpte"] is None


def test_a_product_at_half_the_rate_or_above_is_named_and_left_out() -> None:
    """2·10300 − 9900 = 10700 Hz does not lie below half of 21 kHz: third order then has one line of ¾·c·A³."""
    w1, w2 = (2 * np.pi * f * np.arange(42_000) / 21_000 for f in (9900, 10_300))
    x = 0.25 * np.sin(w1) + 0.25 * np.sin(w2) - 0.0005 * np.sin(2 * w1 - w2)
    found = next(r for r in measure_imd(columns(x, rate=21_000), (9900, 10_300))[0] if r.measure == "imd_difference")
    assert found.value == pytest.approx(20 * math.log10(0.0005 / 0.5), abs=0.01)
    assert found.why == "without 10700 Hz: not below half the rate"


def test_an_alias_sweep_looks_where_the_steps_sound_in_every_channel() -> None:
    """A cubic c·x³ through a latency of two steps: its third harmonic is c·A³/4, whichever way the latency lies."""
    request = make_request("steps", start=500.0, end=15_000.0, per_octave=6, step_seconds=0.2, level=0)
    steps = np.repeat(synthesise(request, 48_000), 2, axis=1)
    bent = np.concatenate([np.zeros((19_200, 2)), steps - [0.1, 0.01] * steps**3])
    found, curves = measure_alias_sweep(ArraySource(steps, 48_000), ArraySource(bent, 48_000))
    levels = {r.channel: r for r in found if r.measure == "alias_worst_level"}
    assert levels["1"].value == levels["all"].value == pytest.approx(20 * math.log10(0.1 / 4), abs=0.02)
    assert levels["2"].value == pytest.approx(20 * math.log10(0.01 / 4), abs=0.02)
    distortion = dict(zip(curves["thd_by_frequency"].x, curves["thd_by_frequency"].y, strict=True))
    assert distortion[500.0] == pytest.approx(20 * math.log10(0.025 / (1 - 0.075)), abs=0.02)
    assert max(distortion) < 8000 < max(curves["fundamental_by_frequency"].x)
    late = bent[: len(steps)]
    short, _ = measure_alias_sweep(ArraySource(steps, 48_000), ArraySource(late, 48_000))
    assert "2 of 30 tones are not in the render" in str(short[0].why)
    broken = steps.copy()
    broken[7] = np.nan
    assert {r.value for r in measure_alias_sweep(ArraySource(steps, 48_000), ArraySource(broken, 48_000))[0]} == {None}


def test_an_alias_sweep_finds_the_worst_step_and_a_clean_one_gives_a_bound() -> None:
    """A cubic has harmonic 3 alone: it folds for tones above a sixth of the rate, 1/12 of the fundamental's 3/4."""
    steps = synthesise(
        make_request("steps", start=6000.0, end=15_000.0, per_octave=12, step_seconds=0.3, level=0), 48_000
    )
    out = steps - steps**3 / 3
    found, curves = measure_alias_sweep(ArraySource(steps, 48_000), ArraySource(out, 48_000))
    assert overall(found)["alias_worst_level"] == pytest.approx(20 * math.log10(1 / 12), abs=0.02)
    assert overall(found)["alias_worst_order"] == 3
    assert min(curves["alias_by_frequency"].x) > 8000
    for tone, line in zip(curves["alias_map_input"].x, curves["alias_map_output"].x, strict=True):
        assert line == pytest.approx(fold(3 * tone, 48_000), abs=0.5)
    clean, _ = measure_alias_sweep(ArraySource(steps, 48_000), ArraySource(steps, 48_000))
    assert overall(clean)["alias_worst_level"] is None
    with pytest.raises(BadParameter, match="stepped tones"):
        measure_alias_sweep(columns(noise(48_000)[:, 0]), columns(noise(48_000)[:, 0]))


def test_windows_are_what_harris_says() -> None:
    """F. J. Harris, Proc. IEEE 66 (1978): Hann has an ENBW of 1.50 bins and −31.5 dB side lobes.
    Kaiser's of this parameter has side lobes under −175 dB (computed)."""
    window = hann(1024)
    assert 1024 * np.sum(window**2) / np.sum(window) ** 2 == pytest.approx(1.5, abs=0.01)

    def side_lobe(w: Any, first: float) -> float:
        level = np.abs(np.fft.rfft(w, 1 << 18))
        return float(20 * np.log10(level[int(first * (1 << 18) / len(w)) :].max() / level[0]))

    assert side_lobe(window, 2.0) == pytest.approx(-31.5, abs=0.1)
    assert side_lobe(np.kaiser(1024, LOBE_BETA), 7.75) < -175


def test_the_frequency_and_the_floor_of_a_tone_in_noise_lie_within_what_is_stated() -> None:
    """White noise 40 dB below the tone, drawn 20 times: 95 in 100 are to lie within; 80 in 100 surely do."""
    tone = 0.5 * np.sin(2 * np.pi * 997.0 * np.arange(48_000) / 48_000)
    spread = 0.5 * 10 ** (-40 / 20)
    floor = 10 * math.log10(2 * spread**2 * (20_000 - 20) / 24_000)
    held: dict[str, list[bool]] = {"fundamental_frequency": [], "noise_floor": []}
    for seed in range(20):
        noisy = tone + spread * np.random.default_rng(seed).standard_normal(len(tone))
        found = measure_tone(ArraySource(noisy[:, np.newaxis], 48_000), ToneOptions(997.0))[0]
        for key, truth in (("fundamental_frequency", 997.0), ("noise_floor", floor)):
            one = reading(found, key)
            held[key].append(abs(float(one.value or 0.0) - truth) <= float(one.uncertainty or 0.0))
    assert all(np.mean(each) > 0.8 for each in held.values())
