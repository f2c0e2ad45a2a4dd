"""Pictures of pairs, for reports and as files, drawn from what is kept of them: no sample is read."""

import importlib.util
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from sqlalchemy.orm import Session

from kind_echo.audio_io.temporary import temporary_folder
from kind_echo.bench.audio import draw
from kind_echo.bench.reports.document import Part, Picture, Text
from kind_echo.bench.runs import cells_of
from kind_echo.core.registry.documents import CurveDocument, WholeCurveDocument
from kind_echo.database.blobs import find_content
from kind_echo.database.models import Analysis, Cell, Run
from kind_echo.plots import COLUMNS, Drawn, check_plot, draws, plot_measured, plot_pair
from kind_echo.wording.conditions import whole_condition_text
from kind_echo.wording.names import slug

MOST_DRAWN = 100
"""Cells of a run that are drawn as files: those with most ink."""

_SIDES = ("reference", "render", "difference")
_ENDING = ".svg"
Kept = Sequence[CurveDocument]
"""Curves of a render against what went in, as they are kept."""


def pictures_of(session: Session, analysis: Analysis, curves: Kept, title: str) -> list[Part]:
    """Waveforms and spectra of a pair, and the plot of what was measured beside it; in words why there are none."""
    if importlib.util.find_spec("matplotlib") is None:
        return [Text("No pictures: the library that draws them is not installed.", "quiet")]
    if not analysis.spectra:
        return [Text(f"No picture of {title}: a sample is not finite.", "quiet")]
    with temporary_folder() as folder:
        path = Path(folder) / "plot.png"
        _draw_pair(session, analysis, path, title)
        found: list[Part] = [Picture(path.read_bytes(), f"{title}: reference, render, difference, and their spectra.")]
        measured = _measured(curves)
        if draws(measured):
            plot_measured(path, measured, title)
            found.append(Picture(path.read_bytes(), f"{title}: the render against the signal that went in."))
    return found


def write_plots(session: Session, run: Run, folder: Path) -> list[Path]:
    """Draw the cells of a run that did not pass as SVG files: their sides, and what was measured of them; the files.

    Raises:
        PlotsMissing: what draws is not installed.
    """
    check_plot(Path(f"plot{_ENDING}"))
    folder.mkdir(parents=True, exist_ok=True)
    made: list[Path] = []
    wrong = [cell for cell in cells_of(session, run.id) if cell.verdict != "Pass"]
    for cell in sorted(wrong, key=lambda cell: -cell.ink)[:MOST_DRAWN]:
        made += _plots_of(session, cell, folder)
    return made


def _plots_of(session: Session, cell: Cell, folder: Path) -> list[Path]:
    names = cell.case.signal.name, cell.case.setting.name
    stem = f"{cell.id:05d}-{slug(names[0])}-{slug(names[1])}"[:100]
    title = f"{names[0]}, {names[1]}, {whole_condition_text(cell.condition)}: {cell.why}"
    made = []
    if cell.analysis is not None and cell.analysis.spectra:
        made.append(folder / f"{stem}{_ENDING}")
        _draw_pair(session, cell.analysis, made[-1], title)
    measured = {} if cell.render is None else _measured(cell.render.curves)
    if draws(measured):
        made.append(folder / f"{stem}.measured{_ENDING}")
        plot_measured(made[-1], measured, title)
    return made


def _measured(curves: Kept) -> dict[str, WholeCurveDocument]:
    return {
        one["name"]: {
            "x": {"unit": one["x_unit"], "values": one["x"]}, "y": {"unit": one["y_unit"], "values": one["y"]}
        }
        for one in curves
    }  # fmt: skip


def _draw_pair(session: Session, analysis: Analysis, path: Path, title: str) -> None:
    plot_pair(path, [_drawn(session, analysis, side) for side in _SIDES], title)


def _drawn(session: Session, analysis: Analysis, side: str) -> Drawn:
    reference = find_content(session, analysis.reference_sha256)
    address = reference.sha256 if side == "reference" else f"{analysis.key}.{side}"
    strip = draw(session, address, 0, reference.frames, min(COLUMNS, reference.frames))
    low, high = strip.columns[:, :, 0].min(axis=1), strip.columns[:, :, 1].max(axis=1)
    spectrum = analysis.spectra[side]
    hertz, levels = np.array(spectrum["frequencies"], np.float64), np.array(spectrum["levels"], np.float64)
    seconds = reference.frames / reference.rate
    return Drawn(seconds, low.astype(np.float64), high.astype(np.float64), hertz, levels)
