"""What needles show along a file: against the readings of the whole, and against the standards' own numbers."""

import numpy as np
import pytest

from kind_echo.core.audio.source import ArraySource, Samples
from kind_echo.core.levels.analysis import measure, scan_file
from kind_echo.core.levels.needles import FLOOR, STEP_SECONDS, needles_of
from kind_echo.core.registry.readings import value_of
from kind_echo.core.signals import make_request, synthesise

R = 48_000


def _bells(rate: int = R) -> Samples:
    return synthesise(make_request(kind="bells", seconds=6.0, channels=2, seed=3), rate)


@pytest.mark.parametrize("rate", [8000, 44_100, R, 96_000])
def test_the_greatest_of_each_is_the_reading_of_the_file(rate: int) -> None:
    source = ArraySource(_bells(rate), rate)
    shown, readings = needles_of(source), measure(source)
    assert shown.needle.shape == (2, -(-source.frames // round(STEP_SECONDS * rate)))
    for values, key in ((shown.peak, "sample_peak"), (shown.true_peak, "true_peak"), (shown.needle, "vu_max")):
        assert values.max() == pytest.approx(value_of(readings, key), abs=0.02)
        for channel in range(2):
            own = next(r.value for r in readings if (r.measure, r.channel) == (key, str(channel + 1)))
            assert values[channel].max() == pytest.approx(own, abs=0.02)
    curves = scan_file(source).curves
    assert curves is not None
    assert shown.short.max() == pytest.approx(curves.short.max(), abs=0.1)


def test_loudness_at_ten_places_is_that_of_the_file_up_to_there() -> None:
    """At the end of a window it is the loudness of what that window holds, by the same meter on that part alone."""
    samples = _bells()
    shown = needles_of(ArraySource(samples, R))
    for step in np.linspace(4, 59, 10).astype(int):
        end = round((step + 1) * STEP_SECONDS * R)
        curves = scan_file(ArraySource(samples[:end], R)).curves
        assert curves is not None
        assert shown.momentary[step] == pytest.approx(max(curves.momentary[-1], FLOOR), abs=0.01)
        short = curves.short[-1] if len(curves.short) else FLOOR
        assert shown.short[step] == pytest.approx(max(short, FLOOR), abs=0.01)


def test_the_needle_rises_to_99_per_cent_in_300_ms_and_overshoots_by_little() -> None:
    """IEC 60268-17: a tone at 0 VU, begun from rest: 99 % after 300 ms, and 1 to 1.5 % beyond it."""
    tone = synthesise(make_request(kind="tone", frequency=997.0, level=-18.0, seconds=3.0, lead_in=1.0), R)
    needle = needles_of(ArraySource(tone, R)).needle[0]
    assert needle[9] == FLOOR
    assert 10 ** (needle[12] / 20) == pytest.approx(0.99, abs=0.01)
    assert 1.005 < 10 ** (needle.max() / 20) < 1.02
    assert needle[-1] == pytest.approx(0.0, abs=0.05)


def test_peaks_are_held_for_a_second_and_a_half() -> None:
    samples = np.full((4 * R, 1), 1e-3)
    samples[R] = 0.5
    peak = needles_of(ArraySource(samples, R)).peak[0]
    assert peak[9] == pytest.approx(-60.0)
    assert np.allclose(peak[10:25], 20 * np.log10(0.5))
    assert peak[25] == pytest.approx(-60.0)


def test_silence_what_is_not_finite_and_one_frame_are_shown() -> None:
    assert (needles_of(ArraySource(np.zeros((R, 1)), R)).peak == FLOOR).all()
    broken = np.full((R, 1), np.nan)
    assert (needles_of(ArraySource(broken, R)).needle == FLOOR).all()
    one = needles_of(ArraySource(np.ones((1, 3)), R))
    assert (one.peak.shape, one.peak.max()) == ((3, 1), 0.0)
