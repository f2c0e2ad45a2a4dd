"""Plots as files, SVG or PNG by the ending: what a measure has as curves, and a pair as waveforms and spectra.

Needs matplotlib, the extra `plots`. Sides differ by the shape of their lines, so that a plot is read without colour.
"""

import importlib.util
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source, blocks
from kind_echo.core.audio.spectrum import level_spectrum
from kind_echo.core.registry.errors import BadParameter, Invalid

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

ENDINGS = (".svg", ".png")
Floats = NDArray[np.float64]
Curves = Mapping[str, Mapping[str, Mapping[str, Any]]]
"""As they stand in the JSON of the command line."""

COLUMNS = 1200
"""Of a waveform."""

_LEAST_FRAMES = 16  # that have a spectrum
_FLOOR = -200.0  # dBFS, under which nothing is drawn
_SIDES: tuple[tuple[str, dict[str, Any]], ...] = (
    ("reference", {"color": "0.2", "linewidth": 1.8}),
    ("render", {"color": "C0", "linewidth": 1.1, "linestyle": "--"}),
    ("difference", {"color": "C3", "linewidth": 1.0, "linestyle": "-."}),
)


class PlotsMissing(Invalid):
    """Plots are asked for, and what draws them is not installed."""

    def __init__(self) -> None:
        super().__init__("Plots need more than the package by itself: pip install 'kind-echo[plots]'")


def check_plot(path: Path) -> None:
    """Raises BadParameter for an ending that no plot has, PlotsMissing where nothing can draw."""
    if path.suffix.lower() not in ENDINGS:
        raise BadParameter("plot", str(path), f"a file that ends in {' or '.join(ENDINGS)}")
    if importlib.util.find_spec("matplotlib") is None:
        raise PlotsMissing


def draws(curves: Curves) -> bool:
    """Whether there is a plot for what was measured beside a difference."""
    return any(_points(curves, name)[0].size for name in _KINDS)


def plot_measured(path: Path, curves: Curves, title: str) -> None:
    """The plot of what was measured: a response, a curve, gain over time, aliases by frequency, or lines of a tone.

    Raises:
        BadParameter: nothing that can be drawn was measured.
    """
    for name, draw in _KINDS.items():
        if _points(curves, name)[0].size:
            figure = _figure(title, rows=1)
            draw(figure.axes[0], curves)
            _save(figure, path)
            return
    raise BadParameter("plot", str(path), "asked for where something was measured that can be drawn")


@dataclass(frozen=True)
class Drawn:
    """A side as it is drawn.

    Attributes:
        seconds: that it lasts.
        low, high: the least and the greatest sample of any channel, by column.
        hertz, levels: its spectrum, in Hz and dBFS; empty where there is none.
    """

    seconds: float
    low: Floats
    high: Floats
    hertz: Floats
    levels: Floats

    @classmethod
    def of(cls, side: Source) -> "Drawn":
        """What there is to draw of a source, read once for its waveform and once for its spectrum."""
        low, high = _envelope(side)
        hertz = levels = np.empty(0)
        if side.frames >= _LEAST_FRAMES:
            spectrum = level_spectrum(side, 0, side.frames)
            hertz, levels = np.asarray(spectrum.frequencies), np.asarray(spectrum.levels)
        return cls(side.frames / side.rate, low, high, hertz, levels)


def plot_pair(path: Path, sides: Sequence[Drawn], title: str) -> None:
    """Waveforms and spectra of reference, render and difference, lined up and of one length.

    Args:
        sides: these three.
    """
    figure = _figure(title, rows=4)
    *waves, spectra = figure.axes
    for axes, side, (name, style) in zip(waves, sides, _SIDES, strict=True):
        seconds = np.linspace(0.0, side.seconds, len(side.low))
        axes.fill_between(seconds, side.low, side.high, color=style["color"], linewidth=0.4, step="mid")
        axes.set_ylabel(name)
        most = max(float(np.abs([side.low, side.high]).max()), 1e-12)
        axes.set_ylim(-1.05 * most, 1.05 * most)
        axes.margins(x=0)
        axes.tick_params(labelbottom=side is sides[-1])
    waves[-1].set_xlabel("s")
    for side, (name, style) in zip(sides, _SIDES, strict=True):
        if len(side.hertz):
            spectra.semilogx(side.hertz, np.where(side.levels > _FLOOR, side.levels, np.nan), label=name, **style)
    _labels(spectra, "Hz", "dBFS")
    if spectra.lines:
        spectra.legend(frameon=False, loc="best", fontsize="small")
    _save(figure, path)


