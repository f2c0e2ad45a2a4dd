"""A pair as waveforms and spectra. Sides differ by the shape of their lines, so that it is read without colour."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source, blocks
from kind_echo.core.audio.spectrum import level_spectrum
from kind_echo.plots.figures import label_axes, new_figure, save

Floats = NDArray[np.float64]

COLUMNS = 1200
"""Of a waveform."""

_LEAST_FRAMES = 16  # that have a spectrum
_FLOOR = -200.0  # dBFS, under which nothing is drawn
_SIDES: tuple[tuple[str, dict[str, Any]], ...] = (
    ("reference", {"color": "0.2", "linewidth": 1.8}),
    ("render", {"color": "C0", "linewidth": 1.1, "linestyle": "--"}),
    ("difference", {"color": "C3", "linewidth": 1.0, "linestyle": "-."}),
)


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
    figure = new_figure(title, 7.5, (1.0, 1.0, 1.0, 2.2))
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
    label_axes(spectra, "Hz", "dBFS")
    if spectra.lines:
        spectra.legend(frameon=False, loc="best", fontsize="small")
    save(figure, path)


def _envelope(side: Source) -> tuple[Floats, Floats]:
    """The least and the greatest sample of any channel in each of the columns of a waveform."""
    count = min(COLUMNS, side.frames)
    low, high = np.full(count, np.inf), np.full(count, -np.inf)
    for position, block in blocks(side):
        column = (position + np.arange(len(block))) * count // side.frames
        np.minimum.at(low, column, block.min(axis=1))
        np.maximum.at(high, column, block.max(axis=1))
    return np.nan_to_num(low), np.nan_to_num(high)
