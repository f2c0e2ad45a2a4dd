"""Null tests whose truth is known beforehand, and the laws that hold for any pair."""

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from kind_echo.core.audio.align import Aligner, Alignment
from kind_echo.core.audio.source import ArraySource
from kind_echo.core.comparison.compare import compare
from kind_echo.core.comparison.pair import CompareOptions
from kind_echo.core.comparison.sums import SummedSource
from kind_echo.core.comparison.takes import take_spread
from kind_echo.core.delays.drift import delay_drift
from kind_echo.core.levels.integrity import find_clicks
from kind_echo.core.registry.errors import ChannelMismatch, RateMismatch
from kind_echo.core.registry.readings import value_of
from kind_echo.wording.causes import describe
from tests.core.conftest import columns, noise, overall, reading, sine

RATES = [8000, 22_050, 37_800, 44_100, 48_000, 96_000, 192_000]


def delayed(samples: Any, delay: float) -> Any:
    """Samples later by any delay, band-limited; wraps around, so the ends are silent beforehand."""
    size = len(samples)
    turn = np.exp(-2j * np.pi * np.fft.rfftfreq(size) * delay)
    return np.fft.irfft(np.fft.rfft(samples, axis=0) * turn[:, None], size, axis=0)


def quiet_ends(samples: Any, frames: int = 400) -> Any:
    out = samples.copy()
    out[:frames] = out[-frames:] = 0.0
    return out


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize("delay", [-31.0, 0.0, 17.25, 240.6])
def test_delay_comes_back_to_a_hundredth_of_a_sample(rate: int, delay: float) -> None:
    """Truth by construction: a shift of phase; noise 40 dB down."""
    x = quiet_ends(noise(rate))
    y = delayed(x, delay) + noise(rate, seed=2, level=1e-3)
    found = compare(ArraySource(x, rate), ArraySource(y, rate)).readings
    assert reading(found, "delay").value == pytest.approx(delay, abs=0.01)
    assert reading(found, "delay").uncertainty < 0.01
    spread = max(0.001, 1.5 * (reading(found, "gain").uncertainty or 0.0))  # 8000 samples tell no more than that
    assert reading(found, "gain").value == pytest.approx(0.0, abs=spread)
    assert reading(found, "delay_time").value == pytest.approx(1000 * delay / rate, abs=0.01 * 1000 / rate)


@pytest.mark.parametrize("fraction", [0.44, 0.49, 0.5, 0.51, 0.56])
def test_half_a_sample_is_found_like_any_other_fraction(fraction: float) -> None:
    """White noise has its correlation's turning point there, from where Newton's method alone overshoots."""
    x = quiet_ends(noise(20_000))
    y = delayed(x, 30 + fraction) + noise(20_000, seed=2, level=1e-3)
    found = compare(ArraySource(x, 48_000), ArraySource(-y, 48_000)).readings
    assert reading(found, "delay").value == pytest.approx(30 + fraction, abs=0.01)
    assert reading(found, "polarity").value == -1


@pytest.mark.parametrize(("rate", "seconds"), [(44_100, 0.5), (96_000, 1.0), (192_000, 2.0)])
def test_the_ends_of_a_file_pull_no_delay(rate: int, seconds: float) -> None:
    """A dull noise that goes on beyond both ends: the truth lies within twice the uncertainty, and that is small."""
    size, late = round(rate * seconds), 136.25
    longer = signal.sosfilt(signal.butter(4, 800, fs=rate, output="sos"), noise(size + 4000)[:, 0])[:, None]
    x, y = longer[2000:-2000], delayed(longer, late)[2000:-2000]
    y = y + noise(size, seed=3, level=float(np.std(y)) / 1000)
    delay = reading(compare(ArraySource(x, rate), ArraySource(y, rate)).readings, "delay")
    assert delay.value == pytest.approx(late, abs=2 * delay.uncertainty + 1e-4)
    assert delay.uncertainty < 0.05


@pytest.mark.parametrize("delay", [-41.755, 0.25, 33.5])
def test_a_fraction_taken_off_leaves_the_noise_and_no_more(delay: float) -> None:
    """Noise up to half the rate: what is moved block by block would leave −50 dB of it."""
    spectrum = np.fft.rfft(quiet_ends(noise(96_000, 2)), axis=0)
    spectrum[-1] = 0.0  # half the rate itself has no phase that could be turned
    x, hiss = np.fft.irfft(spectrum, 96_000, axis=0), noise(96_000, 2, seed=4, level=1e-4)
    y = -1.5 * delayed(x, delay) + hiss
    options = CompareOptions("fraction", match_gain=True, match_polarity=True)
    found = overall(compare(ArraySource(x, 48_000), ArraySource(y, 48_000), options).readings)
    floor = 10 * np.log10(2 * np.mean(hiss**2)) - 20 * np.log10(1.5)
    assert found["residual_rms"] == pytest.approx(floor, abs=0.2)
    assert found["account_fraction"] == pytest.approx(floor, abs=0.2)


