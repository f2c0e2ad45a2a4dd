"""Where two sides differ most: what was planted is found where it was planted, greatest first."""

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import lfilter, spectrogram

from kind_echo.core.audio.align import Alignment
from kind_echo.core.audio.level_map import FLOOR, level_map
from kind_echo.core.audio.resampling import resampling_floor
from kind_echo.core.audio.source import ArraySource
from kind_echo.core.comparison.compare import compare
from kind_echo.core.comparison.pair import Comparison
from kind_echo.core.comparison.places import find_places
from kind_echo.core.listening.passages import first_note

RATE = 48_000


def _sides(seconds: float = 12.0, channels: int = 2) -> tuple[np.ndarray, np.ndarray]:
    reference = np.random.default_rng(2).standard_normal((int(seconds * RATE), channels)) * 0.05
    return reference, reference.copy()


def test_planted_places_come_greatest_first_with_their_reasons() -> None:
    reference, render = _sides()
    render[3 * RATE : 3 * RATE + 4800] = 0.0
    render[7 * RATE, 1] += 1.2
    render[9 * RATE : 10 * RATE] *= 0.9
    a, b = ArraySource(reference, RATE), ArraySource(render, RATE)
    walked = find_places(a, b, compare(a, b), 10)
    click, gap, softer = walked.differences[:3]
    assert (click.cause, gap.cause) == ("click", "gap")
    assert click.start == pytest.approx(7.0, abs=0.011)
    assert (gap.start, gap.length) == pytest.approx((3.0, 0.1), abs=0.011)
    assert (softer.start, softer.length) == pytest.approx((9.0, 1.0), abs=0.03)
    # 0.1 of noise of 0.05 RMS; the greatest of a hundred windows lies a little over it.
    assert softer.amount == pytest.approx(20 * np.log10(0.1 * 0.05) + 3.01, abs=1.0) or softer.amount < -44
    assert walked.render[0].reason == "the render passes full scale"
    assert walked.render[0].start == pytest.approx(7.0, abs=0.011)


def test_a_click_and_a_gap_are_walked_where_a_filter_changes_more_everywhere() -> None:
    reference = lfilter([1.0], [1.0, -0.95], _sides(30.0, 1)[0], axis=0)
    reference[: 10 * RATE] *= 0.05
    render = lfilter([0.6], [1.0, -0.4], reference, axis=0)  # from 10 s on about −32 dBFS of difference
    render[2 * RATE] += 0.1
    render[20 * RATE : 20 * RATE + 96] = 0.0
    a, b = ArraySource(reference, RATE), ArraySource(render, RATE)
    found = compare(a, b)
    for most in (2, 3, 100):
        places = find_places(a, b, found, most).differences
        assert len(places) <= most
        assert [p.amount for p in places] == sorted((p.amount for p in places), reverse=True)
        events = {place.cause: place for place in places if place.cause in ("click", "gap")}
        assert (events["click"].start, events["gap"].start) == (2.0, 20.0)
        assert events["click"].length == events["gap"].length == pytest.approx(0.01)
    assert places.index(events["click"]) > 5
    assert find_places(a, b, found, 1).differences == [events["gap"]]  # the greatest of all


