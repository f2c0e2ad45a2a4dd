"""Lines over each other as a plot: in one picture, or in small ones beside each other in one scale where they are many.

The reference is thick and grey. The others differ by their strokes, or, where they follow each other in time, by how
dark they are as well.
"""

import math
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kind_echo.core.overlays.overlay import MOST_TOGETHER, Line, Overlay
from kind_echo.plots.figures import label_axes, legend_text, new_figure, save
from kind_echo.wording.overlays import KindWords

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_REFERENCE: dict[str, Any] = {"color": "0.3", "linewidth": 2.6}
_STROKES: tuple[Any, ...] = (
    "-", "--", ":", "-.", (0, (8, 2)), (0, (1, 3)), (0, (6, 2, 1, 2, 1, 2)), (0, (3, 1, 1, 1)),
)  # fmt: skip
_COLUMNS = 4  # of small pictures
_PALEST = 0.3


def plot_overlay(path: Path, overlay: Overlay, words: KindWords, sentence: str) -> None:
    """Write lines over each other, with the sentence that says what they are, and under them their differences."""
    if overlay.kind.key == "waveform":
        _stack(path, overlay, words, sentence)
    elif overlay.together:
        _together(path, overlay, words, sentence)
    else:
        _apart(path, overlay, words, sentence)


def _together(path: Path, overlay: Overlay, words: KindWords, sentence: str) -> None:
    apart = [line for line in overlay.differences if line is not None]
    figure = new_figure(sentence, 7.0 if apart else 4.6, (2.2, 1.0) if apart else (1.0,))
    main, *rest = figure.axes
    if overlay.law is not None:
        main.plot(overlay.law.x, overlay.law.y, color="0.5", linewidth=1.0, linestyle=(0, (1, 4)), label="expected")
    for i, line in enumerate(overlay.lines):
        main.plot(line.x, line.y, label=legend_text(line.label), **_style(overlay, i))
    _scale(main, overlay, words)
    many = len(overlay.lines) > MOST_TOGETHER
    beside = {"loc": "upper left", "bbox_to_anchor": (1.0, 1.0)} if many else {"loc": "best"}
    main.legend(frameon=False, fontsize="xx-small" if many else "small", **beside)
    for axes in rest:
        axes.axhline(0.0, **_REFERENCE)
        for i, above in enumerate(overlay.differences):
            if above is not None:
                axes.plot(above.x, above.y, **_style(overlay, i))
        _scale(axes, overlay, words, f"above the reference, {overlay.kind.difference_unit}")
        axes.set_xlim(main.get_xlim())
    save(figure, path)


def _apart(path: Path, overlay: Overlay, words: KindWords, sentence: str) -> None:
    from matplotlib.figure import Figure

    places = [i for i in range(len(overlay.lines)) if i != overlay.reference]
    rows = math.ceil(len(places) / _COLUMNS)
    figure = Figure(figsize=(11.0, 0.8 + 2.1 * rows), layout="constrained")
    grid = figure.subplots(rows, _COLUMNS, sharex=True, sharey=True, squeeze=False)
    figure.suptitle(sentence, fontsize="medium", x=0.02, ha="left", parse_math=False, wrap=True)
    reference = None if overlay.reference is None else overlay.lines[overlay.reference]
    for axes, place in zip(grid.flat, places, strict=False):
        if reference is not None:
            axes.plot(reference.x, reference.y, color="0.75", linewidth=2.6)
        line = overlay.lines[place]
        axes.plot(line.x, line.y, color="C0", linewidth=1.0, marker=_marker(overlay))
        axes.set_title(line.label, fontsize="small", loc="left", parse_math=False)
        _scale(axes, overlay, words)
        axes.set_xlabel("")
        axes.set_ylabel("")
    for axes in grid.flat[len(places) :]:
        axes.set_axis_off()
    figure.supxlabel(words.x, fontsize="small")
    figure.supylabel(words.y, fontsize="small")
    save(figure, path)


def _stack(path: Path, overlay: Overlay, words: KindWords, sentence: str) -> None:
    lines: Sequence[Line] = overlay.lines
    figure = new_figure(sentence, 1.0 + 0.9 * len(lines), [1.0] * len(lines))
    most = max((float(abs(end).max()) for line in lines for end in (line.y, line.low) if end is not None), default=1.0)
    for i, (axes, line) in enumerate(zip(figure.axes, lines, strict=True)):
        color = "0.3" if i == overlay.reference else "C0"
        axes.fill_between(line.x, line.low if line.low is not None else line.y, line.y, color=color, linewidth=0.4)
        axes.set_title(line.label, fontsize="small", loc="left", parse_math=False)
        axes.set_ylim(-1.05 * (most or 1.0), 1.05 * (most or 1.0))
        axes.set_xlim(min(line.x[0] for line in lines), max(line.x[-1] for line in lines))
        axes.tick_params(labelbottom=i == len(lines) - 1)
    figure.axes[-1].set_xlabel(words.x)
    save(figure, path)


def _style(overlay: Overlay, place: int) -> dict[str, Any]:
    if place == overlay.reference:
        return {**_REFERENCE, "marker": _marker(overlay)}
    others = [i for i in range(len(overlay.lines)) if i != overlay.reference]
    turn = others.index(place)
    alpha = _PALEST + (1.0 - _PALEST) * (turn + 1) / len(others) if overlay.over_time else 1.0
    stroke = _STROKES[turn % len(_STROKES)]
    return {"color": "C0", "linewidth": 1.2, "linestyle": stroke, "alpha": alpha, "marker": _marker(overlay)}


def _marker(overlay: Overlay) -> str:
    return "." if overlay.kind.join == "steps" else ""


def _scale(axes: "Axes", overlay: Overlay, words: KindWords, y: str = "") -> None:
    if overlay.kind.x_unit == "Hz":
        axes.set_xscale("log")
    least = overlay.kind.least
    if not y and least is not None and axes.get_ylim()[0] < least:
        axes.set_ylim(bottom=least)
    label_axes(axes, words.x, y or words.y)
