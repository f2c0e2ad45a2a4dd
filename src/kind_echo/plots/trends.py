"""A figure over builds: a small plot for each condition, all in one scale, with its limits and what changed."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.measure import Measure
from kind_echo.core.registry.numbers import number
from kind_echo.plots.figures import save

_COLUMNS = 3


@dataclass(frozen=True)
class TrendLine:
    """One condition.

    Attributes:
        values: of each build its figure; None where it has none.
        changes: places of builds at which it changed, and by how much; None where it appeared or vanished.
        at_least, at_most: its limit.
    """

    label: str
    values: Sequence[float | None]
    changes: Sequence[tuple[int, float | None]]
    at_least: float | None = None
    at_most: float | None = None


def plot_trends(path: Path, lines: Sequence[TrendLine], builds: Sequence[str], measure: Measure, sentence: str) -> None:
    """Write a small plot for each line, with the sentence that says what they are.

    Raises:
        BadParameter: there is no line.
    """
    if not lines:
        raise BadParameter("plot", path.name, "asked for of a case that has been run")
    from matplotlib.figure import Figure

    columns = min(_COLUMNS, len(lines))
    rows = math.ceil(len(lines) / columns)
    figure = Figure(figsize=(3.7 * columns + 0.4, 2.2 * rows + 0.9), layout="constrained")
    grid = figure.subplots(rows, columns, sharex=True, sharey=True, squeeze=False)
    figure.suptitle(sentence, fontsize="medium", x=0.02, ha="left", parse_math=False, wrap=True)
    places = range(len(builds))
    for axes, line in zip(grid.flat, lines, strict=False):
        there = [(place, value) for place, value in enumerate(line.values) if value is not None]
        axes.plot([place for place, _ in there], [value for _, value in there], color="C0", marker=".", linewidth=1.0)
        for bound in (line.at_least, line.at_most):
            if bound is not None:
                axes.axhline(bound, color="C3", linewidth=0.8, linestyle="--")
        for place, by in line.changes:
            axes.axvline(place, color="0.4", linewidth=0.8, linestyle=":")
            text = "" if by is None else number(by, f"+.{measure.decimals}f")
            axes.annotate(
                text, (place, 1.0), xycoords=("data", "axes fraction"), fontsize="x-small", va="bottom", ha="center"
            )
        axes.set_title(line.label, fontsize="small", loc="left", pad=12.0, parse_math=False)
        axes.set_xticks(list(places), list(builds), rotation=30, ha="right", fontsize="x-small")
        axes.grid(visible=True, color="0.9")
    for axes in grid.flat[len(lines) :]:
        axes.set_axis_off()
    figure.supylabel(measure.unit, fontsize="small")
    save(figure, path)
