"""Small pictures for the cells of a sheet: the level of each difference over time."""

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.core.audio import peaks
from kind_echo.database.models import Analysis, Cell, Content, PeakLevel, Run

MOST_CELLS = 200
"""Cells of a run up to which there are pictures: more have no room for them."""

COLUMNS = 32
_FLOOR = -160.0


def pictures_of(session: Session, run: Run) -> dict[int, list[float]]:
    """Greatest level of the difference, in dBFS, in each of some equal parts of its length, by number of the cell.

    Cells without a difference have none; a run of more than `MOST_CELLS` has none at all. Read from kept waveforms.
    """
    cells = session.execute(
        select(Cell.id, Cell.analysis_key, Content.frames, Content.channels)
        .join(Analysis, Analysis.key == Cell.analysis_key)
        .join(Content, Content.sha256 == Analysis.reference_sha256)
        .where(Cell.run_id == run.id)
        .limit(MOST_CELLS + 1)
    ).all()
    if len(cells) > MOST_CELLS:
        return {}
    owners = {f"{key}.difference" for _, key, _, _ in cells}
    # The coarsest resolution that still has a bin for each column, or the finest of what is short.
    fine_enough = PeakLevel.bins >= COLUMNS
    rows = session.execute(
        select(PeakLevel.owner, PeakLevel.position, PeakLevel.data)
        .where(PeakLevel.owner.in_(owners))
        .where(fine_enough | (PeakLevel.position == 0))
        .order_by(PeakLevel.owner, PeakLevel.position)
    )
    kept = {owner: (position, data) for owner, position, data in rows}
    found = {}
    for cell_id, key, frames, channels in cells:
        level = kept.get(f"{key}.difference")
        if level is not None:
            found[cell_id] = _levels(level[1], peaks.FINEST * peaks.FACTOR ** level[0], frames, channels)
    return {cell_id: levels for cell_id, levels in found.items() if max(levels) > _FLOOR}


def _levels(data: bytes, frames_per_bin: int, frames: int, channels: int) -> list[float]:
    bins = np.frombuffer(data, "<f4").reshape(-1, channels, 2)
    columns = peaks.columns_from_bins(bins, 0, frames_per_bin, 0, frames, COLUMNS)
    heights = np.abs(columns).max(axis=(1, 2)).astype(np.float64)
    with np.errstate(divide="ignore"):
        levels = np.maximum(20.0 * np.log10(heights), _FLOOR)
    return [round(float(level), 1) for level in levels]
