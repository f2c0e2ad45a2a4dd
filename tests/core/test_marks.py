"""What is marked on a curve is what was read from it, at its place; and the law of a compressor on any signal."""

import math

import numpy as np
import pytest
from scipy import signal

from kind_echo.core.audio.source import ArraySource
from kind_echo.core.registry.readings import Curve
from kind_echo.core.signals import make_request, synthesise
from kind_echo.core.systems.dynamics import measure_dynamics
from kind_echo.core.systems.latency import measure_latency
from kind_echo.core.systems.law import measure_law
from kind_echo.core.systems.response import measure_response
from kind_echo.core.systems.transfer import ExpectedCurve, measure_curve
from kind_echo.core.tones.imd import measure_imd
from tests.core.conftest import columns, overall, sine

R = 48_000
FOUR_TO_ONE = ExpectedCurve(-20.0, 4.0)


def _marks(curve: Curve) -> dict[str, float]:
    return {mark.text: mark.x for mark in curve.marks}


def test_a_burst_is_marked_where_its_gain_turns() -> None:
    """Gain −12 dB after 10 ms up and 100 ms down, by construction; the steps are where the signal has them."""
    x = synthesise(make_request("burst", seconds=2.0, level=0.0), R)[:, 0]
    up, down = R // 2, R
    gain = np.zeros(len(x))
    gain[up : up + 480] = np.linspace(0, -12, 480)
    gain[up + 480 : down] = -12.0
    gain[down : down + 4800] = np.linspace(-12, 0, 4800)
    readings, curves = measure_dynamics(columns(x), columns(x * 10 ** (gain / 20)))
    found, marks = overall(readings), {mark.text.split()[0]: mark.x for mark in curves["gain"].marks}
    assert [mark.text for mark in curves["gain"].marks if "step" in mark.text] == ["step up", "step down"]
    assert marks["attack"] == pytest.approx(up / R + found["attack_time"] / 1000, abs=1e-4)
    assert marks["release"] == pytest.approx(down / R + found["release_time"] / 1000, abs=1e-4)
    assert "overshoot" not in marks


def test_clicks_that_are_missing_or_doubled_are_marked_at_their_time() -> None:
    x = synthesise(make_request("clicks", seconds=4.0, tempo=120.0, lead_in=0.2), R)[:, 0]
    y, beat = x.copy(), R // 2
    third, fifth = (round(0.2 * R) + k * beat for k in (2, 4))
    y[third - 100 : third + 2000] = 0.0
    y[fifth + 900 : fifth + 1900] += x[fifth : fifth + 1000]
    _, curves = measure_latency(columns(x), columns(y))
    marks = curves["latency_by_event"].marks
    assert _marks(curves["latency_by_event"])["missing"] == pytest.approx(third / R, abs=0.001)
    assert _marks(curves["latency_by_event"])["doubled"] == pytest.approx(fifth / R, abs=0.001)
    assert _marks(curves["latency_by_event"])["first"] == pytest.approx(0.2, abs=0.001)
    grid = sorted(mark.x for mark in marks)
    assert np.diff(grid) == pytest.approx(0.5, abs=0.001)


def test_edges_and_slopes_are_marked_where_they_are_read() -> None:
    """A Butterworth low-pass of fourth order (scipy.signal): −3 dB at the corner, then 24 dB an octave."""
    rate = 192_000
    x = synthesise(
        make_request("sweep", seconds=4.0, lead_in=0.1, tail=0.6, start=10.0, end=0.48 * rate, level=-6), rate
    )[:, 0]
    y = signal.sosfilt(signal.butter(4, 1500 / (rate / 2), output="sos"), x)
    _, curves = measure_response(columns(x, rate=rate), columns(y, rate=rate))
    marks = _marks(curves["magnitude"])
    assert marks["−3 dB"] == pytest.approx(1500, rel=0.01)
    (slope,) = [text for text in marks if text.endswith("dB/octave")]
    assert float(slope.split()[0]) == pytest.approx(24, abs=0.5)
    # −20 dB lies at 1500·10^(20/80) Hz and −80 dB at 1500·10^(80/80): the middle is 1500·10^(50/80).
    assert marks[slope] == pytest.approx(1500 * 10 ** (50 / 80), rel=0.03)


def test_products_of_two_tones_are_named() -> None:
    """x + a·x² of two equal tones: A²·a at the difference, nothing of third order. Trigonometry."""
    x = 0.25 * sine(11_000, 0, 2) + 0.25 * sine(12_000, 0, 2)
    _, curves = measure_imd(columns(x + 0.1 * x**2), (11_000, 12_000))
    products = curves["products"]
    marks = _marks(products)
    assert set(marks) == {"f₁", "f₂", "f₂ − f₁"}
    assert marks["f₂ − f₁"] == pytest.approx(1000, abs=0.01)
    level = dict(zip(products.x, products.y, strict=True))
    assert level[marks["f₂ − f₁"]] == pytest.approx(20 * math.log10(0.1 * 0.25**2), abs=0.01)
    assert measure_imd(columns(np.zeros(R)), (11_000, 12_000))[1] == {}


def test_a_curve_has_the_law_and_its_error_beside_it() -> None:
    stairs = synthesise(make_request("staircase"), R)
    _, curves = measure_curve(ArraySource(stairs, R), ArraySource(stairs, R), FOUR_TO_ONE)
    expected = FOUR_TO_ONE.level(np.array(curves["transfer"].x))
    assert curves["transfer_expected"].y == pytest.approx(expected.tolist())
    assert curves["transfer_error"].y == pytest.approx((np.array(curves["transfer"].y) - expected).tolist())


@pytest.mark.parametrize(("gain", "error"), [(-9.0, 0.0), (0.0, 9.0), (-12.0, -3.0)])
def test_a_tone_is_held_against_the_law_by_every_kind_of_level(gain: float, error: float) -> None:
    """4:1 over −20 dBFS: −8 in is −17 out, a gain of −9 dB. Arithmetic of the law (Giannoulis et al. 2012, eq. 4)."""
    x = sine(997, -8.0, 2)
    found = overall(measure_law(columns(x), columns(x * 10 ** (gain / 20)), FOUR_TO_ONE, 997.0))
    assert found["law_level"] == pytest.approx(-17.0, abs=0.01)
    for key in ("law_error_tone", "law_error_peak", "law_error_rms", "law_error_loudness"):
        assert found[key] == pytest.approx(error, abs=0.02), key


def test_what_no_law_can_say_has_no_reading() -> None:
    x = sine(997, -8.0, 2)
    silent = {r.measure: r for r in measure_law(columns(x), columns(np.zeros(len(x))), FOUR_TO_ONE, 997.0)}
    assert silent["law_error_tone"].why == "the test signal is not in the render"
    assert silent["law_error_peak"].value is None
    nothing = measure_law(columns(np.zeros(R)), columns(x[:R]), FOUR_TO_ONE)
    assert {reading.value for reading in nothing} == {None}
    broken = x.copy()
    broken[5] = np.nan
    assert all(r.value is None for r in measure_law(columns(x), columns(broken), FOUR_TO_ONE, 997.0)[1:])
