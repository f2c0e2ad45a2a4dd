"""Is a file fit to be measured? Silence, gaps, clipping, clicks, channels missing or exchanged, samples not finite."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource, overlap
from kind_echo.core.audio.source import MOST, PASS, Rows, Source, as_rows, read_padded
from kind_echo.core.compiled.loops import count_rail_runs, find_steps, quiet_runs, window_peaks
from kind_echo.core.registry.readings import Reading, for_channels, refuse

Counts = NDArray[np.int64]
Floats = NDArray[np.float64]

SILENT_PEAK = 10 ** (-90 / 20)
"""A channel that never passes −90 dBFS is silent: the last bit of 16, common practice."""

NOT_FINITE = "the file has NaN or infinite samples"

_CLEARLY_HEARD_PEAK = 10 ** (-70 / 20)  # what stands just over −90 dBFS a filter or a rounding takes under it
_DOWN_FACTOR = 10 ** (-10 / 20)
_ABOVE_FLOOR_FACTOR = 10 ** (20 / 20)
_NEAR_FLOOR_FACTOR = 10 ** (-12 / 20)  # of 20 dB above the floor: within 8 dB of it
_CLIMBS_SECONDS = 0.25
_WINDOW_SECONDS = 0.001
_MOST_GAPS = 10_000
_CLICK_REACH_SECONDS = 0.002  # s on either side among which a step stands alone
_CLICK_NEAR_SECONDS = 1 / 3000  # s on either side in which a greater step of the reference makes one of the render's
_CLICK_FLOOR_PEAK = 10 ** (-80 / 20)
_AROUND_SECONDS = 0.02  # s to either side of a click, by which a corner of the reference is told
_CORNER_SECONDS = 0.001  # s to either side, within which it lies
_OUTLIER_RATIO = 6.0  # times what bends there otherwise
_STEEPER_RATIO = 2.0
_CLICK_RATIO = 12.0  # the greatest of 10⁷ Gaussian steps is 7 times their mean
_SWAP_CORRELATION = 0.5  # correlation coefficient
_SWAP_MARGIN_CORRELATION = 0.05
_SWAP_SHARE = 0.1


def lead_in_excess(
    reference: "IntegrityMeter", render: "IntegrityMeter", late: list[float], gaps: Sequence["Gap"] = ()
) -> list[Reading]:
    """Silence at the start of a render beyond that of what it is laid against.

    Args:
        late: frames by which the render is known to be later, by channel.
        gaps: of the pair once it is lined up; one that the render starts with counts, for what sounds through all of
            the reference may stand nowhere above its own floor.
    """
    both = zip(reference.starts(), render.starts(), late, strict=True)
    envelopes = zip(reference.envelope(), render.envelope(), strict=True)
    values: list[float | None] = []
    for channel, ((begins, sounds, delay), (x, y)) in enumerate(zip(both, envelopes, strict=True)):
        if begins is None or sounds is None:
            values.append(None)
            continue
        first = next((gap for gap in gaps if gap.channel == channel), Gap(channel, 0, 0))
        # A start is told to the window.
        leading = first.length if first.start + first.length <= sounds - delay + reference.window else 0
        begin, end, shift = (int(f // reference.window) for f in (begins, sounds - delay, delay))
        excess = sounds - delay - begins if _lacks(x[begin : end + 1], y[max(0, begin + shift) :], x, y) else 0.0
        values.append(max(0.0, excess, leading) / reference.rate)
    overall = max((v for v in values if v is not None), default=None)
    return for_channels("lead_in_excess", values, overall, "one side is silent")


def _lacks(x: Floats, y: Floats, all_x: Floats, all_y: Floats) -> bool:
    """Whether y is 10 dB below x in most of its windows, each against the median of its file."""
    count, usual = min(len(x), len(y)), float(np.median(all_y))
    if count == 0 or usual <= 0.0:
        return True
    down = y[:count] * float(np.median(all_x)) < _DOWN_FACTOR * usual * x[:count]
    return bool(2 * down.sum() >= count)


def channel_missing(reference: "IntegrityMeter", render: "IntegrityMeter") -> list[Reading]:
    """Channels of the render that are silent where the reference's are not."""
    missing = [float(y <= SILENT_PEAK < x) for x, y in zip(reference.peak.tolist(), render.peak.tolist(), strict=True)]
    return for_channels("channel_missing", missing, max(missing))


