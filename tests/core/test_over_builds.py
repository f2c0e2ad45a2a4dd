"""Changes from build to build: planted ones are marked, and what a figure does anyway is not."""

import numpy as np
import pytest

from kind_echo.core.verdicts.over_builds import Line, Step, Value, changes


def _line(*values: float | str | None) -> Line:
    """A figure for each build; "none" for a build that has none, None for one that was not run."""
    return [None if one is None else Value(None if one == "none" else float(one)) for one in values]


def test_of_what_repeats_any_step_beyond_the_last_digit_is_a_change() -> None:
    ((step,),) = changes([_line(1.0, 1.0, 1.004, 1.02)], 0.005)
    assert (step.before, step.place) == (2, 3)
    assert step.by == pytest.approx(0.016)
    assert changes([_line(1.0, None, 1.5)], 0.005) == [[Step(0, 2, 0.5)]]
    assert changes([_line(1.0, 1.5)], 0.005, repeats=False) == [[]]  # nothing is known of what is usual
    assert changes([[], _line(1.0), _line(None, None)], 0.005) == [[], [], []]


def test_a_figure_that_appears_or_goes_is_a_change() -> None:
    found = changes([_line("none", "none", -60.0, None, "none")], 0.005)
    assert found == [[Step(1, 2, None), Step(2, 4, None)]]


def test_what_moves_every_line_at_one_build_is_found_by_what_they_do_at_others() -> None:
    rng = np.random.default_rng(4)
    lines = [_line(*(10.0 + 0.01 * rng.normal(size=3)), *(11.0 + 0.01 * rng.normal(size=2))) for _ in range(6)]
    assert [[step.place for step in own] for own in changes(lines, 0.0005)] == [[3]] * 6


def test_what_goes_up_and_comes_back_in_every_line_is_a_change_twice() -> None:
    found = changes([_line(0.0, 0.07, 0.0)] * 12, 0.0005)
    assert [[step.by for step in own] for own in found] == [[0.07, -0.07]] * 12


def test_one_line_that_leaves_the_others_is_marked_alone() -> None:
    found = changes([*[_line(-20.0, -20.0, -20.0)] * 11, _line(-20.0, -20.0, -20.2)], 0.005)
    assert [len(own) for own in found] == [*[0] * 11, 1]


def test_steady_creep_is_no_change_and_a_jump_in_it_is() -> None:
    creep = [0.1 * n for n in range(12)]
    jumped = [value + (3.0 if n >= 7 else 0.0) for n, value in enumerate(creep)]
    assert changes([_line(*creep)], 0.005) == [[]]
    assert [step.place for step in changes([_line(*jumped)], 0.005)[0]] == [7]


@pytest.mark.parametrize("builds", [9, 12, 30])
def test_scatter_alone_is_seldom_marked_and_a_jump_of_ten_deviations_is(builds: int) -> None:
    """Figures that scatter by a normal law: of steps fewer than 1.5 % are marked, of planted jumps more than 95 %."""
    rng = np.random.default_rng(builds)
    marked = found = 0
    lines = 400
    for _ in range(lines):
        values = rng.normal(size=builds)
        marked += len(changes([_line(*values)], 1e-6)[0])
        place = int(rng.integers(1, builds))
        values[place:] += 15.0
        found += any(step.place == place for step in changes([_line(*values)], 1e-6)[0])
    assert marked / (lines * (builds - 1)) < 0.015
    assert found / lines > 0.95