def test_gain_and_polarity_come_back() -> None:
    x = noise(48_000, 2)
    found = compare(ArraySource(x, 48_000), ArraySource(-x * 10 ** (-0.2 / 20), 48_000)).readings
    assert reading(found, "gain").value == pytest.approx(-0.2, abs=1e-6)
    assert reading(found, "polarity").value == -1
    assert reading(found, "account_polarity").value < reading(found, "account_delay").value


@pytest.mark.parametrize("seconds", [12.0, 30.0])
@pytest.mark.parametrize("ppm", [-40.0, 7.0, 300.0, -1000.0])
def test_drift_comes_back_to_one_ppm(ppm: float, seconds: float) -> None:
    """Truth by construction: band-limited noise made of sines, sampled on two clocks."""
    rate, rng = 8000, np.random.default_rng(3)
    frequency, phase = rng.uniform(100, 3000, 60), rng.uniform(0, 6.28, 60)
    time = np.arange(round(seconds * rate)) / rate

    def play(speed: float) -> Any:
        return sum(np.sin(2 * np.pi * f * time * speed + p) for f, p in zip(frequency, phase, strict=True)) / 60

    found = compare(columns(play(1.0), rate=rate), columns(play(1.0 / (1 + ppm * 1e-6)), rate=rate)).readings
    drift = reading(found, "delay_drift")
    assert drift.value == pytest.approx(ppm, abs=1.0)
    delay = reading(found, "delay")
    assert delay.value is not None or "ppm" in str(delay.why)


@pytest.mark.parametrize("corner", [100, 300, 800, 3000])
def test_what_is_unrelated_has_no_drift(corner: float) -> None:
    """Of dull noise, short segments correlate by chance: chance scatters them, and a drift lays them on a line."""
    sos = signal.butter(4, corner, fs=8000, output="sos")
    for seed in range(1, 7, 2):
        sides = (signal.sosfilt(sos, noise(64_000, seed=k)[:, 0]) for k in (seed, seed + 1))
        assert delay_drift(*(columns(side, rate=8000) for side in sides), None, "none").value is None  # type: ignore[arg-type, call-arg]


def test_what_cannot_be_had_is_refused_with_the_reason() -> None:
    tone = columns(sine(1000, -6, 1))
    assert "periodic" in str(reading(compare(tone, tone).readings, "delay").why)
    narrowed = compare(tone, columns(np.roll(sine(1000, -6, 1), 5)), CompareOptions(max_delay=20)).readings
    assert reading(narrowed, "delay").value == pytest.approx(5, abs=0.05)
    unrelated = compare(ArraySource(noise(48_000), 48_000), ArraySource(noise(48_000, seed=9), 48_000)).readings
    assert "correlates" in str(reading(unrelated, "delay").why)
    silent = compare(ArraySource(noise(48_000), 48_000), columns(np.zeros(48_000))).readings
    assert reading(silent, "gain").value is None
    assert reading(silent, "channel_missing").value == 1
    assert reading(compare(*[ArraySource(noise(48_000), 48_000)] * 2).readings, "delay_drift").value is None  # type: ignore[arg-type]
    with pytest.raises(RateMismatch, match="44100 Hz"):
        compare(columns([0.1]), columns([0.1], rate=44_100))
    with pytest.raises(ChannelMismatch, match="2 channels"):
        compare(columns([0.1]), columns([0.1], [0.1]))


def test_the_residual_of_known_noise() -> None:
    """Two independent parts add in power; the residual is the noise itself."""
    x, n = noise(96_000), noise(96_000, seed=4, level=1e-3)
    found = overall(compare(ArraySource(x, 48_000), ArraySource(x + n, 48_000)).readings)
    expected = 10 * np.log10(2 * np.mean(n**2))
    assert found["residual_rms"] == pytest.approx(expected, abs=0.001)
    assert found["null_depth"] == pytest.approx(40, abs=0.1)
    assert abs(found["account_raw"] - found["account_remainder"]) < 0.1  # independent noise: nothing linear explains it
    assert found["changed_share"] == pytest.approx(100, abs=0.1)


