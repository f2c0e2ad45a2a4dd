"""Where two sides differ most, and where a render needs a look by itself: places to be walked through in turn."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource, rows_of_pair
from kind_echo.core.audio.source import Source
from kind_echo.core.causes.cause import CauseName
from kind_echo.core.comparison.pair import Comparison

Floats = NDArray[np.float64]
_Stretch = tuple[int, int, int]  # its first window, the greatest, the one after its last

MOST = 1000
"""Places that can be asked for."""

_WINDOW_SECONDS = 0.01
_PLACE_ENDS_SHARE = 10 ** (-12 / 10)  # a place ends where the difference has fallen by this, in power
_REACH_WINDOWS = 200  # windows to either side of the greatest that may belong to its place
_NOTHING_POWER = 10 ** (-180 / 10)  # mean square; what is under it is no difference
_FAR_UNDER_SHARE = 10 ** (-60 / 10)  # of the greatest: what differs so much less is nowhere that they differ most
_FLOOR_DBFS = -180.0


@dataclass(frozen=True)
class Place:
    """A stretch of the reference's time axis.

    Attributes:
        start, length: s.
        cause: "gap" or "click" where one was found there, else what alone explains the pair; None where that is not
            known, or the render by itself is meant.
        amount: RMS of the difference over the 10 ms in which it is greatest, in `unit`; of a place in the render
            alone, its greatest sample.
        reason: what stands there, in words.
    """

    start: float
    length: float
    cause: CauseName | None
    amount: float
    unit: str
    reason: str


@dataclass(frozen=True)
class Walked:
    """Where to look, greatest first: places where the sides differ, and those of the render by itself."""

    differences: list[Place]
    render: list[Place]


def find_places(reference: Source, render: Source, found: Comparison, most: int) -> Walked:
    """The `most` greatest differences in time, and as many places where the render goes over or up to full scale.

    A place is the stretch around a greatest 10 ms in which the difference stays within 12 dB of it, up to two seconds
    to either side; none lies over another, and none is 60 dB under the greatest. A gap or click that was found is a
    place by itself, and half of the places are kept for those: a click is often softer than what a filter changes.

    Args:
        found: what comparing these two gave. Where one cause alone acts all along, it is named where no event is.
    """
    aligned = AlignedSource(render, reference.frames, found.alignment)
    lasting: set[CauseName] = {cause.cause for cause in found.causes if cause.cause not in _NOT_LASTING}
    otherwise = lasting.pop() if len(lasting) == 1 else None
    window = max(1, round(_WINDOW_SECONDS * reference.rate))
    power, peaks, first = _windows(reference, aligned, window)
    rate = reference.rate
    is_click, is_gap, is_jump = _events(found, reference.rate, first, window, len(power))

    def placed(begin: int, end: int) -> tuple[float, float]:
        start = first + begin * window
        return start / rate, (min(first + end * window, reference.frames) - start) / rate

    stretches = _chosen(power, is_click | is_gap | is_jump, most)
    differences = []
    for begin, best, end in stretches:
        start, length = placed(begin, end)
        part = slice(begin, end)
        events: tuple[tuple[CauseName, NDArray[np.bool_]], ...] = (
            ("time_jump", is_jump), ("gap", is_gap), ("click", is_click)
        )  # fmt: skip
        cause = next((name for name, marked in events if marked[part].any()), otherwise)
        level = 10 * float(np.log10(power[best]))
        differences.append(Place(start, length, cause, level, "dBFS", _DIFFERS.get(cause, "the sides differ")))
    return Walked(differences, _of_render(peaks, aligned, placed, most))


_DIFFERS: dict[CauseName | None, str] = {
    "gap": "a gap in the render", "click": "a click in the render", "time_jump": "the render gets out of step",
}  # fmt: skip
_NOT_LASTING = ("none", "gap", "click", "length", "non_finite", "time_jump")


def _windows(reference: Source, aligned: AlignedSource, window: int) -> tuple[Floats, Floats, int]:
    """Mean square of the difference and greatest sample of the render in each window, the channels' greatest."""
    powers: list[Floats] = []
    peaks: list[Floats] = []
    kept: tuple[Floats, Floats] | None = None
    first = None
    for start, x, y in rows_of_pair(reference, aligned):
        first = start if first is None else first
        squares, heights = np.square(y - x), np.abs(y)
        if kept is not None:
            squares, heights = (np.concatenate(both, axis=1) for both in zip(kept, (squares, heights), strict=True))
        whole = squares.shape[1] // window * window
        powers.append(squares[:, :whole].reshape(len(squares), -1, window).mean(axis=2).max(axis=0))
        peaks.append(heights[:, :whole].reshape(len(heights), -1, window).max(axis=2).max(axis=0))
        kept = squares[:, whole:], heights[:, whole:]
    if kept is not None and kept[0].shape[1]:
        powers.append(kept[0].mean(axis=1).max(keepdims=True))
        peaks.append(kept[1].max(keepdims=True).ravel())
    if first is None:
        return np.zeros(0), np.zeros(0), 0
    return np.concatenate(powers), np.concatenate(peaks), first


