"""Responses and latencies of systems that are known in closed form."""

import math
from typing import Any

import numpy as np
import pytest
from scipy import signal

from kind_echo.core.signals import make_request, synthesise
from kind_echo.core.systems.latency import LatencyOptions, measure_latency
from kind_echo.core.systems.response import ResponseOptions, measure_response
from tests.core.conftest import columns, noise, overall, reading, sine
from tests.support.material import PIECES, load

R = 48_000


def _stimulus(kind: str, rate: int = R) -> Any:
    if kind == "noise":
        return noise(8 * rate)[:, 0]
    if kind == "impulse":
        return synthesise(make_request("impulse", seconds=2.0, level=0), rate)[:, 0]
    request = make_request("sweep", seconds=4.0, lead_in=0.1, tail=0.6, start=10.0, end=0.48 * rate, level=-6)
    return synthesise(request, rate)[:, 0]


@pytest.mark.parametrize("kind", ["sweep", "noise", "impulse"])
@pytest.mark.parametrize("order", [2, 3, 4])
def test_butterworth_edges_are_three_decibels_down_at_any_order(kind: str, order: int) -> None:
    """scipy.signal.butter: −3.01 dB at the corner, whatever the order."""
    x = _stimulus(kind)
    y = signal.lfilter(*signal.butter(order, 4000 / (R / 2)), x)
    found = overall(measure_response(columns(x), columns(y), ResponseOptions(edge=3.0103))[0])
    assert found["edge_high"] == pytest.approx(4000, rel=0.005)
    high = signal.lfilter(*signal.butter(order, 100 / (R / 2), "high"), x)
    low = overall(measure_response(columns(x), columns(high), ResponseOptions(edge=3.0103))[0])
    assert low["edge_low"] == pytest.approx(100, rel=0.02)


@pytest.mark.parametrize("kind", ["sweep", "noise"])
def test_magnitude_phase_and_group_delay_are_those_of_the_filter(kind: str) -> None:
    """scipy.signal.sosfreqz as the outside yardstick: 0.05 dB and 1°."""
    x = _stimulus(kind)
    sos = signal.butter(2, [200 / (R / 2), 6000 / (R / 2)], "band", output="sos")
    y = np.concatenate([np.zeros(37), signal.sosfilt(sos, x)])[: len(x)]
    readings, curves = measure_response(columns(x), columns(y))
    f = np.array(curves["magnitude"].x)
    inside = (f > 100) & (f < 15_000)
    _, h = signal.sosfreqz(sos, f, fs=R)
    assert np.abs(np.array(curves["magnitude"].y) - 20 * np.log10(np.abs(h)))[inside].max() < 0.05
    latency = overall(readings)["latency"]
    turned = np.unwrap(np.angle(h * np.exp(-2j * np.pi * f / R * (37 - latency))))
    error = np.array(curves["phase"].y) - np.degrees(turned)
    error -= 360 * np.round(np.median(error[inside]) / 360)
    assert np.abs(error[inside]).max() < 1.0


def test_slopes_and_asymptotes_of_fourth_order() -> None:
    """24 dB an octave: −24, −48, −72, −96 dB at 2, 4, 8, 16 times the corner, far enough from half the rate."""
    rate = 192_000
    x = _stimulus("sweep", rate)
    y = signal.sosfilt(signal.butter(4, 1500 / (rate / 2), output="sos"), x)
    found, curves = measure_response(columns(x, rate=rate), columns(y, rate=rate))
    assert overall(found)["slope_high"] == pytest.approx(24, abs=0.5)
    level = np.interp([3000, 6000, 12_000, 24_000], curves["magnitude"].x, curves["magnitude"].y)
    assert (np.abs(level - [-24.1, -48.2, -72.2, -96.3]) <= [1.2, 1.2, 1.2, 3.0]).all()


@pytest.mark.parametrize("kind", ["sweep", "noise"])
def test_a_brick_wall_is_found(kind: str) -> None:
    """A Kaiser FIR of scipy.signal, −20 dB by its own computed response."""
    taps = signal.firwin(1201, 15_000 / (R / 2), window=("kaiser", 10.0))
    f, h = signal.freqz(taps, worN=1 << 16, fs=R)
    wall = f[np.argmax(20 * np.log10(np.abs(h) + 1e-12) < -20)]
    x = _stimulus(kind)
    found = overall(measure_response(columns(x), columns(signal.lfilter(taps, 1, x)))[0])  # type: ignore[call-overload]
    assert found["wall_frequency"] == pytest.approx(wall, rel=0.01)
    assert found["latency"] == pytest.approx(600, abs=0.05)


