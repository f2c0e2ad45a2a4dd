"""Clocks that differ: how much the delay grows over a file."""

from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.phases import Fine, fine_delay, read_blocks
from kind_echo.core.readings import Reading
from kind_echo.core.source import Source, read_padded
from kind_echo.core.transforms import fast_length

Floats = NDArray[np.float64]

_LEAST_SECONDS = 2.0
_SEGMENT_SECONDS = (0.4, 0.1, 0.025)
_MOST_SEGMENTS = 24
_BLOCKS = 7  # of a segment
_REACH_SECONDS = 1.0  # searched for the first part where the whole has no delay
_RELATED = 0.5  # correlation coefficient of that part
_AGREE = 0.8  # agreement of the phases of a segment that takes part
_STRENGTH = 0.3
_LEAST_SEGMENTS = 4
_STRAIGHT = 1.0  # samples RMS that delays of short segments may lie off their line: chance would scatter them
_OUTLIER = 4.0  # times the middle distance from the line


@dataclass(frozen=True)
class Drift:
    """How a delay changes.

    Attributes:
        reading: in ppm.
        middle: the delay in samples in the middle of the reference; None with the reading.
    """

    reading: Reading
    middle: float | None = None


def delay_drift(reference: Source, render: Source, delay: float | None, why: str | None) -> Reading:
    """The reading of `find_drift`."""
    return find_drift(reference, render, delay, why).reading


def find_drift(reference: Source, render: Source, delay: float | None, why: str | None) -> Drift:
    """Slope of the delay over the file, in ppm: positive when the render plays slower.

    The delay of up to 24 segments, all channels together, is found near that of the one before, and a line laid through
    them. Within a long segment a great drift smears itself: where most do not tell, shorter ones are taken, which must
    be the greater part and agree on the line. No reading under 2 s, without a delay, or where under 4 segments tell.

    Args:
        delay: of the whole file, in samples; the first segment's is sought near it.
    """
    frames = min(reference.frames, render.frames)
    if frames < _LEAST_SECONDS * reference.rate:
        return Drift(Reading("delay_drift", "all", None, "the file is shorter than 2 s"))
    reason = why
    few: list[tuple[float, float]] = []
    for seconds in _SEGMENT_SECONDS:
        length = min(round(seconds * reference.rate), frames // _LEAST_SEGMENTS)
        count = int(min(_MOST_SEGMENTS, frames // length))
        starts = np.linspace(0, frames - length, count).astype(int)
        found = _delays(reference, render, starts, length, delay)
        if found:
            reason = "too few parts of the file correlate with the reference"
        if seconds == _SEGMENT_SECONDS[0] and len(found) >= _LEAST_SEGMENTS:
            few = found
        if len(found) >= max(_LEAST_SEGMENTS, count / 2):
            line = _line(found, reference.frames / 2)
            if seconds == _SEGMENT_SECONDS[0] or line.off < _STRAIGHT:
                return line.drift()
    if few:
        return _line(few, reference.frames / 2).drift()
    why = reason or "too few parts of the file correlate with the reference"
    return Drift(Reading("delay_drift", "all", None, why))


@dataclass(frozen=True)
class _Line:
    """A line through delays over frames: slope, its standard error, RMS of what lies off it, its height half way."""

    slope: float
    spread: float
    off: float
    middle: float

    def drift(self) -> Drift:
        """As a reading."""
        return Drift(Reading("delay_drift", "all", self.slope * 1e6, None, 2.1 * self.spread * 1e6), self.middle)


def _line(found: list[tuple[float, float]], half_way: float) -> _Line:
    """The line through delays over frames. A delay that lies far off the others is left out once."""
    centres, delays = np.array(found).T
    line, left = _laid(centres, delays, half_way)
    usual = float(np.median(np.abs(left)))
    kept = np.abs(left) <= _OUTLIER * max(usual, 1e-9)
    if _LEAST_SEGMENTS <= kept.sum() < len(found):
        line, _ = _laid(centres[kept], delays[kept], half_way)
    return line


def _laid(centres: Floats, delays: Floats, half_way: float) -> tuple[_Line, Floats]:
    design = np.stack([np.ones(len(centres)), centres - centres.mean()], axis=1)
    solution, *_ = np.linalg.lstsq(design, delays, rcond=None)
    left = delays - design @ solution
    power = float(np.sum(left**2)) / max(1, len(centres) - 2)
    spread = float(np.sqrt(power / np.sum(design[:, 1] ** 2)))
    middle = float(solution[0] + solution[1] * (half_way - centres.mean()))
    return _Line(float(solution[1]), spread, float(np.sqrt(power)), middle), left


def _delays(
    reference: Source, render: Source, starts: NDArray[np.int64], length: int, delay: float | None
) -> list[tuple[float, float]]:
    """Centre and delay of each segment that tells, from the middle of the file to either end."""
    middle = len(starts) // 2
    if delay is None:
        # The whole may be smeared by the drift itself: a part in the middle tells where to begin.
        delay = _first_delay(reference, render, int(starts[middle]), length)
        if delay is None:
            return []
    upward = _track(reference, render, starts[middle:], length, delay)
    downward = _track(reference, render, starts[:middle][::-1], length, delay)
    return downward[::-1] + upward


def _track(
    reference: Source, render: Source, starts: NDArray[np.int64], length: int, delay: float
) -> list[tuple[float, float]]:
    near, found = round(delay), []
    for start in starts:
        fine = fine_delay(read_blocks(reference, render, near, (int(start), int(start) + length), _BLOCKS))
        if fine is None or not _tells(fine):
            continue
        lag = near + fine.samples
        near = round(lag)
        found.append((float(start) + length / 2, lag))
    return found


def _tells(fine: Fine) -> bool:
    return fine.steady and fine.agreement >= _AGREE and fine.strength >= _STRENGTH


def _first_delay(reference: Source, render: Source, start: int, length: int) -> float | None:
    """Where a part of the reference lies in the render, within a second; each place by its own energy."""
    reach = min(reference.frames, round(_REACH_SECONDS * reference.rate))
    x = reference.read(start, start + length)
    channel = int(np.square(x).sum(axis=0).argmax())
    x = x[:, channel]
    y = read_padded(render, start - reach, start + length + reach)[:, channel]
    size = fast_length(len(y))
    lags = fft.irfft(np.conj(fft.rfft(x, size)) * fft.rfft(y, size), size)[: 2 * reach + 1]
    energy = np.concatenate([[0.0], np.cumsum(y**2)])
    met = energy[length : length + 2 * reach + 1] - energy[: 2 * reach + 1]
    scale = np.sqrt(float(x @ x) * np.maximum(met, 0.0))
    heard = (met > 1e-6 * met.max(initial=0.0)) & (scale > 0.0)
    told = np.divide(np.abs(lags), scale, out=np.zeros_like(lags), where=heard)
    best = int(told.argmax())
    return float(best - reach) if told[best] >= _RELATED else None
