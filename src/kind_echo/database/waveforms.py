"""Waveforms in the database: kept at several resolutions when audio is stored, drawn without reading its samples."""

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from kind_echo.core.audio import peaks
from kind_echo.core.audio.source import Source
from kind_echo.database.models import PeakLevel


def store_peaks(session: Session, owner: str, source: Source) -> None:
    """Keep the waveform of a source at all resolutions under an owner's digest."""
    for position, level in enumerate(peaks.build_levels(source)):
        data = level.bins.astype("<f4").tobytes()
        row = {"owner": owner, "position": position, "bins": len(level.bins), "data": data}
        session.execute(insert(PeakLevel).values(row).on_conflict_do_nothing())


def read_columns(session: Session, owner: str, source: Source, start: int, stop: int, columns: int) -> peaks.Bins:
    """Extremes of `columns` equal stretches of start … stop, shape (columns, channels, 2).

    Reads kept peaks where a column spans enough frames, samples otherwise.
    """
    position = peaks.level_for((stop - start) / columns)
    if position is None:
        return peaks.columns_from_samples(source.read(start, stop), columns)
    frames_per_bin = peaks.FINEST * peaks.FACTOR**position
    first, last = start // frames_per_bin, -(-stop // frames_per_bin)
    width = source.channels * 8
    data = session.scalar(
        select(func.substring(PeakLevel.data, first * width + 1, (last - first) * width)).where(
            PeakLevel.owner == owner, PeakLevel.position == position
        )
    )
    if not data:  # a waveform is kept with its audio; where a level is missing, the samples still tell
        return peaks.columns_from_samples(source.read(start, stop), columns)
    bins = np.frombuffer(data, "<f4").reshape(-1, source.channels, 2)
    return peaks.columns_from_bins(bins, first, frames_per_bin, start, stop, columns)