def test_changed_samples_and_regions_are_counted_with_both_ends() -> None:
    x = noise(48_000)
    y = x.copy()
    y[1000:1010] += 0.01
    y[1020] += 0.01  # within a millisecond of the first: one region
    y[30_000] += 0.01
    found = overall(compare(ArraySource(x, 48_000), ArraySource(y, 48_000), CompareOptions(ceiling=60.0)).readings)
    assert (found["changed_samples"], found["changed_regions"]) == (12, 2)
    assert found["longest_change"] == pytest.approx(1000 * 21 / 48_000)
    assert found["changed_below"] == 12
    assert found["clicks"] == 2


@pytest.mark.parametrize("most", [None, 2000])
@pytest.mark.parametrize("gain", [0.06, 0.5])
def test_the_uncertainty_of_a_delay_beside_a_filter_covers_it_however_far_it_was_looked_for(
    most: int | None, gain: float
) -> None:
    """Pink noise 37 samples late through a peak at 3 kHz, which moves the peak of the correlation."""
    spectrum = np.fft.rfft(noise(300_000)[:, 0]) / np.sqrt(np.maximum(1, np.arange(150_001)))
    x = np.fft.irfft(spectrum, 300_000)
    y = x + gain * signal.lfilter(*signal.iirpeak(3000, 1.0, fs=96_000), x)
    late = np.concatenate([np.zeros(37), y])
    found = compare(columns(x, rate=96_000), columns(late, rate=96_000), CompareOptions(max_delay=most)).readings
    delay = reading(found, "delay")
    assert abs(value_of(found, "delay") - 37.0) <= delay.uncertainty
    # It spans the group delays: at 3 kHz that of the peak is 2 Q / ω of the share of the sound that it makes up.
    assert delay.uncertainty <= 2.0 / (2 * np.pi * 3000 / 96_000) * gain / (1.0 + gain)


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000, 176_400, 192_000, 384_000])
def test_what_a_filter_makes_of_a_step_of_the_reference_is_no_click_at_any_rate(rate: int) -> None:
    """A sound that begins at once, and a peak of 0.5 dB: its answer fades over the same time at each rate."""
    x = np.zeros(rate)
    x[rate // 2 :] = 0.07 * (1 + 0.1 * np.sin(2 * np.pi * 30 * np.arange(rate - rate // 2) / rate))
    y = x + (10 ** (0.5 / 20) - 1) * signal.lfilter(*signal.iirpeak(3000, 1.0, fs=rate), x)
    source = columns(x, rate=rate)
    assert find_clicks(source, Aligner(columns(y, rate=rate), rate).at(Alignment()), 1.0) == [[]]
    y[rate // 4] = 0.01
    found = find_clicks(source, Aligner(columns(y, rate=rate), rate).at(Alignment()), 1.0)
    assert found == [[rate // 4]]


FILTERS: dict[str, tuple[Any, Any]] = {
    "fir low-pass": (signal.firwin(101, 0.3), [1.0]),
    "peak": signal.iirpeak(0.1, 2.0),
    "shelf-like": ([1.2, -0.3], [1.0, -0.5]),
    "butterworth": signal.butter(4, 0.4),
}


@pytest.mark.parametrize("name", FILTERS)
@pytest.mark.parametrize("rate", [44_100, 96_000])
def test_a_filter_alone_is_explained_by_the_filter_step(name: str, rate: int) -> None:
    """Filters of scipy.signal: at least 25 dB off at that step."""
    x = noise(3 * rate, 2)
    y = signal.lfilter(*FILTERS[name], x, axis=0)
    comparison = compare(ArraySource(x, rate), ArraySource(y, rate))
    found = overall(comparison.readings)
    assert found["account_fraction"] - found["account_filter"] >= 25
    assert "a change of linear filtering" in describe(comparison.causes)


def test_the_account_names_one_sample_and_a_clipper() -> None:
    x = quiet_ends(noise(96_000))
    late = compare(ArraySource(x, 48_000), ArraySource(np.roll(x, 1, axis=0), 48_000))
    assert describe(late.causes) == "1 sample late"
    clipped = compare(ArraySource(x, 48_000), ArraySource(np.clip(x, -0.08, 0.08), 48_000))
    assert [cause.cause for cause in clipped.causes] == ["clipping"]


def test_a_lost_start_is_told_of_what_never_stands_above_its_own_floor() -> None:
    """Programme that sounds throughout: its quietest millisecond is less than 20 dB below its start."""
    x = noise(96_000, 2) * np.linspace(0.05, 1.0, 96_000)[:, None]
    render = np.concatenate([np.zeros((200, 2)), x[:-200]])
    render[:9800] = 0.0
    found = overall(compare(ArraySource(x, 48_000), ArraySource(render, 48_000)).readings)
    assert found["delay"] == pytest.approx(200, abs=0.01)
    assert found["lead_in_excess"] == pytest.approx(0.2, abs=0.001)


@pytest.mark.parametrize("rate", [22_050, 48_000])
@pytest.mark.parametrize("seconds", [1.0, 4.0])
def test_a_filter_explains_what_a_filter_did_to_programme(rate: int, seconds: float) -> None:
    """Pink noise with swells, a finite filter and an equaliser's bell: at least 25 dB, however short the file."""
    rng, size = np.random.default_rng(7), round(rate * seconds)
    spectrum = np.fft.rfft(rng.standard_normal(size)) / np.sqrt(np.maximum(1, np.arange(size // 2 + 1)))
    x = np.fft.irfft(spectrum, size) * (0.3 + 0.7 * np.abs(np.sin(4.4 * np.arange(size) / rate)))
    taps = rng.standard_normal(64) * np.exp(-np.arange(64) / 8)
    bell = signal.iirpeak(2000, 1.0, fs=rate)
    for render in (signal.lfilter(taps, [1.0], x), x + 0.5 * signal.lfilter(*bell, x)):
        found = overall(compare(columns(x, rate=rate), columns(render, rate=rate)).readings)
        assert found["account_fraction"] - found["account_filter"] > 25


def test_integrity_of_a_pair() -> None:
    x = noise(96_000, 2)
    gap = x.copy()
    gap[20_000:20_480] = 0.0
    late_start = x.copy()
    late_start[:9600] = 0.0
    pairs = {
        "gaps": (gap, 1.0),
        "channel_swap": (x[:, ::-1], 1.0),
        "channel_missing": (x * [1.0, 0.0], 1.0),
        "lead_in_excess": (late_start, 0.2),
    }
    for measure, (render, expected) in pairs.items():
        found = overall(compare(ArraySource(x, 48_000), ArraySource(render, 48_000)).readings)
        assert found[measure] == pytest.approx(expected, abs=0.001), measure
    exchanged = np.concatenate([np.zeros((353, 2)), x[:-353, ::-1]])
    crossed = compare(ArraySource(x, 48_000), ArraySource(exchanged, 48_000)).readings
    assert reading(crossed, "channel_swap").value == 1
    assert reading(crossed, "delay").value == pytest.approx(353, abs=0.01)
    assert "added up" in str(reading(crossed, "delay").why)
    assert reading(crossed, "gain").value is None
    same = overall(compare(ArraySource(x, 48_000), ArraySource(x, 48_000)).readings)
    assert [same[m] for m in ("gaps", "clicks", "channel_swap", "channel_missing", "lead_in_excess")] == pytest.approx(
        [0] * 5, abs=1e-12
    )


def test_the_third_octave_of_a_residual_tone_holds_its_level() -> None:
    """IEC 61260-1: the band at 1 kHz, exact mid-band frequency 1000 Hz."""
    x = noise(96_000)
    y = x + sine(1000, -80, 2)[:, None]
    curve = compare(ArraySource(x, 48_000), ArraySource(y, 48_000)).curves["residual_bands"]
    levels = dict(zip(np.round(curve.x).astype(int), curve.y, strict=True))
    assert levels[1000] == pytest.approx(-80, abs=0.1)
    assert max(v for k, v in levels.items() if k != 1000) < -110


def test_bands_that_sum_to_the_input_null_and_takes_tell_their_spread() -> None:
    x = noise(48_000)
    low = signal.lfilter(*signal.butter(2, 0.1), x, axis=0)
    parts = tuple(ArraySource(p, 48_000) for p in (low, x - low))
    assert overall(compare(ArraySource(x, 48_000), SummedSource(parts)).readings)["residual_rms"] < -280
    minus = SummedSource((ArraySource(x, 48_000),), (parts[1],))
    assert compare(ArraySource(low, 48_000), minus).readings
    takes = [ArraySource(x + noise(48_000, seed=s, level=1e-4), 48_000) for s in (2, 3)]
    expected = 10 * np.log10(2 * 2 * 1e-8)  # two independent noises
    assert take_spread(takes).value == pytest.approx(expected, abs=0.1)  # type: ignore[arg-type]


@settings(max_examples=3)
@given(st.integers(-300, 300), st.floats(-40, 20), st.integers(1, 3))
def test_shift_and_scale_change_delay_and_gain_and_nothing_else(shift: int, decibels: float, channels: int) -> None:
    x = quiet_ends(noise(24_000, channels, seed=abs(shift) + 1))
    y = x + 0.01 * quiet_ends(noise(24_000, channels, seed=77))
    base = overall(compare(ArraySource(x, 48_000), ArraySource(y, 48_000)).readings)
    moved = np.roll(y, shift, axis=0) * 10 ** (decibels / 20)
    options = CompareOptions(match_gain=True)
    there = overall(compare(ArraySource(x, 48_000), ArraySource(moved, 48_000), options).readings)
    assert there["delay"] == pytest.approx(base["delay"] + shift, abs=0.005)
    assert there["gain"] == pytest.approx(base["gain"] + decibels, abs=0.001)
    assert there["polarity"] == base["polarity"] == 1
    matched = overall(compare(ArraySource(x, 48_000), ArraySource(y, 48_000), options).readings)
    deepest = -200.0  # below lies the rounding of 53 bits
    assert max(there["residual_rms"], deepest) == pytest.approx(max(matched["residual_rms"], deepest), abs=0.1)
    back = overall(compare(ArraySource(moved, 48_000), ArraySource(x, 48_000)).readings)
    assert back["delay"] == pytest.approx(-there["delay"], abs=0.005)
    assert back["length_difference"] == -there["length_difference"]


def test_a_long_file_gives_what_its_blocks_give() -> None:
    """The quick search of long files finds what the full search finds."""
    x = quiet_ends(noise(1_300_000, 2))
    y = np.roll(x, 12_345, axis=0) * 0.9
    found = overall(compare(ArraySource(x, 96_000), ArraySource(y, 96_000)).readings)
    assert found["delay"] == pytest.approx(12_345, abs=0.01)
    assert found["gain"] == pytest.approx(20 * np.log10(0.9), abs=1e-4)


@pytest.mark.parametrize(("before", "after"), [(60, 0), (40, 40), (300, 0)])
def test_a_file_that_is_mostly_silent_is_lined_up_by_what_sounds(before: int, after: int) -> None:
    """2 s of sound in minutes of silence, later by 77 samples and 6.02 dB softer; and a sound that is not related."""
    rate = 8000
    sound = 0.1 * noise(2 * rate)[:, 0]
    silent = [np.zeros(before * rate), np.zeros(after * rate)]
    file = np.concatenate([silent[0], sound, silent[1]])
    late = 0.5 * np.concatenate([np.zeros(77), file[:-77]])
    found = overall(compare(columns(file, rate=rate), columns(late, rate=rate)).readings)
    assert found["delay"] == pytest.approx(77.0, abs=0.01)
    assert found["gain"] == pytest.approx(-6.0206, abs=0.001)
    other = np.concatenate([silent[0], 0.1 * noise(2 * rate, seed=9)[:, 0], silent[1]])
    unrelated = reading(compare(columns(file, rate=rate), columns(other, rate=rate)).readings, "delay")
    assert unrelated.value is None


@pytest.mark.parametrize("related", [True, False])
@pytest.mark.parametrize(("late", "polarity"), [(4_800, 1.0), (-333, -1.0), (0, 1.0)])
def test_sound_at_both_ends_of_a_long_silence_has_its_delay(related: bool, late: int, polarity: float) -> None:
    """Half a second at the start and at the end of twenty: blocks spread over all of it meet silence."""
    frames, sounds = 20 * 48_000, 24_000
    x = np.zeros(frames)
    x[1000 : 1000 + sounds], x[-1000 - sounds : -1000] = noise(sounds, seed=1)[:, 0], noise(sounds, seed=2)[:, 0]
    y = np.roll(x, late) * polarity
    if not related:
        y[y != 0.0] = noise(int((y != 0.0).sum()), seed=3)[:, 0]
    found = compare(*(columns(side) for side in (x, y))).readings  # type: ignore[arg-type]
    if related:
        assert reading(found, "delay").value == pytest.approx(late, abs=0.01)
        assert reading(found, "polarity").value == polarity
        assert reading(found, "gain").value == pytest.approx(0.0, abs=0.01)
    else:
        assert reading(found, "delay").value is None
        assert reading(found, "gain").value is None


def test_no_gain_is_told_where_a_drift_leaves_no_delay() -> None:
    x = signal.resample(noise(480_000)[:, 0], 576_000)
    y = signal.resample(x, round(len(x) * (1 + 300e-6)))[: len(x)]
    found = compare(*(columns(side) for side in (x, y))).readings  # type: ignore[arg-type]
    assert reading(found, "delay_drift").value == pytest.approx(300, abs=3)
    assert (reading(found, "delay").value, reading(found, "gain").value) == (None, None)
    assert "changes over the file" in str(reading(found, "gain").why)
