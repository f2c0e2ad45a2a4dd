"""Where two sides differ most: what was planted is found where it was planted, greatest first."""

import numpy as np
import pytest

from kind_echo.core.audio.level_map import FLOOR, level_map
from kind_echo.core.audio.resampling import resampling_floor
from kind_echo.core.audio.source import ArraySource
from kind_echo.core.comparison.compare import compare
from kind_echo.core.comparison.places import find_places
from kind_echo.core.listening.passages import first_note

RATE = 48_000


def _sides(seconds: float = 12.0, channels: int = 2) -> tuple[np.ndarray, np.ndarray]:
    given = np.random.default_rng(2).standard_normal((int(seconds * RATE), channels)) * 0.05
    return given, given.copy()


def test_planted_places_come_greatest_first_with_their_reasons() -> None:
    given, render = _sides()
    render[3 * RATE : 3 * RATE + 4800] = 0.0
    render[7 * RATE, 1] += 1.2
    render[9 * RATE : 10 * RATE] *= 0.9
    a, b = ArraySource(given, RATE), ArraySource(render, RATE)
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


def test_a_render_that_is_later_is_walked_on_the_time_of_the_reference() -> None:
    given, render = _sides(4.0, 1)
    render[2 * RATE] += 0.5
    late = np.concatenate([np.zeros((777, 1)), render])
    a, b = ArraySource(given, RATE), ArraySource(late, RATE)
    found = find_places(a, b, compare(a, b), 5).differences
    assert found[0].start == pytest.approx(2.0, abs=0.011)


def test_identical_sides_and_silence_have_no_places() -> None:
    given, _ = _sides(1.0)
    for samples in (given, np.zeros((RATE, 1)), np.zeros((1, 1))):
        source = ArraySource(samples, RATE)
        assert find_places(source, source, compare(source, source), 5).differences == []


@pytest.mark.parametrize("frames", [1, 479, 480, 65_536, 65_537])
def test_any_length_is_walked(frames: int) -> None:
    given = np.random.default_rng(4).uniform(-0.5, 0.5, (frames, 1))
    a, b = ArraySource(given, RATE), ArraySource(given * 0.5, RATE)
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
