"""Levels and loudness against published signals, and against two general-purpose meters."""

import re
import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import pyloudnorm
import pytest
import soundfile
from scipy import signal

from kind_echo.core.levels.analysis import MeasureOptions, measure
from kind_echo.core.levels.loudness import k_weighting
from kind_echo.core.levels.meters import needle_response
from tests.core.conftest import columns, noise, overall, reading, sine

RATES = [44_100, 48_000, 88_200, 96_000, 176_400, 192_000, 22_050, 37_800, 384_000]


def _parts(*parts: tuple[float, float], rate: int = 48_000) -> Any:
    """Stereo 1 kHz sine in parts of (level, seconds), as Tech 3341 and 3342 describe their signals."""
    return np.concatenate([sine(1000, level, seconds, rate) for level, seconds in parts])


def test_rms_conventions_of_sine_and_square() -> None:
    """AES17-2020: a full-scale sine reads 0.00 dBFS; its mean square is 3.01 dB lower, that of a square 0.00."""
    full = overall(measure(columns(sine(997, 0, 1))))
    assert full["rms"] == pytest.approx(0.0, abs=0.001)
    assert full["rms_raw"] == pytest.approx(-3.0103, abs=0.001)
    assert full["crest_factor"] == pytest.approx(3.0103, abs=0.001)
    square = overall(measure(columns(np.sign(sine(997, 0, 1, phase=0.1)))))
    assert square["rms_raw"] == pytest.approx(0.0, abs=1e-9)
    assert square["rms"] == pytest.approx(3.0103, abs=1e-3)


@pytest.mark.parametrize(("bits", "expected"), [(8, -49.92), (16, -98.08), (24, -146.24)])
def test_rounding_leaves_the_quantisation_noise_of_the_word_length(bits: int, expected: float) -> None:
    """W. R. Bennett, "Spectra of Quantized Signals", Bell System Technical Journal 27 (1948):
    error power q²/12, which is 6.02·N + 1.76 dB under a full-scale sine."""
    samples = np.random.default_rng(1948).uniform(-1.0, 1.0, 96_000)
    step = 2.0 ** (1 - bits)
    error = np.round(samples / step) * step - samples
    assert overall(measure(columns(error)))["rms"] == pytest.approx(expected, abs=0.05)


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize("share", [0.05, 0.25, 0.333, 0.4, 0.45])
def test_true_peak_is_within_a_tenth_of_a_decibel_up_to_0_45_of_the_rate(rate: int, share: float) -> None:
    """ITU-R BS.1770-5 Annex 2; a tone at a quarter of the rate, 45° off, peaks 3.01 dB over its samples."""
    for phase in (0.0, 0.4, np.pi / 4, 1.3):
        tone = sine(share * rate, -6.0, 0.25, rate, phase)
        assert overall(measure(columns(tone, rate=rate)))["true_peak"] == pytest.approx(-6.0, abs=0.1)
    quarter = overall(measure(columns(sine(rate / 4, 0, 0.1, rate, np.pi / 4), rate=rate)))
    assert quarter["true_peak"] - quarter["sample_peak"] == pytest.approx(3.01, abs=0.05)


def test_a_true_peak_says_where_energy_lies_beyond_the_band_that_it_is_sure_of() -> None:
    """A square has 1/n of its tone in each odd order, up to half the rate; a tone at 1 kHz has nothing there."""
    square = 0.5 * np.sign(sine(1000.3, 0, 1.0, 48_000))
    assert "energy over 0.45 of the rate" in (reading(measure(columns(square)), "true_peak").why or "")
    both = measure(columns(square, 0.9 * sine(1000.3, 0, 1.0, 48_000)))
    assert [one.why is None for one in both if one.measure == "true_peak"] == [True, False, True]


@pytest.mark.parametrize("rate", [8000, *RATES])
def test_loudness_of_the_reference_tone(rate: int) -> None:
    """ITU-R BS.1770-5: 997 Hz at 0 dBFS in one front channel reads −3.01 LKFS, at any rate."""
    found = measure(columns(sine(997, 0, 3, rate), np.zeros(3 * rate), rate=rate))
    assert overall(found)["loudness_integrated"] == pytest.approx(-3.01, abs=0.1 if rate >= 16_000 else 0.3)


def test_the_filter_at_48_khz_is_the_table_of_the_standard() -> None:
    """ITU-R BS.1770-5, tables 1 and 2."""
    shelf, high = k_weighting(48_000)
    expected = [1.53512485958697, -2.69169618940638, 1.19839281085285, -1.69065929318241, 0.73248077421585]
    np.testing.assert_allclose(shelf, expected, atol=1e-8)
    np.testing.assert_allclose(high, [1.0, -2.0, 1.0, -1.99004745483398, 0.99007225036621], atol=1e-8)