def channel_swap(cross: NDArray[np.float64], powers: tuple[NDArray[np.float64], NDArray[np.float64]]) -> list[Reading]:
    """Whether two channels stand in each other's place.

    Args:
        cross: sum of reference channel a times render channel b, shape (channels, channels).
        powers: sums of squares of the channels of reference and render.
    """
    channels = len(cross)
    scale = np.sqrt(np.outer(powers[0], powers[1]))
    alike = np.divide(np.abs(cross), scale, out=np.zeros_like(cross), where=scale > 0)
    swapped = [0.0] * channels
    for a in range(channels):
        for b in range(a + 1, channels):
            crosswise, straight = min(alike[a, b], alike[b, a]), max(alike[a, a], alike[b, b])
            # Channels that are nearly the same correlate either way; what is not alike tells them apart.
            unlike = 1.0 - crosswise**2 < _SWAP_SHARE * (1.0 - straight**2)
            if crosswise < _SWAP_CORRELATION:
                continue  # a filter leaves little alike, by chance more crosswise
            if crosswise > straight + _SWAP_MARGIN_CORRELATION or (unlike and crosswise > straight):
                swapped[a] = swapped[b] = 1.0
    return for_channels("channel_swap", swapped, max(swapped))


@dataclass(frozen=True)
class Gap:
    """A stretch, in frames of the reference, in which a channel of the render is silent and the reference is not."""

    channel: int
    start: int
    length: int


class GapFinder:
    """Stretches of at least 1 ms in which the render stays below −90 dBFS where the reference passes −70.

    Takes an aligned pair a block at a time.
    """

    def __init__(self, channels: int, rate: int) -> None:
        self._least = max(1, round(_WINDOW_SECONDS * rate))
        self._states = np.full((channels, 3), -1, dtype=np.int64)
        self._out = np.zeros((_MOST_GAPS, 2), dtype=np.int64)
        self._found: list[Gap] = []
        self._end = 0

    def add(self, start: int, x: Rows, y: Rows) -> None:
        """Take the next frames of reference and render, `start` the first of them."""
        for c in range(len(x)):
            count = quiet_runs(
                x[c], y[c], SILENT_PEAK, _CLEARLY_HEARD_PEAK, self._least, start, self._states[c], self._out
            )
            self._found += [Gap(c, int(s), int(n)) for s, n in self._out[: min(count, _MOST_GAPS)]]
        self._end = start + x.shape[1]

    def gaps(self) -> list[Gap]:
        """All that was found, in order of time; ends what is open."""
        loud = np.ones((len(self._states), 1))  # one frame that is loud on both sides
        self.add(self._end, loud, loud)
        return sorted(self._found, key=lambda gap: (gap.start, gap.channel))


def gap_readings(gaps: list[Gap], channels: int) -> list[Reading]:
    """Count of the gaps; all channels: those that do not overlap in time counted apart."""
    merged, end = 0, -1
    for gap in gaps:
        merged += gap.start >= end
        end = max(end, gap.start + gap.length)
    each = [float(sum(gap.channel == c for gap in gaps)) for c in range(channels)]
    return for_channels("gaps", each, float(merged))