def test_an_idle_effect_is_flat_and_poor_coherence_is_refused() -> None:
    x = _stimulus("noise")
    late = np.concatenate([np.zeros(512), x])[: len(x)]
    found = measure_response(columns(x), columns(late))[0]
    assert abs(reading(found, "flatness_error").value) < 0.001
    assert reading(found, "phase_deviation").value < 0.1
    assert reading(found, "latency").value == pytest.approx(512, abs=0.05)
    drowned = measure_response(columns(x), columns(x * 0.05 + noise(len(x), seed=8)[:, 0]))[0]
    assert "coherence" in str(reading(drowned, "gain_1k").why)
    assert reading(measure_response(columns(x), columns(np.zeros(len(x))))[0], "gain_1k").value is None


def _bell(hertz: float, decibels: float, quality: float, rate: int) -> tuple[Any, Any]:
    """Of the second order. Source: R. Bristow-Johnson, Cookbook formulae for audio equalizer biquad coefficients."""
    gain, turn = 10 ** (decibels / 40), 2 * np.pi * hertz / rate
    alpha = math.sin(turn) / (2 * quality)
    middle = -2 * math.cos(turn)
    return (
        np.array([1 + alpha * gain, middle, 1 - alpha * gain]),
        np.array([1 + alpha / gain, middle, 1 - alpha / gain]),
    )


@pytest.mark.parametrize("kind", ["noise", "impulse", "sweep"])
@pytest.mark.parametrize(
    ("hertz", "decibels", "quality", "rate"),
    [
        (20_000, 6, 20, 48_000),
        (20_000, 6, 20, 96_000),
        (25, 12, 8, 48_000),
        (1003, -30, 60, 44_100),
        (60, 9, 12, 48_000),
    ],
)
def test_a_peak_between_the_points_of_the_grid_is_found(
    hertz: float, decibels: float, quality: float, rate: int, kind: str
) -> None:
    """A bell has its gain at its middle; where a sweep ends at 20 kHz, the top of the band is not told, and so said."""
    x = np.random.default_rng(1).normal(size=10 * rate) * 0.1 if kind == "noise" else _stimulus(kind, rate)
    y = signal.lfilter(*_bell(hertz, decibels, quality, rate), x)
    found = reading(measure_response(columns(x, rate=rate), columns(y, rate=rate))[0], "flatness_error")
    if "told up to" in (found.why or ""):
        assert kind == "sweep"
        assert hertz == 20_000
    else:
        assert found.value == pytest.approx(decibels, abs=max(0.05, found.uncertainty))
        assert found.uncertainty < 0.25 * abs(decibels)


def test_what_a_sweep_leaves_out_at_the_top_of_the_band_is_said() -> None:
    """The end of a sweep, its fade in it, tells nothing of what an effect does there."""
    x = synthesise(make_request("sweep", seconds=5.0, level=-6, end=18_000.0), R)[:, 0]
    found = reading(measure_response(columns(x), columns(0.5 * x))[0], "flatness_error")
    assert found.value == pytest.approx(-6.02, abs=0.01)
    assert "told up to 17" in (found.why or "")


def _clicks(delays: list[float | None], extra: int | None = None) -> tuple[Any, Any]:
    x = synthesise(make_request("clicks", seconds=5.0, tempo=120.0, lead_in=0.2), R)[:, 0]
    pulse = x[round(0.2 * R) : round(0.2 * R) + 300]
    y = np.zeros(len(x))
    for k, delay in enumerate(delays):
        if delay is not None:
            at = round(0.2 * R) + k * R // 2 + int(delay)
            y[at : at + 300] += 0.5 * pulse
            if k == extra:
                y[at + 700 : at + 1000] += 0.5 * pulse
    return columns(x), columns(y)


def test_latency_of_clicks_leaves_the_first_out_and_counts_what_is_wrong() -> None:
    """Truth by construction."""
    delays: list[float | None] = [300, 100, 100, 102, None, 100, 100, 100, 100, 100]
    found = overall(measure_latency(*_clicks(delays, extra=6), LatencyOptions(96, (128, 2)))[0])
    assert found["latency"] == pytest.approx(100, abs=0.05)
    assert found["latency_first"] == pytest.approx(300, abs=0.05)
    assert found["latency_jitter"] == pytest.approx(2, abs=0.05)
    assert (found["latency_events"], found["latency_missing"], found["latency_doubled"]) == (10, 1, 1)
    assert found["latency_error"] == pytest.approx(4, abs=0.05)
    assert found["compensation"] == pytest.approx(-1000 * 100 / R, abs=0.01)
    assert found["latency_buffer"] == pytest.approx(5.33, abs=0.01)  # 128 frames × 2 at 48 kHz: arithmetic