def _figure(title: str, rows: int) -> "Figure":
    from matplotlib.figure import Figure

    figure = Figure(figsize=(9.0, 4.2 if rows == 1 else 7.5), layout="constrained")
    figure.subplots(rows, 1, height_ratios=[1] if rows == 1 else [1, 1, 1, 2.2])
    figure.suptitle(title, fontsize="medium", x=0.02, ha="left", parse_math=False)
    return figure


def _save(figure: "Figure", path: Path) -> None:
    import matplotlib as mpl

    path.parent.mkdir(parents=True, exist_ok=True)
    # The same plot is the same file: no date in it, and names of its parts that do not change.
    with mpl.rc_context({"svg.hashsalt": "kind-echo", "svg.fonttype": "none"}):
        undated = {"Date": None} if path.suffix.lower() == ".svg" else {"Software": None}
        figure.savefig(path, dpi=120, metadata=undated)


def _envelope(side: Source) -> tuple[Floats, Floats]:
    """The least and the greatest sample of any channel in each of the columns of a waveform."""
    count = min(COLUMNS, side.frames)
    low, high = np.full(count, np.inf), np.full(count, -np.inf)
    for position, block in blocks(side):
        column = (position + np.arange(len(block))) * count // side.frames
        np.minimum.at(low, column, block.min(axis=1))
        np.maximum.at(high, column, block.max(axis=1))
    return np.nan_to_num(low), np.nan_to_num(high)


def _points(curves: Curves, name: str) -> tuple[Floats, Floats]:
    one = curves.get(name)
    if one is None:
        return np.empty(0), np.empty(0)
    return np.array(one["x"]["values"], np.float64), np.array(one["y"]["values"], np.float64)


def _response(axes: "Axes", curves: Curves) -> None:
    hertz, decibels = _points(curves, "magnitude")
    _, unsure = _points(curves, "magnitude_uncertainty")
    if len(unsure) == len(hertz):
        axes.fill_between(hertz, decibels - unsure, decibels + unsure, color="0.85", label="± at 95 %")
    axes.semilogx(hertz, decibels, color="C0", label="magnitude")
    _labels(axes, "Hz", "dB")
    axes.legend(frameon=False, fontsize="small")


def _transfer(axes: "Axes", curves: Curves) -> None:
    for name, label, style in (
        ("transfer_expected", "expected", {"color": "0.2", "linewidth": 1.8}),
        ("transfer", "measured", {"color": "C0", "linestyle": "--", "marker": "."}),
    ):
        x, y = _points(curves, name)
        if len(x):
            axes.plot(x, y, label=label, **style)
    _labels(axes, "in, dBFS", "out, dBFS")
    axes.legend(frameon=False, fontsize="small")


def _gain(axes: "Axes", curves: Curves) -> None:
    axes.plot(*_points(curves, "gain"), color="C0")
    _labels(axes, "s", "gain, dB")


def _alias_by_frequency(axes: "Axes", curves: Curves) -> None:
    axes.semilogx(*_points(curves, "alias_by_frequency"), color="C3", marker=".")
    _labels(axes, "tone, Hz", "worst alias, dBFS")


def _lines(axes: "Axes", curves: Curves) -> None:
    floor = min((float(_points(curves, name)[1].min(initial=0.0)) for name in ("harmonics", "aliases")), default=0.0)
    for name, label, style in (
        ("fundamental", "fundamental", {"color": "0.2", "linewidth": 2.0}),
        ("harmonics", "harmonics", {"color": "C0", "linestyle": "-"}),
        ("aliases", "aliases", {"color": "C3", "linestyle": "--"}),
    ):
        hertz, levels = _points(curves, name)
        if len(hertz):
            axes.vlines(hertz, floor - 10.0, levels, label=label, **style)
    axes.set_xscale("log")
    axes.margins(x=0.1)
    _labels(axes, "Hz", "dBFS")
    axes.legend(frameon=False, fontsize="small")


def _labels(axes: "Axes", x: str, y: str) -> None:
    axes.set_xlabel(x)
    axes.set_ylabel(y)
    axes.grid(visible=True, color="0.9")
    if axes.get_xscale() == "log":
        axes.xaxis.set_major_formatter("{x:g}")


_KINDS: Mapping[str, Callable[["Axes", Curves], None]] = {
    "magnitude": _response, "transfer": _transfer, "gain": _gain, "alias_by_frequency": _alias_by_frequency,
    "fundamental": _lines,
}  # fmt: skip
"""By the curve that tells what was measured; the first that is there is drawn."""