@pytest.mark.parametrize(
    ("parts", "expected"),
    [
        (((-23, 20),), -23.0),  # case 1
        (((-33, 20),), -33.0),  # case 2
        (((-36, 10), (-23, 60), (-36, 10)), -23.0),  # case 3
        (((-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)), -23.0),  # case 4
        (((-26, 20), (-20, 20.1), (-26, 20)), -23.0),  # case 5
    ],
)
def test_integrated_loudness_of_tech_3341(parts: Any, expected: float) -> None:
    """EBU Tech 3341, table 1, cases 1 to 5: ±0.1 LU."""
    tone = _parts(*parts)
    assert overall(measure(columns(tone, tone)))["loudness_integrated"] == pytest.approx(expected, abs=0.1)


def test_passages_between_the_absolute_gate_and_sixty_below_count() -> None:
    """ITU-R BS.1770-5: the absolute gate is −70 LUFS; here the relative one, 10 LU under the mean, is at −68.5."""
    tone = _parts((-56, 20), (-65, 20))
    expected = 10 * np.log10((10**-5.6 + 10**-6.5) / 2)
    assert overall(measure(columns(tone, tone)))["loudness_integrated"] == pytest.approx(expected, abs=0.1)


def test_five_channels_of_tech_3341() -> None:
    """EBU Tech 3341, case 6: −28 dBFS left and right, −24 centre, −30 surround, LFE silent reads −23.0 ±0.1 LUFS."""
    left, centre, surround = (sine(1000, level, 20) for level in (-28, -24, -30))
    found = measure(columns(left, left, centre, np.zeros(len(left)), surround, surround))
    assert overall(found)["loudness_integrated"] == pytest.approx(-23.0, abs=0.1)


def test_short_and_momentary_maxima_of_tech_3341() -> None:
    """EBU Tech 3341, cases 9 and 12: alternating levels whose sliding means stay at −23.0 ±0.1 LUFS."""
    short = _parts(*[(-20, 1.34), (-30, 1.66)] * 5)
    assert overall(measure(columns(short, short)))["loudness_short_max"] == pytest.approx(-23.0, abs=0.1)
    momentary = _parts(*[(-20, 0.18), (-30, 0.22)] * 25)
    assert overall(measure(columns(momentary, momentary)))["loudness_momentary_max"] == pytest.approx(-23.0, abs=0.1)


@pytest.mark.parametrize(("share", "phase", "level", "expected"), [
    (1 / 4, 0, 0.5, -6.0), (1 / 4, 45, 0.5, -6.0), (1 / 6, 60, 0.5, -6.0), (1 / 8, 67.5, 0.5, -6.0),
    (1 / 4, 45, 1.41, 3.0),
])  # fmt: skip
def test_true_peak_cases_of_tech_3341(share: float, phase: float, level: float, expected: float) -> None:
    """EBU Tech 3341, cases 15 to 19: +0.2/−0.4 dB."""
    tone = level * np.sin(2 * np.pi * share * np.arange(24_000) + np.radians(phase))
    found = overall(measure(columns(tone, tone)))["true_peak"]
    assert expected - 0.4 <= found <= expected + 0.2


@pytest.mark.parametrize(("parts", "expected"), [
    (((-20, 20), (-30, 20)), 10), (((-20, 20), (-15, 20)), 5), (((-40, 20), (-20, 20)), 20),
    (((-50, 20), (-35, 20), (-20, 20), (-35, 20), (-50, 20)), 15),
])  # fmt: skip
def test_loudness_range_of_tech_3342(parts: Any, expected: float) -> None:
    """EBU Tech 3342, table 1, cases 1 to 4: ±1 LU."""
    tone = _parts(*parts)
    assert overall(measure(columns(tone, tone)))["loudness_range"] == pytest.approx(expected, abs=1.0)


@pytest.fixture(scope="module")
def programme() -> Any:
    """Noise of programme-like spectrum and envelope, stereo, 30 s."""
    rng = np.random.default_rng(7)
    shaped = signal.lfilter([1.0], [1.0, -0.97], rng.standard_normal((30 * 48_000, 2)), axis=0)
    envelope = np.repeat(10 ** (rng.uniform(-25, 0, 60) / 20), 24_000)[:, None]
    samples = shaped * envelope
    return 0.7 * samples / np.abs(samples).max()


