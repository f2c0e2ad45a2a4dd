"""A render on a clock of its own, read on the reference's: a band-limited sound at the times that arithmetic gives."""

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kind_echo.core.audio.source import ArraySource
from kind_echo.core.audio.warping import WarpedSource
from kind_echo.core.compiled import loops

FRAMES = 4000
EDGE = 100  # frames at either end that the filter of 64 taps and the delay keep from being full


def _places(delay: float, drift: float) -> np.ndarray:
    frames = np.arange(FRAMES)
    return np.asarray(frames + delay + drift * 1e-6 * (frames - FRAMES / 2))


@settings(max_examples=40)
@given(st.floats(0.001, 0.42), st.floats(-40, 40), st.floats(-5000, 5000), st.floats(0, 6.28))
def test_a_sine_is_read_between_its_samples(turns: float, delay: float, drift: float, phase: float) -> None:
    """C. E. Shannon, Communication in the presence of noise (1949): samples tell a band-limited sound everywhere."""
    sound = np.sin(2 * np.pi * turns * np.arange(FRAMES) + phase)
    warped = WarpedSource(ArraySource(sound[:, None], 48_000), delay, drift, FRAMES).read(0, FRAMES)[:, 0]
    wanted = np.sin(2 * np.pi * turns * _places(delay, drift) + phase)
    assert np.abs(warped - wanted)[EDGE:-EDGE].max() < 1e-4


@settings(max_examples=20)
@given(st.integers(-60, 60), st.integers(0, 2**32))
def test_whole_samples_are_the_samples(delay: int, seed: int) -> None:
    sound = np.random.default_rng(seed).standard_normal((FRAMES, 2))
    warped = WarpedSource(ArraySource(sound, 48_000), float(delay), 0.0, FRAMES)
    first, last = max(0, -delay), min(FRAMES, FRAMES - delay)
    assert np.abs(warped.read(first, last) - sound[first + delay : last + delay]).max() < 1e-12
    assert np.abs(warped.read(0, first)).max(initial=0.0) < 1e-12  # silence before the first frame of the render


@settings(max_examples=20)
@given(st.lists(st.integers(0, 40_000), min_size=1, max_size=5, unique=True), st.floats(-3000, 3000))
def test_parts_are_those_of_the_whole(cuts: list[int], drift: float) -> None:
    # Longer than what is read at once, and than what is worked on at once.
    sound = np.random.default_rng(1).standard_normal((40_000, 1))
    warped = WarpedSource(ArraySource(sound, 48_000), 2.7, drift, 40_000)
    edges = sorted({0, *cuts, 40_000})
    parts = [warped.read(a, b) for a, b in pairwise(edges)]
    assert np.abs(np.concatenate(parts) - warped.read(0, 40_000)).max() < 1e-12


@pytest.mark.parametrize("drift", [-40.0, 0.0, 300.0])
def test_a_clock_that_is_undone_gives_the_sound_again(drift: float) -> None:
    rng = np.random.default_rng(3)
    spectrum = np.zeros(FRAMES // 2 + 1, complex)
    spectrum[1 : FRAMES // 3] = np.exp(2j * np.pi * rng.uniform(size=FRAMES // 3 - 1))
    sound = np.fft.irfft(spectrum)[:, None] * 20
    away = WarpedSource(ArraySource(sound, 48_000), 3.25, drift, FRAMES).read(0, FRAMES)
    # The inverse of p = n + d + e·(n − N/2) about the middle, to the first order in e.
    back = WarpedSource(ArraySource(away, 48_000), -3.25 / (1 + drift * 1e-6), -drift / (1 + drift * 1e-6), FRAMES)
    assert np.abs(back.read(0, FRAMES) - sound)[EDGE:-EDGE].max() < 2e-3 * np.abs(sound).max()


@pytest.mark.parametrize(("first", "fraction"), [(-1, 0.5), (1, 0.5), (0, -0.1), (0, 1.1)])
def test_places_beyond_the_samples_at_hand_are_refused(first: int, fraction: float) -> None:
    rows, table, out = np.zeros((1, 64)), np.zeros((261, 64)), np.zeros((1, 1))
    with pytest.raises(ValueError, match="places and rows do not fit together"):
        loops.read_between(rows, np.array([first]), np.array([fraction]), table, out)