def test_many_small_clicks_leave_room_for_the_greatest_differences() -> None:
    reference, render = _sides(12.0, 1)
    render[RATE : 4 * RATE : RATE // 5] += 0.4
    render[5 * RATE : 6 * RATE] *= -1.0
    a, b = ArraySource(reference, RATE), ArraySource(render, RATE)
    found = compare(a, b)
    for most in (1, 2, 6):
        places = find_places(a, b, found, most).differences
        assert len(places) == most
        assert places[0].start == pytest.approx(5.0, abs=0.011)
        assert [place.cause for place in places[1:]] == ["click"] * (most - 1)
        assert places[0].cause != "click"


def test_a_render_that_is_later_is_walked_on_the_time_of_the_reference() -> None:
    reference, render = _sides(4.0, 1)
    render[2 * RATE] += 0.5
    late = np.concatenate([np.zeros((777, 1)), render])
    a, b = ArraySource(reference, RATE), ArraySource(late, RATE)
    found = find_places(a, b, compare(a, b), 5).differences
    assert found[0].start == pytest.approx(2.0, abs=0.011)


def test_identical_sides_and_silence_have_no_places() -> None:
    reference, _ = _sides(1.0)
    for samples in (reference, np.zeros((RATE, 1)), np.zeros((1, 1))):
        source = ArraySource(samples, RATE)
        assert find_places(source, source, compare(source, source), 5).differences == []


@pytest.mark.parametrize("frames", [1, 479, 480, 65_536, 65_537])
def test_any_length_is_walked(frames: int) -> None:
    reference = np.random.default_rng(4).uniform(-0.5, 0.5, (frames, 1))
    a, b = ArraySource(reference, RATE), ArraySource(reference * 0.5, RATE)
    found = find_places(a, b, compare(a, b), 1000).differences
    ends = [place.start + place.length for place in found]
    assert max(ends) <= frames / RATE + 1e-9
    assert sum(place.length for place in found) <= frames / RATE + 1e-9


def test_the_first_note_ends_where_the_next_begins_or_it_has_faded() -> None:
    time = np.arange(RATE)[:, None] / RATE
    struck = 0.5 * np.sin(2 * np.pi * 440 * time) * np.exp(-8 * time)
    rest = np.zeros((RATE // 4, 1))
    begin, end = first_note(ArraySource(np.concatenate([rest, struck, struck]), RATE)) or (0, 0)
    assert begin == pytest.approx(0.25, abs=0.011)
    assert end == pytest.approx(0.25 + np.log(10) / 8, abs=0.03)  # 20 dB down
    twice = np.concatenate([rest, struck[:7200], struck])
    assert (first_note(ArraySource(twice, RATE)) or (0, 0))[1] == pytest.approx(0.40, abs=0.011)
    assert first_note(ArraySource(rest, RATE)) is None


def test_a_map_shows_a_click_wherever_it_falls_and_a_tone_where_it_sounds() -> None:
    for at in range(0, RATE, 4093):
        samples = np.zeros((RATE, 1))
        samples[at] = 0.5
        found = level_map(ArraySource(samples, RATE), 50, 40)
        assert found.levels[min(49, at // (RATE // 50))].max() > -72
        assert found.share == 1.0
    tone = 0.5 * np.sin(2 * np.pi * 6000 * np.arange(RATE)[:, None] / RATE)
    even = level_map(ArraySource(tone, RATE), 20, 24, even=True)
    assert int(even.levels[10].argmax()) == 6
    assert even.levels[10].max() == pytest.approx(-6.02, abs=0.9)
    part = level_map(ArraySource(np.concatenate([tone * 0, tone]), RATE), 10, 24, 0, RATE // 2)
    assert part.levels[:8].max() == FLOOR


def test_a_map_of_a_long_stretch_says_how_much_of_it_was_looked_at() -> None:
    long = ArraySource(np.zeros((9_000_000, 2), np.float32), RATE)
    found = level_map(long, 100, 8)
    assert found.share == pytest.approx(100 * 4096 / 9_000_000)


def test_resampling_leaves_what_it_says() -> None:
    assert resampling_floor(44_100, 48_000) < -90
    assert resampling_floor(48_000, 96_000) < -90


@settings(max_examples=30)
@given(seed=st.integers(0, 10_000), frames=st.integers(1, 60_000), most=st.integers(1, 40))
def test_places_are_apart_in_order_and_inside_the_file(seed: int, frames: int, most: int) -> None:
    rng = np.random.default_rng(seed)
    given_side = rng.uniform(-0.5, 0.5, (frames, 1))
    envelope = np.repeat(rng.uniform(0, 1, frames // 500 + 1), 500)[:frames, None]
    a, b = ArraySource(given_side, RATE), ArraySource(given_side * (1 - 0.1 * envelope), RATE)
    found = find_places(a, b, Comparison([], Alignment()), most).differences
    assert len(found) <= most
    assert [place.amount for place in found] == sorted((place.amount for place in found), reverse=True)
    by_time = sorted(found, key=lambda place: place.start)
    for before, after in pairwise(by_time):
        assert before.start + before.length <= after.start + 1e-9
    assert all(place.start >= 0 and place.start + place.length <= frames / RATE + 1e-9 for place in found)
    assert all(place.cause is None for place in found)  # nothing explains them, and nothing is asserted


def test_the_ridge_of_a_sweep_lies_where_its_law_says_and_where_scipy_sees_it() -> None:
    """Linear sweep 500 Hz to 12.5 kHz in 4 s: f(t) = 500 + 3000 t. Beside scipy.signal.spectrogram."""
    time = np.arange(4 * RATE) / RATE
    sweep = 0.5 * np.sin(2 * np.pi * (500 * time + 1500 * time**2))
    found = level_map(ArraySource(sweep[:, None], RATE), 80, 240, even=True)
    step = RATE / 2 / 240
    ridge = (found.levels.argmax(axis=1) + 0.5) * step
    centres = (np.arange(80) + 0.5) * 4 / 80
    assert np.abs(ridge - (500 + 3000 * centres))[1:-1].max() < 2.5 * step
    frequencies, times, power = spectrogram(sweep, RATE, window="blackmanharris", nperseg=4096, noverlap=3072)
    seen = np.interp(centres, times, frequencies[power.argmax(axis=0)])
    assert np.abs(ridge - seen)[2:-2].max() < 2.5 * step


@settings(max_examples=30)
@given(seed=st.integers(0, 10_000), seconds=st.floats(0.01, 5.0))
def test_the_first_note_is_a_stretch_of_the_file(seed: int, seconds: float) -> None:
    rng = np.random.default_rng(seed)
    frames = max(1, int(seconds * 8000))
    samples = rng.standard_normal((frames, 2)) * np.repeat(rng.uniform(0, 1, frames // 800 + 1), 800)[:frames, None]
    found = first_note(ArraySource(samples, 8000))
    assert found is not None
    assert 0.0 <= found[0] < found[1] <= frames / 8000
    assert found[1] - found[0] <= 3.0 + 1e-9


@pytest.mark.parametrize("bad", [np.nan, np.inf])
def test_what_is_not_finite_has_no_first_note(bad: float) -> None:
    samples = np.full((1000, 1), 0.1)
    samples[500] = bad
    assert first_note(ArraySource(samples, 8000)) is None