def test_early_events_are_negative_and_air_is_at_343_metres_a_second() -> None:
    """8 ms of air are 2.7 m: arithmetic."""
    early = overall(measure_latency(*_clicks([-60] * 10))[0])
    assert early["latency"] == pytest.approx(-60, abs=0.05)
    late = overall(measure_latency(*_clicks([384] * 10))[0])
    assert late["distance"] == pytest.approx(2.74, abs=0.01)


def test_latency_on_noise_and_its_refusals() -> None:
    x = noise(4 * R)[:, 0]
    found = overall(measure_latency(columns(x), columns(np.concatenate([np.zeros(77), x[:-77]])))[0])
    assert found["latency"] == pytest.approx(77, abs=0.05)
    silent, _ = measure_latency(_clicks([0] * 10)[0], columns(np.zeros(round(5.2 * R))))
    assert reading(silent, "latency").value is None
    assert "not in the render" in str(reading(silent, "latency").why)
    few = measure_latency(*_clicks([5, 5, None, None, None, None, None, None, None, None]))[0]
    assert (reading(few, "latency").value, reading(few, "latency").why) == (5.0, "from 2 usable events")
    assert reading(few, "latency_jitter").why == "fewer than 3 usable events"


@pytest.mark.parametrize("delay", [100, -40])
def test_one_click_has_a_latency_and_a_burst_none(delay: int) -> None:
    """Truth by construction; a burst of a tone fits itself half a period later, inverted."""
    click = np.zeros(R)
    click[5000] = 0.5
    found = measure_latency(columns(click), columns(-0.2 * np.roll(click, delay)))[0]
    assert (reading(found, "latency").value, reading(found, "latency_first").value) == (delay, delay)
    assert reading(found, "latency").why == "from 1 usable event"
    assert reading(found, "latency_jitter").value is None
    burst = np.zeros(R)
    burst[5000:5480] = np.hanning(480) * sine(1000, 0, 0.01)
    assert reading(measure_latency(columns(burst), columns(-burst))[0], "latency").value is None


