"""The gain of a render over its reference, whose truth is known by construction."""

import math
from typing import Any

import numpy as np
import pytest
from scipy import signal

from kind_echo.core.audio.align import Aligner, Alignment
from kind_echo.core.audio.source import ArraySource
from kind_echo.core.comparison.compare import compare
from kind_echo.core.comparison.gains import find_gains
from kind_echo.core.comparison.pair import CompareOptions
from kind_echo.core.comparison.residual import residual_of
from kind_echo.core.delays.delay_reading import Delay
from kind_echo.core.registry.readings import Reading
from tests.core.conftest import noise, reading, sine
from tests.support.material import PIECES, load

R = 48_000


def _compared(x: Any, y: Any, **options: Any) -> list[Reading]:
    reference, render = (ArraySource(np.ascontiguousarray(side.reshape(len(side), -1)), R) for side in (x, y))
    return compare(reference, render, CompareOptions(**options)).readings


def _turned(x: Any) -> Any:
    return np.imag(signal.hilbert(x, axis=0))


def _all_passes(x: Any) -> Any:
    for a in (-0.7, -0.7, 0.5, -0.2):
        x = signal.lfilter([a, 1.0], [1.0, a], x, axis=0)
    return x


@pytest.mark.parametrize("change", [_all_passes, _turned])
@pytest.mark.parametrize("piece", ["piano", "title music"])
def test_what_turns_the_phase_alone_has_no_gain(change: Any, piece: str) -> None:
    """An all-pass has magnitude 1 at every frequency, and so has a Hilbert transformer: definition."""
    sounds = {one.name: one for one in PIECES}
    x = load(sounds[piece], R)[: 4 * R]
    found = _gain_alone(x, 10 ** (-1.5 / 20) * change(x))
    assert reading(found, "gain").value == pytest.approx(-1.5, abs=0.01)
    in_phase = reading(found, "gain_in_phase")
    assert in_phase.value is None or change is not _turned
    assert in_phase.value is not None or "squared correlation" in str(in_phase.why)


def test_a_quarter_of_a_turn_has_no_polarity() -> None:
    x = noise(R)
    found = _compared(x, _turned(x))
    assert reading(found, "polarity").value is None
    assert "squared correlation" in str(reading(found, "polarity").why)
    assert reading(found, "gain").value == pytest.approx(0.0, abs=0.02)


def test_a_filter_changes_the_level_by_its_power_over_the_signal() -> None:
    """White noise through a filter: mean of |H|² (Parseval), here of a second-order low-pass at 500 Hz, 64 late."""
    x = noise(4 * R)
    b, a = signal.butter(2, 500, fs=R)
    y = np.concatenate([np.zeros((64, 1)), signal.lfilter(b, a, x, axis=0)[:-64]])
    _, h = signal.freqz(b, a, 1 << 16)
    gain = reading(_gain_alone(x, y), "gain")
    assert gain.uncertainty is not None
    assert gain.value == pytest.approx(10 * math.log10(np.mean(np.abs(h) ** 2)), abs=max(0.02, gain.uncertainty))


@pytest.mark.parametrize(("frequency", "late"), [(20.5, 77.25), (997.0, 10.0), (15_000.1, 0.0)])
def test_a_steady_tone_has_its_gain_and_the_least_of_its_delays(frequency: float, late: float) -> None:
    period = R / frequency
    x, y = sine(frequency, -12, 1), sine(frequency, -12.1, 1, phase=-2 * math.pi * frequency * late / R)
    found = _compared(x, y)
    gain, delay = reading(found, "gain"), reading(found, "delay")
    assert gain.value == pytest.approx(-0.1, abs=0.001)
    assert reading(found, "gain_in_phase").value == pytest.approx(-0.1, abs=0.001)
    assert delay.value is None
    within = late - period * round(late / period)
    assert f"it is {within:+.2f} samples".replace("-", "−") in str(delay.why)
    assert f"whole periods of {period:.2f}" in str(delay.why)
    near = reading(_compared(x, y, max_delay=max(1, int(period / 2))), "delay")
    assert near.value is None or f"whole periods of {period:.2f}" in str(near.why)


