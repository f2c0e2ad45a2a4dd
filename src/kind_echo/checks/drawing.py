"""Plots of the pairs that did not pass."""

from collections.abc import Iterable
from contextlib import ExitStack
from pathlib import Path

from kind_echo.audio_io.files import AudioFile
from kind_echo.audio_io.scratch import resampled
from kind_echo.checks.judging import Checked
from kind_echo.checks.telling import message
from kind_echo.core.audio.align import AlignedSource, Alignment, DifferenceSource
from kind_echo.core.audio.source import Source
from kind_echo.core.registry.readings import value_of
from kind_echo.plots import Drawn, check_plot, draws, plot_measured, plot_pair

_ENDING = ".svg"


def check_drawing() -> None:
    """Raises PlotsMissing where nothing can draw."""
    check_plot(Path(f"plot{_ENDING}"))


def draw_pairs(checked: Iterable[Checked], folder: Path) -> None:
    """Draw the sides of each pair that was measured and did not pass, and what was measured of it, by its name."""
    for one in checked:
        if one.status == "pass" or one.measured is None:
            continue
        if value_of(one.measured.comparison, "identical") is not None:  # what is not finite cannot be drawn
            _draw_sides(one, folder / f"{one.name}{_ENDING}")
        if draws(one.measured.curves):
            plot_measured(folder / f"{one.name}.measured{_ENDING}", one.measured.curves, one.name)


def _draw_sides(one: Checked, path: Path) -> None:
    assert one.pair is not None
    assert one.measured is not None
    with ExitStack() as stack:
        first, second = (stack.enter_context(AudioFile(side[0])) for side in (one.pair.references, one.pair.renders))
        render: Source = second if second.rate == first.rate else resampled(second, first.rate, stack)
        late = round(value_of(one.measured.comparison, "delay") or 0.0)
        aligned = AlignedSource(render, first.frames, Alignment(late))
        sides = (first, aligned, DifferenceSource(first, aligned))
        plot_pair(path, [Drawn.of(side) for side in sides], f"{one.name}: {message(one)}")
