"""Clocks that differ: how much the delay grows over a file."""

import math
from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.correlation import MapFunction
from kind_echo.core.audio.source import Source, read_padded
from kind_echo.core.audio.transforms import fast_length
from kind_echo.core.delays.phases import Fine, centre_of, fine_delay, read_blocks
from kind_echo.core.registry.readings import Reading

Floats = NDArray[np.float64]

_LEAST_SECONDS = 2.0
_SEGMENT_SECONDS = (0.4, 0.1, 0.025)
_MOST_SEGMENTS = 24
_SEGMENT_BLOCKS = 7  # of a segment
_REACH_SECONDS = 1.0  # searched for the first part where the whole has no delay
_RELATED_CORRELATION = 0.5  # correlation coefficient of that part
_LEAST_PHASE_AGREEMENT = 0.8  # agreement of the phases of a segment that takes part
_LEAST_STRENGTH = 0.3
_LEAST_SEGMENTS = 4
# Samples RMS that delays of short segments may lie off their line: chance would scatter them
_STRAIGHT_WITHIN_SAMPLES = 1.0
STUDENT_T = (
    12.706, 4.303, 3.182, 2.776, 2.571, 2.447, 2.365, 2.306, 2.262, 2.228, 2.201, 2.179, 2.16, 2.145,
    2.131, 2.12, 2.11, 2.101, 2.093, 2.086, 2.08, 2.074,
)  # fmt: skip
"""Student's t at 97.5 % by degrees of freedom from 1 on; NIST/SEMATECH e-Handbook of Statistical Methods, 1.3.6.7.2."""
_OUTLIER_MIDDLE_DISTANCES = 6.0  # times the middle distance from the line: four standard deviations


@dataclass(frozen=True)
class _Part:
    """The delay of one part of a file, in samples, at 95 % within its spread."""

    centre: float
    delay: float
    spread: float


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