def test_loudness_agrees_with_pyloudnorm(programme: Any) -> None:
    """pyloudnorm, a general-purpose library: within 0.1 LU."""
    found = overall(measure(columns(*programme.T)))
    assert found["loudness_integrated"] == pytest.approx(
        pyloudnorm.Meter(48_000).integrated_loudness(programme), abs=0.1
    )


def test_loudness_range_and_true_peak_agree_with_ffmpeg(programme: Any, tmp_path: Path) -> None:
    """The ebur128 filter of ffmpeg: within 0.1 LU, 0.1 dB for the peak and 1 LU for the range."""
    soundfile.write(tmp_path / "p.wav", programme, 48_000, subtype="FLOAT")
    command = ["ffmpeg", "-nostats", "-i", tmp_path / "p.wav", "-af", "ebur128=peak=true", "-f", "null", "-"]
    text = subprocess.run(command, capture_output=True, text=True, check=True).stderr.split("Summary:")[1]  # type: ignore[arg-type]

    def value(name: str) -> float:
        match = re.search(rf"{name}:\s+(-?[\d.]+)", text)
        assert match is not None
        return float(match.group(1))

    found = overall(measure(columns(*programme.T)))
    assert found["loudness_integrated"] == pytest.approx(value("I"), abs=0.1)
    assert found["loudness_range"] == pytest.approx(value("LRA"), abs=1.0)
    assert found["true_peak"] == pytest.approx(value("Peak"), abs=0.1)


def test_one_channel_says_which_convention_it_is() -> None:
    """Two equal speakers give 3.01 LU more: arithmetic."""
    source = columns(sine(997, -20, 3))
    one = reading(measure(source), "loudness_integrated")
    two = reading(measure(source, MeasureOptions(mono_as_dual=True)), "loudness_integrated")
    assert two.value == pytest.approx((one.value or 0) + 3.0103, abs=1e-6)
    assert (one.why, two.why) == ("one channel, measured as one", "one channel, as two equal speakers")


def test_silence_at_the_start_does_not_make_a_range() -> None:
    tone = np.concatenate([np.zeros(48_000), sine(997, -20, 2)])
    found = measure(columns(tone))
    assert reading(found, "rms_window_range").value < 25
    assert "windows under −70 dBFS left out" in str(reading(found, "rms_window_range").why)
    assert reading(found, "rms_window_max").value == pytest.approx(-20, abs=0.05)


def test_the_needle_reaches_99_percent_in_300_ms_and_overshoots_a_little() -> None:
    """IEC 60268-17: 99 % after 300 ms, overshoot 1 to 1.5 %; 0 VU is a sine of −18 dBFS here."""
    a, b = needle_response(1000)
    state, way = np.zeros(2), []
    for _ in range(1500):
        state = a @ state + b
        way.append(state[0])
    assert way[299] == pytest.approx(0.99, abs=0.002)
    assert 1.01 <= max(way) <= 1.015
    tone = sine(1000, -18, 3)
    silence = np.zeros(4800)
    assert overall(measure(columns(np.concatenate([silence, tone]))))["vu_max"] == pytest.approx(0.11, abs=0.02)


@pytest.mark.parametrize("hertz", [40, 1000, 15_000])
def test_a_steady_tone_reads_its_level_and_a_hit_moves_the_needle_from_rest(
    hertz: float,
) -> None:
    """IEC 60268-17: a steady tone reads its level; a tone of 30 ms deflects the needle by less."""
    tone = sine(hertz, -18, 3)
    assert overall(measure(columns(tone)))["vu_max"] == pytest.approx(0.0, abs=0.02)
    hit = np.concatenate([sine(hertz, -18, 0.03), np.zeros(48_000)])
    assert -25 < overall(measure(columns(hit)))["vu_max"] < -5


def test_silence_short_files_and_nan_are_no_readings_and_never_numbers() -> None:
    silent = measure(columns(np.zeros(48_000)))
    assert reading(silent, "rms").value is None
    assert reading(silent, "rms").why == "digital silence"
    assert overall(silent)["silent"] == 1
    brief = measure(columns([0.5]))
    assert overall(brief)["sample_peak"] == pytest.approx(-6.02, abs=0.01)
    assert reading(brief, "loudness_integrated").why.startswith("the file is shorter than one block")
    broken = measure(columns([0.1, np.nan, np.inf, 0.2]))
    assert overall(broken)["non_finite"] == 2
    assert all(r.value is None for r in broken if r.measure != "non_finite")


def test_adding_a_channel_changes_no_other_channels_readings() -> None:
    mono, both = measure(columns(sine(997, -12, 1))), measure(columns(sine(997, -12, 1), noise(48_000)[:, 0]))
    for one in mono:
        if one.channel == "1":
            assert reading(both, one.measure, "1").value == one.value, one.measure
