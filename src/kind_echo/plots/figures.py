"""What all plots share: the endings that files may have, how a figure begins, and how it is written."""

import importlib.util
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from kind_echo.core.registry.errors import BadParameter, Invalid

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

ENDINGS = (".svg", ".png")


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


def new_figure(title: str, height: float, shares: Sequence[float] = (1.0,)) -> "Figure":
    """A figure with plots under each other, by their shares of its height, in inches."""
    from matplotlib.figure import Figure

    figure = Figure(figsize=(9.0, height), layout="constrained")
    figure.subplots(len(shares), 1, height_ratios=list(shares))
    figure.suptitle(title, fontsize="medium", x=0.02, ha="left", parse_math=False, wrap=True)
    return figure


def save(figure: "Figure", path: Path) -> None:
    """Write a figure; the same plot is the same file."""
    import matplotlib as mpl

    path.parent.mkdir(parents=True, exist_ok=True)
    # No date in it, and names of its parts that do not change.
    with mpl.rc_context({"svg.hashsalt": "kind-echo", "svg.fonttype": "none"}):
        undated = {"Date": None} if path.suffix.lower() == ".svg" else {"Software": None}
        figure.savefig(path, dpi=120, metadata=undated)


def legend_text(label: str) -> str:
    """A name as a legend shows it: no formula is read into it, and one that begins with a low line is not left out."""
    plain = label.replace("$", r"\$")
    return f"\u2060{plain}" if plain.startswith("_") else plain


def label_axes(axes: "Axes", x: str, y: str) -> None:
    """What stands along both axes, and a grid."""
    axes.set_xlabel(x)
    axes.set_ylabel(y)
    axes.grid(visible=True, color="0.9")
    if axes.get_xscale() == "log":
        axes.xaxis.set_major_formatter("{x:g}")