def find_drift(
    reference: Source, render: Source, delay: float | None, why: str | None, spread: MapFunction = map
) -> Drift:
    """Slope of the delay over the file, in ppm: positive when the render plays slower.

    The delay of up to 24 segments, all channels together, is found near that of the one before, and a line laid through
    them. Within a long segment a great drift smears itself: where most do not tell, shorter ones are taken, which must
    be the greater part and agree on the line. No reading under 2 s, without a delay, or where under 4 segments tell.

    Args:
        delay: of the whole file, in samples; the first segment's is sought near it.
        spread: does the two halves of the file.
    """
    frames = min(reference.frames, render.frames)
    if frames < _LEAST_SECONDS * reference.rate:
        return Drift(Reading("delay_drift", "all", None, "the file is shorter than 2 s"))
    reason = why
    few: _Line | None = None
    for seconds in _SEGMENT_SECONDS:
        length = min(round(seconds * reference.rate), frames // _LEAST_SEGMENTS)
        count = int(min(_MOST_SEGMENTS, frames // length))
        starts = np.linspace(0, frames - length, count).astype(int)
        found = _delays(reference, render, starts, length, delay, spread)
        if found:
            reason = "too few parts of the file correlate with the reference"
        if seconds == _SEGMENT_SECONDS[0] and len(found) >= _LEAST_SEGMENTS:
            few = _line(found, reference.frames / 2)
        if len(found) >= max(_LEAST_SEGMENTS, count / 2):
            line = _line(found, reference.frames / 2)
            if seconds == _SEGMENT_SECONDS[0] or line.off < _STRAIGHT_WITHIN_SAMPLES:
                return line.drift()
    if few is not None:
        return few.drift()
    why = reason or "too few parts of the file correlate with the reference"
    return Drift(Reading("delay_drift", "all", None, why))


@dataclass(frozen=True)
class _Line:
    """A line through delays over frames: slope, its spread at 95 %, RMS of what lies off it, its height half way."""

    slope: float
    spread: float
    off: float
    middle: float

    def drift(self) -> Drift:
        """As a reading."""
        return Drift(Reading("delay_drift", "all", self.slope * 1e6, None, self.spread * 1e6), self.middle)


def _line(found: list[_Part], half_way: float) -> _Line:
    """The line through delays over frames, by how sure each is. A delay that lies far off is left out once."""
    parts = np.array([(part.centre, part.delay, part.spread) for part in found])
    line, off = _fit_line(parts, half_way)
    kept = off <= _OUTLIER_MIDDLE_DISTANCES * max(float(np.median(off)), 1e-9)
    if _LEAST_SEGMENTS <= kept.sum() < len(found):
        line, _ = _fit_line(parts[kept], half_way)
    return line


def _fit_line(parts: Floats, half_way: float) -> tuple[_Line, Floats]:
    """The line by weighted least squares, and how far each delay lies off it, over its own spread.

    Source of the second spread of the slope:
        J. G. MacKinnon and H. White, Some heteroskedasticity-consistent covariance matrix estimators with improved
        finite sample properties, Journal of Econometrics 29 (1985), HC3.
    """
    centres, delays, spreads = parts.T
    # However sure a part seems, it is at most twice as sure as the middle one.
    own = np.maximum(spreads, max(0.5 * float(np.median(spreads)), 1e-12))
    weights = 1.0 / own**2
    mean = float(np.average(centres, weights=weights))
    away = centres - mean
    slope = float((weights * away * delays).sum() / (weights * away**2).sum())
    height = float(np.average(delays, weights=weights))
    left = delays - height - slope * away
    free = max(1, len(parts) - 2)
    scale = math.sqrt(float((weights * left**2).sum()) / free)
    # The spreads that weights come from are estimates: what each part really lies off the line may pull it further.
    bend = float((weights * away**2).sum())
    hold = np.minimum(weights / weights.sum() + weights * away**2 / bend, 0.99)
    pulls = float(np.square(weights * away * left / (1.0 - hold)).sum())
    spread = STUDENT_T[free - 1] * max(scale / math.sqrt(bend), math.sqrt(pulls) / bend)
    line = _Line(slope, spread, float(np.sqrt(np.mean(left**2))), height + slope * (half_way - mean))
    return line, np.abs(left) / own


def _delays(
    reference: Source, render: Source, starts: NDArray[np.int64], length: int, delay: float | None, spread: MapFunction
) -> list[_Part]:
    """Centre and delay of each segment that tells, from the middle of the file to either end."""
    middle = len(starts) // 2
    if delay is None:
        # The whole may be smeared by the drift itself: a part in the middle tells where to begin.
        delay = _first_delay(reference, render, int(starts[middle]), length)
        if delay is None:
            return []
    near = delay
    halves = (starts[middle:], starts[:middle][::-1])
    tracks: list[list[_Part]] = list(spread(lambda half: _track(reference, render, half, length, near), halves))
    return tracks[1][::-1] + tracks[0]


def _track(reference: Source, render: Source, starts: NDArray[np.int64], length: int, delay: float) -> list[_Part]:
    near, found = round(delay), []
    for start in starts:
        within = (int(start), int(start) + length)
        sets = read_blocks(reference, render, near, within, _SEGMENT_BLOCKS)
        fine = fine_delay(sets)
        if fine is None or not _tells(fine):
            continue
        lag = near + fine.samples
        if round(lag) != near:
            # Windows that lie apart pull a delay towards none.
            near = round(lag)
            closer = fine_delay(sets := read_blocks(reference, render, near, within, _SEGMENT_BLOCKS))
            if closer is not None and _tells(closer):
                fine, lag = closer, near + closer.samples
        found.append(_Part(centre_of(sets, within, _SEGMENT_BLOCKS), lag, fine.spread))
    return found


def _tells(fine: Fine) -> bool:
    return fine.steady and fine.agreement >= _LEAST_PHASE_AGREEMENT and fine.strength >= _LEAST_STRENGTH


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
    return float(best - reach) if told[best] >= _RELATED_CORRELATION else None
