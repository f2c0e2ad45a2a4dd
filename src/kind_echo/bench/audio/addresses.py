"""Audio by an address: a content's digest, a side of an analysis, or the signal that went into a cell."""

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from sqlalchemy.orm import Session

from kind_echo.audio_io.encoding import fits_flac, subtype_of
from kind_echo.audio_io.files import copy_audio
from kind_echo.bench.comparisons import find_analysis, sides, waveform_owner
from kind_echo.bench.runs import find_cell
from kind_echo.bench.signals import make_stimulus
from kind_echo.core.audio import peaks
from kind_echo.core.audio.align import AlignedSource, Alignment
from kind_echo.core.audio.level_map import LevelMap, level_map
from kind_echo.core.audio.source import ArraySource, Samples, Source
from kind_echo.core.levels.needles import Needles, needles_of
from kind_echo.core.levels.running_bands import RunningBands, running_bands
from kind_echo.core.registry.errors import BadParameter
from kind_echo.database.blobs import BlobSource, ContentNotFound, find_content
from kind_echo.database.models import Cell
from kind_echo.database.waveforms import read_columns

_SIGNAL = "signal"
_MOST_DIGITS = 9

BAND_STEPS = 600
"""Tenths of a second that one request for running spectra gives."""

MOST_FRAMES = 1 << 20
"""Frames that one request for samples may ask for."""


@dataclass(frozen=True)
class Addressed:
    """A source, and the owner under which its waveform is kept."""

    owner: str
    source: Source


@dataclass(frozen=True)
class Strip:
    """What is drawn of a stretch of audio: extremes of columns, or single samples and the curve through them.

    Attributes:
        columns: shape (columns, channels, 2); empty when samples are given.
        samples: shape (frames, channels); empty when columns are given.
        curve: band-limited curve through the samples, `points` values a sample.
    """

    columns: peaks.Bins
    samples: Samples
    curve: Samples
    points: int


def open_address(session: Session, address: str) -> Addressed:
    """The audio at an address: DIGEST for content, KEY.render and KEY.difference for sides of an analysis.

    CELL.signal is what went into a cell, made anew, on the time axis of its render.

    Raises:
        ContentNotFound, AnalysisNotFound, CellNotFound: there is nothing at it.
    """
    digest, _, side = address.partition(".")
    if side == _SIGNAL:
        return Addressed(address, _signal_of(session, digest))
    if not side:
        source = BlobSource(session, find_content(session, digest))
        return Addressed(source.sha256, source)
    analysis = find_analysis(session, digest)
    _, render, difference = sides(session, analysis)
    if side == "render":
        return Addressed(waveform_owner(analysis, "render"), render)
    if side == "difference":
        return Addressed(waveform_owner(analysis, "difference"), difference)
    raise ContentNotFound(address)


def signal_address(cell: Cell) -> str:
    """Where the signal that went into a cell is."""
    return f"{cell.id}.{_SIGNAL}"


def _signal_of(session: Session, number: str) -> Source:
    if not number.isdecimal() or len(number) > _MOST_DIGITS:
        raise ContentNotFound(f"{number}.{_SIGNAL}")
    cell = find_cell(session, int(number))
    condition = cell.condition
    samples = make_stimulus(session, cell.case.signal.stimulus, condition.channels, condition.rate)
    frames = len(samples) if cell.render is None else cell.render.content.frames
    return AlignedSource(ArraySource(samples, condition.rate), frames, Alignment())


def draw(session: Session, address: str, start: int, stop: int, columns: int) -> Strip:
    """A stretch of audio for drawing on `columns` columns: as samples where there are at most two columns a sample."""
    found = open_address(session, address)
    lo, hi = _range(found.source, start, stop)
    nothing = np.zeros((0, found.source.channels))
    if (hi - lo) * 2 <= columns:
        curve = peaks.reconstruct(found.source, lo, hi)
        no_columns = np.zeros((0, found.source.channels, 2), dtype=np.float32)
        return Strip(no_columns, found.source.read(lo, hi), curve, peaks.CURVE_POINTS)
    drawn = read_columns(session, found.owner, found.source, lo, hi, min(columns, hi - lo))
    return Strip(drawn, nothing, nothing, 0)


def map_levels(
    session: Session, address: str, stretch: tuple[int, int], size: tuple[int, int], *, even: bool, quick: bool
) -> LevelMap:
    """The level map of a stretch of audio, `size` columns by rows; see `level_map`."""
    found = open_address(session, address)
    lo, hi = _range(found.source, *stretch)
    return level_map(found.source, size[0], size[1], lo, hi, even=even, quick=quick)


def show_needles(session: Session, address: str) -> Needles:
    """What needles show along the audio at an address."""
    return needles_of(open_address(session, address).source)


def show_bands(session: Session, address: str, part: int) -> RunningBands:
    """The spectrum of the last tenth of a second along a minute of the audio at an address; `part` 0 is the first."""
    return running_bands(open_address(session, address).source, part * BAND_STEPS, BAND_STEPS)


def read_samples(session: Session, address: str, start: int, stop: int) -> Samples:
    """Frames start to stop for playing. Raises BadParameter for a range too long or outside the audio."""
    found = open_address(session, address)
    lo, hi = _range(found.source, start, stop)
    if hi - lo > MOST_FRAMES:
        raise BadParameter("stop", stop, f"at most {MOST_FRAMES} frames after the start")
    return found.source.read(lo, hi)


def write_file(session: Session, address: str, path: Path) -> None:
    """Write the audio at an address to a file, WAV or FLAC by its ending, with each sample as it is kept.

    Raises:
        BadParameter: FLAC is asked for of samples that it does not hold.
    """
    source = open_address(session, address).source
    subtype = subtype_of(source)
    if path.suffix == ".flac" and not fits_flac(subtype, source.channels, source.rate):
        raise BadParameter("form", "flac", "wav: FLAC holds words of 16 or 24 bits, in up to 8 channels, and not these")
    copy_audio(path, source, subtype)


def _range(source: Source, start: int, stop: int) -> tuple[int, int]:
    if not 0 <= start < source.frames:
        raise BadParameter("start", start, f"from 0 to {source.frames - 1}")
    if stop <= start:
        raise BadParameter("stop", stop, "greater than the start")
    return start, min(stop, source.frames)
