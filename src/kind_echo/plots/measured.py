"""What a measure has as curves, as a plot. Lines differ by their shape, so that a plot is read without colour."""

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.registry.documents import WholeCurveDocument
from kind_echo.core.registry.errors import BadParameter
from kind_echo.plots.figures import label_axes, new_figure, save

if TYPE_CHECKING:
    from matplotlib.axes import Axes

Floats = NDArray[np.float64]
Curves = Mapping[str, WholeCurveDocument]
"""As they stand in the JSON of the command line."""


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
            figure = new_figure(title, 4.2)
            draw(figure.axes[0], curves)
            save(figure, path)
            return
    raise BadParameter("plot", str(path), "asked for where something was measured that can be drawn")


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
    label_axes(axes, "Hz", "dB")
    axes.legend(frameon=False, fontsize="small")


def _transfer(axes: "Axes", curves: Curves) -> None:
    for name, label, style in (
        ("transfer_expected", "expected", {"color": "0.2", "linewidth": 1.8}),
        ("transfer", "measured", {"color": "C0", "linestyle": "--", "marker": "."}),
    ):
        x, y = _points(curves, name)
        if len(x):
            axes.plot(x, y, label=label, **style)
    label_axes(axes, "in, dBFS", "out, dBFS")
    axes.legend(frameon=False, fontsize="small")


def _gain(axes: "Axes", curves: Curves) -> None:
    axes.plot(*_points(curves, "gain"), color="C0")
    label_axes(axes, "s", "gain, dB")


def _alias_by_frequency(axes: "Axes", curves: Curves) -> None:
    axes.semilogx(*_points(curves, "alias_by_frequency"), color="C3", marker=".")
    label_axes(axes, "tone, Hz", "worst alias, dBFS")


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
    label_axes(axes, "Hz", "dBFS")
    axes.legend(frameon=False, fontsize="small")


_KINDS: Mapping[str, Callable[["Axes", Curves], None]] = {
    "magnitude": _response, "transfer": _transfer, "gain": _gain, "alias_by_frequency": _alias_by_frequency,
    "fundamental": _lines,
}  # fmt: skip
"""By the curve that tells what was measured; the first that is there is drawn."""