def find_clicks(reference: Source, aligned: AlignedSource, scale: float) -> list[list[int]]:
    """Frames at which a step stands alone in scale·render − reference that the reference does not make, by channel."""
    lo, hi = overlap(reference, aligned)
    channels, reach = reference.channels, max(8, round(_CLICK_REACH_SECONDS * reference.rate))
    near = min(reach, max(16, round(_CLICK_NEAR_SECONDS * reference.rate)))
    found: list[set[int]] = [set() for _ in range(channels)]
    out, room = np.zeros(_MOST_GAPS, dtype=np.int64), np.empty(PASS + 4 * reach)
    for start in range(lo, hi, PASS):
        begin, stop = max(lo, start - 2 * reach), min(start + PASS + 2 * reach, hi)
        x, y = as_rows(reference.read(begin, stop)), as_rows(aligned.read(begin, stop))
        for c in range(channels):
            count = find_steps(x[c], y[c], scale, reach, near, _CLICK_FLOOR_PEAK, _CLICK_RATIO, room, out)
            inside = (int(i) + begin for i in out[: min(count, _MOST_GAPS)])
            found[c] |= {i for i in inside if start <= i < start + PASS}
    return [sorted(steps) for steps in found]


def steeper(clicks: list[list[int]], reference: Source, aligned: AlignedSource, scale: float) -> list[list[int]]:
    """Of clicks in a render whose shape was bent or cut, those that step by more than twice what the reference does.

    A change of shape, however strong, makes no step that the reference has not got.
    """

    def stands(c: int, at: int) -> bool:
        x = read_padded(reference, at - 3, at + 3)[:, c]
        y = read_padded(aligned, at - 1, at + 1)[:, c]
        # Where a filter or level control lets most of it through quieter, the rest is not to be raised with it.
        return abs(min(scale, 1.0) * float(y[1] - y[0])) > _STEEPER_RATIO * float(np.abs(np.diff(x)).max(initial=0.0))

    return [[at for at in steps if stands(c, at)] for c, steps in enumerate(clicks)]


def not_of_the_reference(
    clicks: list[list[int]], reference: Source, aligned: AlignedSource, scale: float
) -> list[list[int]]:
    """Clicks that are more than what a change makes of a corner which the reference has there, as a gated tone does."""
    wide, near = round(_AROUND_SECONDS * reference.rate), max(8, round(_CORNER_SECONDS * reference.rate))

    def stands(c: int, at: int) -> bool:
        x = read_padded(reference, at - wide, at + wide)[:, c]
        bends = np.abs(np.diff(x, 2))
        middle = len(bends) // 2
        corner = float(bends[middle - near : middle + near].max(initial=0.0))
        if corner < _OUTLIER_RATIO * float(np.sqrt(np.mean(bends**2))) or corner < _OUTLIER_RATIO * float(
            np.median(bends)
        ):
            return True
        x, y = (read_padded(side, at - 2, at + 2)[:, c] for side in (reference, aligned))
        return float(np.abs(np.diff(scale * y - x)).max()) > corner

    return [[at for at in steps if stands(c, at)] for c, steps in enumerate(clicks)]


def without_gaps(clicks: list[list[int]], gaps: Sequence["Gap"], rate: int) -> list[list[int]]:
    """Clicks that are no edges of gaps."""
    reach = max(8, round(_CLICK_REACH_SECONDS * rate))
    edges = [(g.channel, edge) for g in gaps for edge in (g.start, g.start + g.length)]
    return [
        [at for at in steps if not any(k == c and abs(at - edge) <= reach for k, edge in edges)]
        for c, steps in enumerate(clicks)
    ]


def click_readings(found: Sequence[Sequence[int]], rate: int) -> list[Reading]:
    """Count of the clicks of each channel; all channels: those at one moment counted once."""
    reach = max(8, round(_CLICK_REACH_SECONDS * rate))
    each = [float(len(steps)) for steps in found]
    moments = sorted({at for steps in found for at in steps})
    apart = sum(1 for i, at in enumerate(moments) if i == 0 or at - moments[i - 1] > reach)
    return for_channels("clicks", each, float(apart))


