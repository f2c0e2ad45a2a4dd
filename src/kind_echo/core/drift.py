"""Clocks that differ: how much the delay grows over a file."""

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.correlation import refine
from kind_echo.core.readings import Reading
from kind_echo.core.source import Samples, Source, read_padded
from kind_echo.core.transforms import fast_length

_LEAST_SECONDS = 2.0
_SEGMENT_SECONDS = (0.4, 0.1, 0.025)
_MOST_SEGMENTS = 24
_SPAN = 1 << 11  # lags searched to either side of the last segment's delay
_REACH_SECONDS = 1.0  # searched for the first part where the whole has no delay
_RELATED = 0.5  # correlation coefficient of a segment that takes part
_LEAST_SEGMENTS = 4
_STRAIGHT = 1.0  # samples RMS that delays of short segments may lie off their line: chance would scatter them


def delay_drift(reference: Source, render: Source, delay: float | None, why: str | None) -> Reading:
    """Slope of the delay over the file, in ppm: positive when the render plays slower.

    The delay of up to 24 segments, each in its strongest channel, is found near that of the one before, and a line laid
    through them. Within a long segment a great drift smears itself: where most do not correlate, shorter ones are
    taken, which must be the greater part and agree on the line. No reading under 2 s, without a delay, or when fewer
    than 4 segments correlate.

    Args:
        delay: of the whole file, in samples; the first segment's is sought near it.
    """
    frames = min(reference.frames, render.frames)
    if frames < _LEAST_SECONDS * reference.rate:
        return Reading("delay_drift", "all", None, "the file is shorter than 2 s")
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
            slope, off, spread = _line(found)
            if seconds == _SEGMENT_SECONDS[0] or off < _STRAIGHT:
                return _drift(slope, spread)
    if few:
        slope, _, spread = _line(few)
        return _drift(slope, spread)
    return Reading("delay_drift", "all", None, reason or "too few parts of the file correlate with the reference")


def _line(found: list[tuple[float, float]]) -> tuple[float, float, float]:
    """Slope of the line through delays over frames, RMS of what lies off it, and standard error of the slope."""
    centres, delays = np.array(found).T
    design = np.stack([np.ones(len(found)), centres - centres.mean()], axis=1)
    solution, *_ = np.linalg.lstsq(design, delays, rcond=None)
    power = np.sum((delays - design @ solution) ** 2) / (len(found) - 2)
    return float(solution[1]), float(np.sqrt(power)), float(np.sqrt(power / np.sum(design[:, 1] ** 2)))


def _drift(slope: float, spread: float) -> Reading:
    return Reading("delay_drift", "all", slope * 1e6, None, 2 * spread * 1e6)


def _delays(
    reference: Source, render: Source, starts: NDArray[np.int64], length: int, delay: float | None
) -> list[tuple[float, float]]:
    """Centre and delay of each segment that correlates, from the middle of the file to either end."""
    middle = len(starts) // 2
    if delay is None:
        # The whole may be smeared by the drift itself: a part in the middle tells where to begin.
        at = int(starts[middle])
        reach = min(reference.frames, round(_REACH_SECONDS * reference.rate))
        delay = _segment_delay(reference.read(at, at + length), render, at, 0, reach)
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
        lag = _segment_delay(reference.read(start, start + length), render, int(start), near)
        if lag is not None:
            near = round(lag)
            found.append((float(start) + length / 2, lag))
    return found


def _segment_delay(x: Samples, render: Source, start: int, near: int, span: int = _SPAN) -> float | None:
    channel = int(np.square(x).sum(axis=0).argmax())
    x = x[:, channel]
    y = read_padded(render, start + near - span, start + near + len(x) + span)[:, channel]
    pair = np.zeros((2, fast_length(len(y))))  # two rows are transformed in the time of one
    pair[0, : len(x)], pair[1, : len(y)] = x, y
    spectra = fft.rfft(pair)
    lags = fft.irfft(np.conj(spectra[0]) * spectra[1], pair.shape[1])[: 2 * span + 1]
    strength = lags * np.sign(lags[np.abs(lags).argmax()])
    best = int(strength.argmax())
    here = y[best : best + len(x)]
    scale = float(np.sqrt(np.square(x).sum() * np.square(here).sum()))
    if scale <= 0.0 or not 0 < best < 2 * span or strength[best] < _RELATED * scale:
        return None
    if _has_rival(strength, best):
        return None
    return near + best - span + refine(strength, best)[0]


def _has_rival(strength: np.ndarray, best: int) -> bool:
    """Whether, once it has fallen to half, the correlation comes back to within 3 % of its greatest."""
    for side in (strength[best:], strength[best::-1]):
        fallen = int(np.argmax(side < 0.5 * side[0]))
        if fallen and side[fallen:].max() > 0.97 * side[0]:
            return True
    return False
