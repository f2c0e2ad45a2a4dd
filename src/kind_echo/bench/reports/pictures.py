"""Pictures of a pair for a report, drawn from what is kept of it: no sample is read."""

import importlib.util
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from kind_echo.audio_io.temporary import temporary_folder
from kind_echo.bench.audio import draw
from kind_echo.bench.reports.document import Part, Picture, Text
from kind_echo.database.blobs import find_content
from kind_echo.database.models import Analysis
from kind_echo.plots import COLUMNS, Drawn, draws, plot_measured, plot_pair

_SIDES = ("reference", "render", "difference")


def pictures_of(session: Session, analysis: Analysis, curves: Sequence[Mapping[str, Any]], title: str) -> list[Part]:
    """Waveforms and spectra of a pair, and the plot of what was measured beside it; in words why there are none.

    Args:
        curves: of the render against what went in, as they are kept.
    """
    if importlib.util.find_spec("matplotlib") is None:
        return [Text("No pictures: the library that draws them is not installed.", "quiet")]
    if not analysis.spectra:
        return [Text(f"No picture of {title}: a sample is not finite.", "quiet")]
    with temporary_folder() as folder:
        path = Path(folder) / "plot.png"
        plot_pair(path, [_drawn(session, analysis, side) for side in _SIDES], title)
        found: list[Part] = [Picture(path.read_bytes(), f"{title}: reference, render, difference, and their spectra.")]
        measured = {
            one["name"]: {axis: {"unit": one[f"{axis}_unit"], "values": one[axis]} for axis in ("x", "y")}
            for one in curves
        }
        if draws(measured):
            plot_measured(path, measured, title)
            found.append(Picture(path.read_bytes(), f"{title}: the render against the signal that went in."))
    return found


def _drawn(session: Session, analysis: Analysis, side: str) -> Drawn:
    frames = find_content(session, analysis.reference_sha256).frames
    rate = find_content(session, analysis.reference_sha256).rate
    address = analysis.reference_sha256 if side == "reference" else f"{analysis.key}.{side}"
    strip = draw(session, address, 0, frames, min(COLUMNS, frames))
    low, high = strip.columns[:, :, 0].min(axis=1), strip.columns[:, :, 1].max(axis=1)
    spectrum = analysis.spectra[side]
    hertz, levels = np.array(spectrum["frequencies"], np.float64), np.array(spectrum["levels"], np.float64)
    return Drawn(frames / rate, low.astype(np.float64), high.astype(np.float64), hertz, levels)