@pytest.mark.parametrize("order", [2, 4])
@pytest.mark.parametrize("corner", [300, 1000])
def test_a_slope_is_that_of_its_order_by_any_signal(order: int, corner: int) -> None:
    """6.02 dB an octave and order: asymptote; the zero at half the rate adds up to 0.7 under a tenth of it."""
    clicks = np.zeros(4 * R)
    clicks[2000 :: R // 2] = 0.5
    slopes = []
    for x in (*(_stimulus(kind) for kind in ("noise", "impulse", "sweep")), clicks):
        y = signal.sosfilt(signal.butter(order, corner, fs=R, output="sos"), x)
        slope = reading(measure_response(columns(x), columns(y))[0], "slope_high")
        slopes.append(slope.value)
        last = str(slope.why).split(" to ")[1].removesuffix(" Hz")
        assert float("".join(c for c in last if c.isdigit())) <= 0.1 * R
    assert max(slopes) - min(slopes) < 0.1
    assert 6.0 * order <= slopes[0] <= 6.0 * order + 0.75


@pytest.mark.parametrize("rate", [22_050, 48_000, 96_000])
def test_a_sweep_that_ends_with_its_file_tells_edges_and_slopes(rate: int) -> None:
    """scipy's chirp up to the last frame, and an output that breaks off there: 12 dB an octave at the second order."""
    t = np.arange(2 * rate) / rate
    x = 0.5 * signal.chirp(t, 10, 2.0, 0.49 * rate, "log")  # type: ignore[call-overload]
    sos = signal.butter(2, [120, 4000], "band", fs=rate, output="sos")
    y = np.concatenate([np.zeros(1800), signal.sosfilt(sos, x)])[: len(x)] + noise(len(x), level=1e-5)[:, 0]
    readings = measure_response(columns(x, rate=rate), columns(y, rate=rate), ResponseOptions(edge=3.0103))[0]
    found, gain = overall(readings), reading(readings, "gain_1k")
    _, h = signal.sosfreqz(sos, [1000.0], fs=rate)
    assert gain.value == pytest.approx(20 * np.log10(abs(h[0])), abs=0.05)
    assert gain.uncertainty < 0.05
    assert found["edge_low"] == pytest.approx(120, rel=0.02)
    assert found["edge_high"] == pytest.approx(4000, rel=0.02)
    assert found["slope_low"] == pytest.approx(12.04, abs=0.5)


@pytest.mark.parametrize("rate", [44_100, 96_000])
@pytest.mark.parametrize("bend", [lambda v: np.tanh(3 * v) / 2, lambda v: np.clip(1.2 * v, -0.5, 0.5)])
def test_a_sweep_tells_what_a_saturator_does_to_the_fundamental(rate: int, bend: Any) -> None:
    """The describing function (A. Gelb and W. E. Vander Velde, 1968), integrated over a period of the sweep's level."""
    request = make_request("sweep", seconds=3.0, lead_in=0.1, tail=0.6, start=20.0, end=0.45 * rate, level=-6)
    x = synthesise(request, rate)[:, 0]
    readings = measure_response(columns(x, rate=rate), columns(bend(x), rate=rate))[0]
    turn, peak = np.linspace(0, 2 * np.pi, 100_000, endpoint=False), 10 ** (-6 / 20)
    wanted = 20 * np.log10(2 * np.mean(bend(peak * np.sin(turn)) * np.sin(turn)) / peak)
    gain = reading(readings, "gain_1k")
    assert gain.value == pytest.approx(wanted, abs=0.01)
    assert gain.uncertainty < 0.02
    assert overall(readings)["latency"] == pytest.approx(0.0, abs=0.05)


@pytest.mark.parametrize("rate", [22_050, 44_100])
def test_bursts_upside_down_between_samples_are_where_they_are(rate: int) -> None:
    """Sampled, the correlation of a tone burst may be greater half a period away, with the other sign."""
    size = rate // 100
    burst = np.sin(2 * np.pi * 2000 * np.arange(size) / rate) * np.hanning(size)
    x = np.zeros(4 * rate)
    for start in range(rate // 5, 4 * rate - rate // 2, rate // 2):
        x[start : start + size] += 0.6 * burst
    turn = np.exp(-2j * np.pi * np.fft.rfftfreq(len(x)) * 440.527)
    y = -0.3 * np.fft.irfft(np.fft.rfft(x) * turn, len(x))
    found = overall(measure_latency(columns(x, rate=rate), columns(y, rate=rate))[0])
    assert found["latency"] == pytest.approx(440.527, abs=0.05)
    assert found["latency_jitter"] == pytest.approx(0.0, abs=0.05)


@pytest.mark.parametrize("top", [20_000.0, 23_500.0])
@pytest.mark.parametrize("fade", [0.0, 0.005, 0.05])
def test_a_wall_is_found_on_a_sweep_that_ends_with_its_file(top: float, fade: float) -> None:
    """A low-pass by the window method, 6 dB down at 16 kHz and 120 dB down 400 Hz above it."""
    request = make_request("sweep", seconds=5.0, start=20.0, end=top, level=-6, lead_in=0.0, tail=0.0, fade=fade)
    x = synthesise(request, R)[:, 0]
    y = np.convolve(x, signal.firwin(1023, 16_000, fs=R, window=("kaiser", 12)))[: len(x)]
    found = overall(measure_response(columns(x), columns(y))[0])
    assert found["wall_frequency"] == pytest.approx(16_000, rel=0.01)
    assert found["edge_high"] == pytest.approx(15_880, rel=0.01)


@pytest.mark.parametrize("sound", ["arcade music", "calm music", "piano", "guitar", "woman's voice", "applause"])
def test_the_magnitude_off_real_sound_is_right_where_it_is_coherent(sound: str) -> None:
    """A peak of 3 dB at 1 kHz; the bilinear transform's own response is the truth."""
    x = load(next(piece for piece in PIECES if piece.name == sound), R)[:, 0]
    w, amplitude = 2 * np.pi * 1000 / R, 10 ** (3 / 40)
    half = np.sin(w) / 2
    b, a = (np.array([1 + half * g, -2 * np.cos(w), 1 - half * g]) for g in (amplitude, 1 / amplitude))
    _, curves = measure_response(columns(x), columns(signal.lfilter(b, a, x)))
    f, level = np.array(curves["magnitude"].x), np.array(curves["magnitude"].y)
    error = np.abs(level - 20 * np.log10(np.abs(signal.freqz(b, a, f, fs=R)[1])))
    sure = (np.array(curves["coherence"].y) > 0.99) & (f > 20)
    assert sure.sum() > 400
    assert error[sure].max() < 0.05
    assert np.mean(error > np.array(curves["magnitude_uncertainty"].y) + 1e-3) < 0.05


@pytest.mark.parametrize("kind", ["noise", "impulse"])
def test_a_blocker_of_direct_current_has_an_edge(kind: str) -> None:
    x = _stimulus(kind)
    y = signal.lfilter(*signal.butter(1, 5.0, "high", fs=R), x)
    found, curves = measure_response(columns(x), columns(y), ResponseOptions(band=(1.0, 20_000.0)))
    assert overall(found)["edge_low"] == pytest.approx(5.0, rel=0.02)
    assert curves["magnitude"].x[0] < 2.5