def _events(
    found: Comparison, rate: int, first: int, window: int, count: int
) -> tuple[NDArray[np.bool_], NDArray[np.bool_], NDArray[np.bool_]]:
    """Which of `count` windows, the first of them at frame `first`, hold a click, a part of a gap, a jump in time."""
    is_click, is_gap, is_jump = np.zeros((3, count), dtype=np.bool_)
    for cause in found.causes:
        if cause.cause == "time_jump" and cause.start is not None:
            begin = (round(cause.start * rate) - first) // window
            last = begin + (0 if cause.length is None else round(cause.length * rate) // window)
            # Which side of it differs, and from where on, hangs on which part is lined up.
            reach = 1 + int(abs(cause.amount or 0.0)) // window
            is_jump[max(0, begin - reach) : max(0, last + 1)] = True
    for at in {(at - first) // window for steps in found.clicks for at in steps}:
        is_click[max(0, at) : max(0, at + 1)] = True
    for gap in found.gaps:
        begin, last = ((at - first) // window for at in (gap.start, gap.start + gap.length - 1))
        is_gap[max(0, begin) : max(0, last + 1)] = True
    return is_click, is_gap, is_jump


def _greatest(values: Floats, free: NDArray[np.bool_], most: int) -> list[_Stretch]:
    """The greatest places among the windows that are free, the greatest first."""
    least = max(_NOTHING_POWER, _FAR_UNDER_SHARE * float(values.max(initial=0.0)))
    free = free & np.isfinite(values) & (values > least)
    found: list[_Stretch] = []
    for best in np.argsort(values)[::-1]:
        if len(found) == most:
            break
        if not free[best]:
            continue
        bound = _PLACE_ENDS_SHARE * values[best]
        begin, end = int(best), int(best) + 1
        while begin > 0 and best - begin < _REACH_WINDOWS and free[begin - 1] and values[begin - 1] >= bound:
            begin -= 1
        while end < len(values) and end - best <= _REACH_WINDOWS and free[end] and values[end] >= bound:
            end += 1
        free[begin:end] = False
        found.append((begin, int(best), end))
    return found


def _chosen(power: Floats, marked: NDArray[np.bool_], most: int) -> list[_Stretch]:
    """The greatest stretches, the greatest first; up to half of them marked runs that others would leave no place."""
    runs = _runs(marked & (power > _NOTHING_POWER))
    events = [(begin, begin + int(power[begin:end].argmax()), end) for begin, end in runs]
    by_size = sorted(events + _greatest(power, ~marked, most), key=lambda stretch: -power[stretch[1]])
    chosen, rest = by_size[: most - most // 2], by_size[most - most // 2 :]
    rest.sort(key=lambda stretch: not marked[stretch[1]])  # events first, each kind by size
    return sorted(chosen + rest[: most // 2], key=lambda stretch: -power[stretch[1]])


def _of_render(
    peaks: Floats, aligned: AlignedSource, placed: Callable[[int, int], tuple[float, float]], most: int
) -> list[Place]:
    """Where the render passes full scale, stands at the end of its words, and is loudest, if only once."""
    rail = aligned.rail * abs(aligned.alignment.scale)
    places = []
    marked = peaks >= min(1.0, rail)
    for begin, end in _runs(marked):
        peak = float(peaks[begin:end].max())
        reason = "the render passes full scale" if peak > max(1.0, rail) else "the render reaches full scale"
        places.append(Place(*placed(begin, end), None, _decibels(peak), "dBFS", reason))
    places.sort(key=lambda place: -place.amount)
    if not places and len(peaks) and peaks.max() > 0.0:
        best = int(peaks.argmax())
        peak = float(peaks[best])
        places.append(Place(*placed(best, best + 1), None, _decibels(peak), "dBFS", "the render's greatest sample"))
    return places[:most]


def _runs(marked: NDArray[np.bool_]) -> list[tuple[int, int]]:
    edges = np.flatnonzero(np.diff(np.concatenate([[False], marked, [False]]).astype(np.int8)))
    return [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True)]


def _decibels(peak: float) -> float:
    return max(_FLOOR_DBFS, 20 * float(np.log10(max(peak, 1e-9))))
