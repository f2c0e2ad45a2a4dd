"""Where clicks begin: at a rise to a quarter of the peak, out of rest, and never twice within it."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kind_echo.core.audio.source import ArraySource
from kind_echo.core.systems.latency import LatencyOptions, find_clicks, measure_latency


def _walked(x: np.ndarray, rate: int) -> list[int]:
    """The same rule, a sample at a time."""
    peak, rest = np.abs(x).max(), max(8, round(0.01 * rate))
    starts: list[int] = []
    for frame in range(len(x)):
        if abs(x[frame]) < 0.25 * peak or (starts and frame - starts[-1] < rest):
            continue
        before = np.abs(x[max(0, frame - rest) : max(0, frame - rest // 4)])
        if not (before >= 0.03 * peak).any():
            starts.append(frame)
    return starts


@given(
    st.lists(st.tuples(st.integers(0, 1999), st.floats(-1, 1)), min_size=1, max_size=40),
    st.floats(0, 0.3), st.sampled_from([800, 8000, 48_000]), st.integers(0, 2**32),
)  # fmt: skip
def test_clicks_are_those_that_a_walk_over_all_samples_finds(
    pulses: list[tuple[int, float]], noise: float, rate: int, seed: int
) -> None:
    x = noise * np.random.default_rng(seed).uniform(-0.2, 0.2, 2000)
    for frame, height in pulses:
        x[frame] += height
    if x.any():
        assert find_clicks(x, rate) == _walked(x, rate)


@pytest.mark.parametrize("rate", [8000, 48_000, 384_000])
def test_clicks_far_apart_are_all_found_and_steady_noise_is_no_click(rate: int) -> None:
    gap = round(0.05 * rate)
    x = np.zeros(10 * gap)
    x[gap::gap] = 0.5
    assert find_clicks(x, rate) == list(range(gap, 10 * gap, gap))
    x[gap + 3 :: gap] = -0.4  # the end of the same click
    assert len(find_clicks(x, rate)) == 9
    noise = np.random.default_rng(2).uniform(-1, 1, rate)
    assert len(find_clicks(noise, rate)) <= 1  # where it begins


def test_the_search_for_clicks_is_kept_within_what_is_asked_for() -> None:
    """Clicks half a second apart come back 300 samples late: within 100 they are not there, within 300 they are."""
    x = np.zeros(4 * 48_000)
    x[24_000::24_000] = 0.9
    source, output = (ArraySource(side[:, None], 48_000) for side in (x, np.roll(x, 300)))
    for most, value, missing in ((100, None, 7.0), (299, None, 7.0), (300, 300.0, 0.0), (None, 300.0, 0.0)):
        readings, _ = measure_latency(source, output, LatencyOptions(max_delay=most))
        found = {r.measure: r for r in readings if r.channel == "all"}
        assert (found["latency"].value, found["latency_missing"].value) == (value, missing)
        if value is None:
            assert f"not in the render within {most} samples" in str(found["latency"].why)
