"""Random cases whose truth is known in closed form: drawn by a seed, so that each is the same case every time."""

from typing import Any

import numpy as np
import pytest
import scipy.stats

from kind_echo.core.audio.folding import fold
from kind_echo.core.audio.source import ArraySource
from kind_echo.core.causes.excerpts import Excerpt
from kind_echo.core.causes.filtering import REACH, share_that_follows
from kind_echo.core.comparison.compare import compare
from kind_echo.core.delays.drift import STUDENT_T
from kind_echo.core.registry.readings import Reading
from kind_echo.core.signals import make_request, synthesise
from kind_echo.core.systems.latency import measure_latency
from kind_echo.core.systems.transfer import ExpectedCurve, measure_curve
from kind_echo.core.tones.alias_sweep import measure_alias_sweep
from kind_echo.core.tones.imd import measure_imd
from kind_echo.core.tones.tone import ToneOptions, measure_tone
from tests.core.conftest import columns, overall, reading

RATES = (8000, 22_050, 37_800, 44_100, 48_000, 88_200, 96_000, 176_400, 192_000, 384_000)


def _db(ratio: Any) -> Any:
    return 20 * np.log10(np.abs(ratio))


def _moved(x: Any, samples: float) -> Any:
    """Later by any number of samples, exactly: what is moved must be silent at its ends. The shift theorem."""
    size = 2 * len(x)
    turn = np.exp(-2j * np.pi * np.fft.rfftfreq(size) * samples)
    return np.fft.irfft(np.fft.rfft(x, size) * turn, size)[: len(x)]


@pytest.mark.parametrize("seed", range(20))
def test_lines_of_a_polynomial_are_its_chebyshev_coefficients(seed: int) -> None:
    """T_n(cos θ) = cos nθ (P. L. Chebyshev, 1854): coefficient n is the amplitude of line n, wherever that folds to."""
    rng = np.random.default_rng(seed)
    rate = RATES[seed % len(RATES)]
    frequency = rng.uniform(0.03, 0.2) * rate
    angle = 2 * np.pi * np.mod(frequency * np.arange(2 * rate) / rate, 1.0)
    coefficients = np.concatenate([[0, rng.uniform(0.2, 0.7)], 10 ** (rng.uniform(-110, -30, 14) / 20)])
    sound = np.polynomial.chebyshev.chebval(np.cos(angle), coefficients)
    readings, curves = measure_tone(columns(sound, rate=rate), ToneOptions(frequency, (20.0, rate / 2)))
    found = overall(readings)
    assert found["fundamental_frequency"] == pytest.approx(frequency, rel=1e-7)
    assert found["fundamental_level"] == pytest.approx(_db(coefficients[1]), abs=0.01)
    whole = [n for n in range(2, 16) if n * frequency < 0.499 * rate]
    for n in (n for n in whole if n <= 10):
        assert found[f"harmonic_{n}"] == pytest.approx(_db(coefficients[n] / coefficients[1]), abs=0.1), n
    assert found["thd"] == pytest.approx(
        _db(np.sqrt(np.sum(coefficients[whole] ** 2)) / coefficients[1]), abs=0.1
    )  # fmt: skip
    levels = dict(zip(curves["alias_orders"].x, curves["aliases"].y, strict=True))
    lands = dict(zip(curves["alias_orders"].x, curves["alias_orders"].y, strict=True))
    assert levels, "some orders of fifteen fold"
    for order in (n for n in levels if n < 16):
        assert levels[order] == pytest.approx(_db(coefficients[int(order)]), abs=0.1), order
        assert lands[order] == pytest.approx(fold(order * frequency, rate), abs=1e-3)


@pytest.mark.parametrize("seed", range(20))
def test_products_of_two_tones_are_those_of_trigonometry(seed: int) -> None:
    """x + a·x² + b·x³ of two sines, of which the lines below half the rate are written out: products to sums."""
    rng = np.random.default_rng(seed)
    rate = [r for r in RATES if r >= 22_050][seed % 9]
    wide = seed % 2 == 0
    low, high = (rng.uniform(50, 250), 7000.0) if wide else np.sort(rng.uniform(0.3, 0.36, 2) * rate)
    one, two = (0.4, 0.1) if wide else (0.3, 0.3)
    square, cube = 10 ** (rng.uniform(-70, -20, 2) / 20)
    t = np.arange(3 * rate) / rate
    a, b = 2 * np.pi * low * t + 1.0, 2 * np.pi * high * t + 2.0
    first = one + cube * (0.75 * one**3 + 1.5 * one * two**2)
    second = two + cube * (0.75 * two**3 + 1.5 * two * one**2)
    sides, lower, upper = square * one * two, 0.75 * cube * one * one * two, 0.75 * cube * one * two * two
    sound = first * np.sin(a) + second * np.sin(b) + sides * np.cos(b - a)
    if wide:
        sound += -sides * np.cos(b + a) + lower * (np.sin(b - 2 * a) - np.sin(b + 2 * a))
        wanted, key = np.sqrt(2 * (sides**2 + lower**2)) / second, "imd_smpte"
    else:
        sound += -lower * np.sin(2 * a - b) - upper * np.sin(2 * b - a)
        wanted, key = np.hypot(sides, lower + upper) / (first + second), "imd_difference"
    found = overall(measure_imd(columns(sound, rate=rate), (low, high))[0])
    assert found[key] == pytest.approx(_db(wanted), abs=0.05)
    assert found[f"{key}_percent"] == pytest.approx(100 * wanted, rel=0.01)