class IntegrityMeter:
    """Takes a file a block at a time; finite samples only, apart from being counted."""

    def __init__(self, channels: int, rate: int, rail: float = 1.0) -> None:
        self.rate = rate
        self.non_finite = np.zeros(channels, dtype=np.int64)
        self.peak = np.zeros(channels)
        self._rail = rail
        self._run, self._side, self._runs = (np.zeros(channels, dtype=np.int64) for _ in range(3))
        self.window = max(1, round(_WINDOW_SECONDS * rate))
        self._peaks: list[NDArray[np.float64]] = []
        self._rest: Rows = np.empty((channels, 0))

    def add(self, rows: Rows, block_peak: NDArray[np.float64]) -> None:
        """Take the next frames, and the peak of each channel in them."""
        self.peak = np.maximum(self.peak, block_peak)
        if block_peak.max(initial=0.0) >= self._rail or self._run.any():
            count_rail_runs(rows, self._rail, self._run, self._side, self._runs)
        first = 0
        if self._rest.shape[1]:
            first = self.window - self._rest.shape[1]
            joined = np.concatenate([self._rest, rows[:, :first]], axis=1)
            if joined.shape[1] < self.window:
                self._rest = joined
                return
            self._peaks.append(np.abs(joined).max(axis=1, keepdims=True))
        whole = (rows.shape[1] - first) // self.window
        peaks = np.empty((len(rows), whole))
        window_peaks(rows, first, self.window, peaks)
        self._peaks.append(peaks)
        self._rest = rows[:, first + whole * self.window :].copy()

    def count_not_finite(self, rows: Rows) -> None:
        """Count what is not finite in a block."""
        self.non_finite += (~(np.abs(rows) <= MOST)).sum(axis=1)

    def envelope(self) -> Floats:
        """Greatest magnitude in each window, shape (channels, windows)."""
        rest = [np.abs(self._rest).max(axis=1, keepdims=True)] if self._rest.shape[1] else []
        return np.concatenate([*self._peaks, *rest, np.zeros((len(self.peak), 0))], axis=1)

    def starts(self) -> list[int | None]:
        """For each channel the frame of the first window that stands at signal level; None for a silent channel."""
        return [self._start(row, peak) for row, peak in zip(self.envelope(), self.peak.tolist(), strict=True)]

    def readings(self) -> list[Reading]:
        """silent, non_finite, lead_in_silence and clipped_runs."""
        channels = len(self.peak)
        counts = [float(c) for c in self.non_finite]
        readings = for_channels("non_finite", counts, sum(counts))
        if sum(counts):
            return readings + refuse(("silent", "lead_in_silence", "clipped_runs"), channels, NOT_FINITE, "not finite")
        flags = [float(p <= SILENT_PEAK) for p in self.peak]
        readings += for_channels("silent", flags, min(flags))
        seconds = [None if start is None else start / self.rate for start in self.starts()]
        first = min((s for s in seconds if s is not None), default=None)
        readings += for_channels("lead_in_silence", seconds, first, "the file is silent")
        runs = [float(n) for n in self._runs]
        return readings + for_channels("clipped_runs", runs, sum(runs))

    def _start(self, envelope: NDArray[np.float64], peak: float) -> int | None:
        if peak <= SILENT_PEAK:
            return None
        threshold = max(float(envelope.min()) * _ABOVE_FLOOR_FACTOR, SILENT_PEAK)
        if threshold >= peak:  # nothing stands 20 dB above the quietest moment: it sounds throughout
            return 0
        first = int(np.argmax(envelope > threshold))
        low = np.flatnonzero(envelope[:first] <= max(threshold * _NEAR_FLOOR_FACTOR, SILENT_PEAK))
        if (
            threshold > SILENT_PEAK
            and first - (int(low[-1]) if len(low) else 0) > _CLIMBS_SECONDS * self.rate / self.window
        ):
            # It climbs slowly: its quietest moment is the lowest step of a signal, and no floor under one.
            return int(np.argmax(envelope > SILENT_PEAK)) * self.window
        return first * self.window
