"""The stated accuracy at every rate, from 8 to 384 kHz, and for many channels."""

import math
from typing import Any

import numpy as np
import pytest
from scipy import signal

from kind_echo.core.audio.source import ArraySource
from kind_echo.core.signals import make_request, synthesise
from kind_echo.core.systems.dynamics import measure_dynamics
from kind_echo.core.systems.latency import measure_latency
from kind_echo.core.systems.response import measure_response
from kind_echo.core.systems.transfer import ExpectedCurve, measure_curve
from kind_echo.core.tones.tone import ToneOptions, measure_tone
from tests.core.conftest import overall, reading

RATES = [8000, 22_050, 37_800, 44_100, 88_200, 176_400, 384_000]


def _signal(rate: int, kind: Any, **options: Any) -> Any:
    return synthesise(make_request(kind, **options), rate)


@pytest.mark.parametrize("rate", RATES)
def test_a_cubic_at_every_rate(rate: int) -> None:
    """x − x³/3 of a unit sine: third harmonic at 1/9 (trigonometry)."""
    tone = _signal(rate, "tone", frequency=0.0441 * rate, level=0.0, fade=0.0)
    found = measure_tone(ArraySource(tone - tone**3 / 3, rate), ToneOptions(0.0441 * rate))[0]
    assert reading(found, "harmonic_3").value == pytest.approx(20 * math.log10(1 / 9), abs=0.01)
    assert reading(found, "fundamental_level").value == pytest.approx(20 * math.log10(0.75), abs=0.001)


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize("kind", ["clicks", "noise"])
def test_latency_at_every_rate(rate: int, kind: str) -> None:
    sound = _signal(rate, kind, seconds=4.0, tempo=150.0, lead_in=0.1)
    late = np.concatenate([np.zeros((37, 1)), sound])[: len(sound)]
    found = overall(measure_latency(ArraySource(sound, rate), ArraySource(late, rate))[0])
    assert found["latency"] == pytest.approx(37, abs=0.05)
    assert found["latency_missing"] == 0


@pytest.mark.parametrize("rate", RATES)
def test_the_edge_of_a_filter_at_every_rate(rate: int) -> None:
    """scipy.signal.butter: −3.01 dB at the corner."""
    sweep = _signal(rate, "sweep", seconds=3.0, tail=0.4, start=10.0, end=0.48 * rate)
    corner = 0.3 * rate / 2
    sos = signal.butter(6, corner / (rate / 2), output="sos")
    out = signal.sosfilt(sos, sweep, axis=0)
    _, at_1k = signal.sosfreqz(sos, [1000.0], fs=rate)
    found = overall(measure_response(ArraySource(sweep, rate), ArraySource(out, rate))[0])
    assert found["edge_high"] == pytest.approx(corner, rel=0.02)
    assert found["gain_1k"] == pytest.approx(20 * math.log10(abs(at_1k[0])), abs=0.05)


@pytest.mark.parametrize("rate", RATES)
def test_a_curve_at_every_rate(rate: int) -> None:
    stairs = _signal(rate, "staircase", frequency=1000.0, level=0.0, step_seconds=0.25)
    level = np.repeat(np.arange(-60, 0.1, 2.0), round(0.25 * rate))
    expected = ExpectedCurve(-24, 3, 4, 2)
    out = stairs * (10 ** ((expected.level(level) - level) / 20))[:, None]
    found = overall(measure_curve(ArraySource(stairs, rate), ArraySource(out, rate), expected)[0])
    assert abs(found["curve_error_worst"]) < 0.05
    assert found["threshold_estimate"] == pytest.approx(-24, abs=0.5)
    assert found["ratio_estimate"] == pytest.approx(3, rel=0.03)


@pytest.mark.parametrize("rate", [22_050, 44_100, 96_000])
def test_time_constants_at_every_rate(rate: int) -> None:
    burst = _signal(rate, "burst", seconds=3.0, frequency=1000.0)
    frames = len(burst)
    target = np.zeros(frames)
    target[frames // 4 : frames // 2] = -8.0
    step = {True: math.exp(-1 / (0.015 * rate)), False: math.exp(-1 / (0.12 * rate))}
    gain, state = np.empty(frames), 0.0
    for i in range(frames):
        share = step[bool(target[i] < state)]
        state = share * state + (1 - share) * target[i]
        gain[i] = state
    out = burst * (10 ** (gain / 20))[:, None]
    found = overall(measure_dynamics(ArraySource(burst, rate), ArraySource(out, rate))[0])
    assert found["attack_constant"] == pytest.approx(15, rel=0.03, abs=1.0)
    assert found["release_constant"] == pytest.approx(120, rel=0.03, abs=1.0)


@pytest.mark.parametrize("channels", [2, 5, 8])
def test_every_channel_has_its_own_system(channels: int) -> None:
    sound = _signal(48_000, "noise", seconds=3.0, channels=channels)
    out = np.stack([np.roll(sound[:, c], 10 * c) * 0.5**c for c in range(channels)], axis=1)
    found = measure_latency(ArraySource(sound, 48_000), ArraySource(out, 48_000))[0]
    response = measure_response(ArraySource(sound, 48_000), ArraySource(out, 48_000))[0]
    for c in range(channels):
        assert reading(found, "latency", str(c + 1)).value == pytest.approx(10 * c, abs=0.05)
        assert reading(response, "gain_1k", str(c + 1)).value == pytest.approx(-6.0206 * c, abs=0.02)
