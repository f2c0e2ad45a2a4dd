"""Delays of steady tones: none without a limit, the one within reach with one; and a start that is cut."""

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st
from numpy.typing import NDArray

from kind_echo.core.audio.source import ArraySource
from kind_echo.core.delays.delay import find_delays
from kind_echo.core.levels.analysis import measure_render
from kind_echo.core.signals import make_request, synthesise
from tests.core.conftest import overall

RATE = 48_000
TONE = synthesise(make_request("tone", seconds=2.0, lead_in=0.1, tail=0.1, fade=0.02), RATE)  # 997 Hz
PERIOD = RATE / 997


def source(samples: NDArray[np.float64]) -> ArraySource:
    return ArraySource(np.ascontiguousarray(samples), RATE)


def late(samples: NDArray[np.float64], frames: int) -> NDArray[np.float64]:
    return np.concatenate([np.zeros((frames, samples.shape[1])), samples])[: len(samples)]


@pytest.mark.parametrize("frames", [0, 1, 24, 48, 432])
def test_a_steady_tone_alone_has_no_delay(frames: int) -> None:
    delay, each = find_delays(source(TONE), source(late(TONE, frames)))
    assert delay.samples is None
    assert delay.why is not None
    assert "periodic" in delay.why
    assert [one.samples for one in each] == [None]


@given(frames=st.integers(0, 500), sign=st.sampled_from([1, -1]))
def test_within_half_a_period_a_tone_has_one_delay_and_stays_upright(frames: int, sign: int) -> None:
    """A tone is the same a period later, and upside down half a period later: whole periods come off."""
    whole = frames + (0.0 if sign == 1 else PERIOD / 2)
    expected = (whole + PERIOD / 2) % PERIOD - PERIOD / 2
    assume(abs(expected) <= 20.0)
    delay, _ = find_delays(source(TONE), source(sign * late(TONE, frames)), 23)
    assert delay.polarity == 1
    assert delay.samples == pytest.approx(expected, abs=0.02)


def test_two_tones_that_beat_slowly_have_their_delay() -> None:
    """1000 and 1003 Hz repeat after a third of a second, which a limit of hearing does not take for a period."""
    at = np.arange(2 * RATE)[:, np.newaxis] / RATE
    both = np.sin(2 * np.pi * 1000 * at) + np.sin(2 * np.pi * 1003 * at) + 0.3 * np.sin(2 * np.pi * 5017.3 * at)
    delay, _ = find_delays(source(both), source(late(both, 13)), 20)
    assert delay.samples == pytest.approx(13.0, abs=0.02)


@pytest.mark.parametrize("size", [1, 2, 100, 4095, 4096, 24_000])
@pytest.mark.parametrize("kind", ["silence", "32 bits", "least of 64 bits", "one side"])
def test_what_holds_nothing_has_no_delay_and_makes_no_trouble(size: int, kind: str) -> None:
    zero = np.zeros((size, 2))
    other = {
        "silence": zero, "32 bits": zero.astype(np.float32), "least of 64 bits": zero + 5e-324,
        "one side": np.random.default_rng(1).standard_normal((size, 2)),
    }[kind]  # fmt: skip
    for max_delay in (None, 20):
        delay, each = find_delays(source(zero), source(other), max_delay)  # type: ignore[arg-type]
        assert (delay.samples, [one.samples for one in each]) == (None, [None, None])
        assert delay.why


def excess(samples: NDArray[np.float64]) -> float | None:
    return overall(measure_render(source(TONE), source(samples))[0])["lead_in_excess"]  # type: ignore[no-any-return]


@pytest.mark.parametrize("gain", [1.0, 0.1])
@pytest.mark.parametrize("frames", [432, 3000])
def test_a_tone_whose_start_is_cut_has_silence_too_much(frames: int, gain: float) -> None:
    cut = gain * TONE
    cut[: RATE // 10 + frames] = 0.0
    assert excess(cut) == pytest.approx(frames / RATE, abs=0.002)