def test_a_tone_is_brought_to_the_level_of_its_reference_where_asked_for() -> None:
    x = sine(997, -12, 1)
    found = _compared(x, 0.5 * x, match_gain=True)
    assert (reading(found, "residual_rms").value or -400.0) < -140


@pytest.mark.parametrize("ratio", [10.0, 20.0, 40.0])
@pytest.mark.parametrize("slope", [0.0, 0.5, 1.0])
def test_the_truth_lies_within_what_coloured_noise_leaves(ratio: float, slope: float) -> None:
    """White, pink and brown noise; of twelve draws at 95 %, at most two lie outside with a probability of 98 %."""
    rng = np.random.default_rng(round(ratio + 100 * slope))
    x = load(next(piece for piece in PIECES if piece.name == "guitar"), R)[: 3 * R]
    level = 10 ** ((-1.3 - ratio) / 20) * float(np.sqrt(np.mean(x**2)))
    within = 0
    for _ in range(12):
        colour = np.fft.rfft(rng.standard_normal(x.shape), axis=0)
        colour /= np.maximum(np.arange(len(colour)), 20 * 3)[:, np.newaxis] ** slope
        added = np.fft.irfft(colour, len(x), axis=0)
        y = 10 ** (-1.3 / 20) * x + level * added / np.sqrt(np.mean(added**2))
        gain = reading(_gain_alone(x, y), "gain")
        assert gain.value is not None
        within += abs(gain.value + 1.3) <= (gain.uncertainty or 0.0)
    assert within >= 10


def _gain_alone(x: Any, y: Any) -> list[Reading]:
    """The gain of a pair that is lined up, without all else that is compared."""
    reference, render = ArraySource(x, R), ArraySource(np.ascontiguousarray(y), R)
    sums = residual_of(reference, Aligner(render, len(x)).at(Alignment()))
    return find_gains(reference, render, (sums, 0.0), Delay(0.0, 1)).readings


def test_noise_that_hides_a_signal_leaves_no_gain_and_no_polarity() -> None:
    x = noise(2 * R)
    found = _gain_alone(x, 0.001 * x + noise(2 * R, seed=9, level=0.1))
    gain = reading(found, "gain")
    assert gain.value is None
    assert any(words in str(gain.why) for words in ("noise hides it", "nothing correlates"))


def test_each_channel_has_a_gain_and_a_polarity_of_its_own() -> None:
    x = noise(2 * R, channels=2)
    found = _compared(x, x * [1.0, -0.5])
    assert reading(found, "gain", "2").value == pytest.approx(20 * math.log10(0.5), abs=1e-4)
    assert reading(found, "gain").value == pytest.approx(10 * math.log10(0.625), abs=0.02)
    assert [reading(found, "polarity", name).value for name in ("1", "2")] == [1.0, -1.0]


def test_a_channel_of_which_nothing_is_left_leaves_the_gain_of_the_rest() -> None:
    """Half of the power is there: 10 log of the first channel's share, with a finite uncertainty."""
    x = noise(R, channels=2)
    found = _gain_alone(x, x * [1.0, 0.0])
    share = float(np.square(x[:, 0]).sum() / np.square(x).sum())
    assert reading(found, "gain").value == pytest.approx(10 * math.log10(share), abs=1e-3)
    assert math.isfinite(reading(found, "gain").uncertainty or 0.0)
    assert reading(found, "gain", "2").value is None


def test_a_sound_in_minutes_of_silence_has_its_gain() -> None:
    x = np.concatenate([np.zeros(60 * R), noise(R // 2)[:, 0], np.zeros(30 * R)])
    found = _gain_alone(x[:, np.newaxis], 0.25 * x[:, np.newaxis])
    assert reading(found, "gain").value == pytest.approx(20 * math.log10(0.25), abs=1e-4)