@pytest.mark.parametrize("seed", range(10))
def test_the_worst_alias_of_steps_through_a_cubic(seed: int) -> None:
    """x − c·x³ makes one line of c·A³/4 at three times the tone, which folds above a sixth of the rate."""
    rng = np.random.default_rng(seed)
    rate = [r for r in RATES if r >= 22_050][seed % 9]
    request = make_request("steps", start=0.01 * rate, end=0.44 * rate, per_octave=4, step_seconds=0.25, level=-3.0)
    steps = np.repeat(synthesise(request, rate), 2, axis=1)
    cubes = 10 ** (rng.uniform(-70, -10, 2) / 20)
    late = int(rng.integers(0, rate // 2))
    gain = rng.choice([1.0, -0.5])
    bent = gain * np.concatenate([np.zeros((late, 2)), steps - cubes * steps**3])
    found, curves = measure_alias_sweep(ArraySource(steps, rate), ArraySource(bent, rate))
    peak = 10 ** (-3 / 20)
    for channel, cube in (("1", cubes[0]), ("2", cubes[1]), ("all", cubes.max())):
        wanted = _db(gain * cube * peak**3 / 4)
        assert reading(found, "alias_worst_level", channel).value == pytest.approx(wanted, abs=0.1)
        assert reading(found, "alias_total", channel).value == pytest.approx(wanted, abs=0.1)
        assert reading(found, "alias_worst_order", channel).value == 3
    for tone, line in zip(curves["alias_map_input"].x, curves["alias_map_output"].x, strict=True):
        assert line == pytest.approx(fold(3 * tone, rate), abs=1.0)


@pytest.mark.parametrize("seed", range(12))
def test_clicks_moved_by_parts_of_a_sample(seed: int) -> None:
    """Bursts of noise by the shift theorem; one of them is taken away, and the first comes at its own time."""
    rng = np.random.default_rng(seed)
    rate = RATES[seed % len(RATES)]
    starts = np.arange(rate // 5, 5 * rate - rate // 2, rate // 2)
    delays = rng.uniform(0, 0.05 * rate) + rng.uniform(-3, 3, len(starts))
    gone = int(rng.integers(1, len(starts)))
    clicks = np.zeros(5 * rate)
    output = np.zeros(5 * rate)
    size = max(16, rate // 100)
    grain = rng.standard_normal(size) * np.hanning(size) * 0.2
    for k, (start, delay) in enumerate(zip(starts, delays, strict=True)):
        clicks[start : start + size] += grain
        if k != gone:
            piece = np.zeros(16 * size)
            piece[4 * size : 5 * size] = grain
            begin = start - 4 * size + int(np.floor(delay))
            output[begin : begin + len(piece)] -= 0.3 * _moved(piece, delay % 1.0)
    found = overall(measure_latency(columns(clicks, rate=rate), columns(output, rate=rate))[0])
    left = np.delete(delays, [0, gone])
    assert found["latency"] == pytest.approx(np.median(left), abs=0.05)
    assert found["latency_first"] == pytest.approx(delays[0], abs=0.05)
    assert found["latency_jitter"] == pytest.approx(np.ptp(left), abs=0.1)
    assert (found["latency_events"], found["latency_missing"], found["latency_doubled"]) == (len(starts), 1, 0)


@pytest.mark.parametrize("seed", range(10))
def test_the_curve_of_any_compressor(seed: int) -> None:
    """The static law itself, applied to the staircase (D. Giannoulis et al., JAES 60 (2012), equation 4)."""
    rng = np.random.default_rng(seed)
    rate = [r for r in RATES if 22_050 <= r <= 96_000][seed % 6]
    law = ExpectedCurve(rng.uniform(-42, -14), rng.uniform(1.5, 12), rng.uniform(0, 12), rng.uniform(-6, 6))
    stairs = synthesise(make_request("staircase", frequency=1000, level=0), rate)
    level = np.repeat(np.arange(-60, 0.1, 2.0), rate // 2)
    sound = stairs * (10 ** ((law.level(level) - level) / 20))[:, None]
    found = overall(measure_curve(ArraySource(stairs, rate), ArraySource(sound, rate), law)[0])
    assert abs(found["curve_error_worst"]) < 0.05
    assert found["threshold_estimate"] == pytest.approx(law.threshold, abs=0.5)
    assert found["ratio_estimate"] == pytest.approx(law.ratio, rel=0.03)
    assert found["knee_estimate"] == pytest.approx(law.knee, abs=2.0)


@pytest.mark.parametrize("seed", range(12))
def test_delay_gain_and_polarity_of_a_moved_copy_in_noise(seed: int) -> None:
    """The shift theorem; noise of 40 to 80 dB under the sound. What is told as uncertainty must hold."""
    rng = np.random.default_rng(seed)
    rate = RATES[seed % len(RATES)]
    x = rng.standard_normal(4 * rate) * 0.1
    x[: rate // 4] = x[-rate // 4 :] = 0.0
    delay, gain = rng.uniform(-0.1, 0.1) * rate, rng.choice([-1, 1]) * 10 ** (rng.uniform(-20, 6) / 20)
    hiss = rng.standard_normal(len(x)) * 0.1 * abs(gain) * 10 ** (-rng.uniform(40, 80) / 20)
    y = gain * _moved(x, delay) + hiss
    readings = compare(columns(x, rate=rate), columns(y, rate=rate)).readings
    told: Reading = reading(readings, "delay")
    assert told.value == pytest.approx(delay, abs=0.01)
    assert abs(told.value - delay) <= 2 * (told.uncertainty or 0.0) + 0.002
    assert reading(readings, "polarity").value == np.sign(gain)
    assert overall(readings)["account_polarity"] <= overall(readings)["account_delay"] + 1e-9


def test_the_uncertainty_of_a_line_holds_in_noise_and_is_no_larger_than_it_must_be() -> None:
    """At 95 %: of all harmonics that stand out of white noise, nearly all lie within, and half within a third."""
    rng = np.random.default_rng(5)
    shares = []
    for _ in range(40):
        frames, frequency = int(rng.uniform(25_000, 90_000)), rng.uniform(900, 2000)
        coefficients = np.concatenate([[0, 0.5], 10 ** (rng.uniform(-90, -50, 9) / 20)])
        angle = 2 * np.pi * np.mod(frequency * np.arange(frames) / 48_000, 1.0)
        sound = np.polynomial.chebyshev.chebval(np.cos(angle), coefficients)
        sound += 10 ** (rng.uniform(-90, -60) / 20) * rng.standard_normal(frames)
        found = measure_tone(columns(sound), ToneOptions(frequency))[0]
        for n in range(2, 11):
            one = reading(found, f"harmonic_{n}")
            if one.value is not None:
                shares.append(abs(one.value - _db(coefficients[n] / coefficients[1])) / (one.uncertainty or 0.0))
    assert len(shares) > 200
    assert 0.92 < np.mean(np.array(shares) <= 1.0) < 0.99
    assert 0.25 < np.median(shares) < 0.45


def test_students_t_is_that_of_the_tables() -> None:
    """scipy.stats.t, as an outside yardstick."""
    wanted = scipy.stats.t.ppf(0.975, np.arange(1, len(STUDENT_T) + 1))
    np.testing.assert_allclose(STUDENT_T, wanted, atol=0.0006)


@pytest.mark.parametrize("decibels", [-60.0, 0.0, 20.0])
def test_the_share_that_follows_is_what_a_filter_explains(decibels: float) -> None:
    """Truth by construction: a filtered reference under noise that is so much louder than it."""
    rng = np.random.default_rng(3)
    longer = rng.standard_normal((1, 200_000 + 2 * REACH))
    followed = np.apply_along_axis(np.convolve, 1, longer, [0.5, -0.3, 0.2], "same")[:, REACH:-REACH]
    error = followed + rng.standard_normal(followed.shape) * followed.std() * 10 ** (decibels / 20)
    ones = np.ones(error.shape)
    excerpt = Excerpt(longer, error, ones, (0,), REACH, 48_000)
    assert share_that_follows(excerpt, error) == pytest.approx(1 / (1 + 10 ** (decibels / 10)), abs=0.03)
