"""Is a file fit to be measured? Silence, gaps, clipping, clicks, channels missing or exchanged, samples not finite."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.align import AlignedSource, overlap
from kind_echo.core.readings import Reading, for_channels, refuse
from kind_echo.core.source import BLOCK, Samples, Source

Counts = NDArray[np.int64]

SILENT_PEAK = 10 ** (-90 / 20)
"""A channel that never passes −90 dBFS is silent: the last bit of 16, common practice."""

NOT_FINITE = "the file has NaN or infinite samples"

_ABOVE_FLOOR = 10 ** (20 / 20)
_WINDOW_SECONDS = 0.001
_MOST_GAPS = 10_000
_CLICK_REACH = 0.002  # s on either side among which a step stands alone
_CLICK_FLOOR = 10 ** (-80 / 20)
_CLICK_RATIO = 12.0  # the greatest of 10⁷ Gaussian steps is 7 times their mean
_SWAP_MARGIN = 0.05


def lead_in_excess(
    reference: list[int | None], render: list[int | None], late: list[float], rate: int
) -> list[Reading]:
    """Silence at the start of a render beyond that of what it is laid against.

    Args:
        reference, render: frame at which each channel starts to sound, None for a silent one.
        late: frames by which the render is known to be later, by channel.
    """
    values = [
        None if a is None or b is None else max(0.0, (b - a - delay) / rate)
        for a, b, delay in zip(reference, render, late, strict=True)
    ]
    overall = max((v for v in values if v is not None), default=None)
    return for_channels("lead_in_excess", values, overall, "one side is silent")


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
            if crosswise > straight + _SWAP_MARGIN:
                swapped[a] = swapped[b] = 1.0
    return for_channels("channel_swap", swapped, max(swapped))


@dataclass(frozen=True)
class Gap:
    """A stretch, in frames of the reference, in which a channel of the render is silent and the reference is not."""

    channel: int
    start: int
    length: int


def find_gaps(reference: Source, aligned: AlignedSource) -> list[Gap]:
    """Stretches of at least 1 ms in which the render stays below −90 dBFS where the reference does not."""
    from kind_echo.core.loops import quiet_runs

    lo, hi = overlap(reference, aligned)
    channels, least = reference.channels, max(1, round(_WINDOW_SECONDS * reference.rate))
    states = np.full((channels, 3), -1, dtype=np.int64)
    out = np.zeros((_MOST_GAPS, 2), dtype=np.int64)
    found: list[Gap] = []
    for start in range(lo, hi, BLOCK):
        stop = min(start + BLOCK, hi)
        x, y = reference.read(start, stop), aligned.read(start, stop)
        if stop == hi:  # one frame that is loud on both sides closes what is open at the end
            x, y = np.concatenate([x, np.ones((1, channels))]), np.concatenate([y, np.ones((1, channels))])
        for c in range(channels):
            a, b = np.ascontiguousarray(x[:, c]), np.ascontiguousarray(y[:, c])
            count = quiet_runs(a, b, SILENT_PEAK, SILENT_PEAK, least, start, states[c], out)
            found += [Gap(c, int(s), int(n)) for s, n in out[: min(count, _MOST_GAPS)]]
    return sorted(found, key=lambda gap: (gap.start, gap.channel))


def gap_readings(gaps: list[Gap], channels: int) -> list[Reading]:
    """Count of the gaps; all channels: those that do not overlap in time counted apart."""
    merged, end = 0, -1
    for gap in gaps:
        merged += gap.start >= end
        end = max(end, gap.start + gap.length)
    each = [float(sum(gap.channel == c for gap in gaps)) for c in range(channels)]
    return for_channels("gaps", each, float(merged))


def click_readings(reference: Source, aligned: AlignedSource, scale: float) -> list[Reading]:
    """Count of the steps that stand alone in scale·render − reference, and that the reference does not make."""
    from kind_echo.core.loops import find_steps

    lo, hi = overlap(reference, aligned)
    channels, reach = reference.channels, max(8, round(_CLICK_REACH * reference.rate))
    found: list[set[int]] = [set() for _ in range(channels)]
    out = np.zeros(_MOST_GAPS, dtype=np.int64)
    for start in range(lo, hi, BLOCK):
        begin, stop = max(lo, start - 2 * reach), min(start + BLOCK + 2 * reach, hi)
        x, y = reference.read(begin, stop), aligned.read(begin, stop)
        for c in range(channels):
            a, b = np.ascontiguousarray(x[:, c]), scale * y[:, c]
            count = find_steps(a, b, reach, _CLICK_FLOOR, _CLICK_RATIO, out)
            inside = (int(i) + begin for i in out[: min(count, _MOST_GAPS)])
            found[c] |= {i for i in inside if start <= i < start + BLOCK}
    each = [float(len(steps)) for steps in found]
    moments = sorted(set().union(*found))
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
        self._window = max(1, round(_WINDOW_SECONDS * rate))
        self._peaks: list[NDArray[np.float64]] = []
        self._rest: Samples = np.empty((0, channels))

    def add(self, block: Samples, block_peak: NDArray[np.float64]) -> None:
        """Take the next frames, shape (frames, channels), and the peak of each channel in them."""
        from kind_echo.core.loops import count_rail_runs, window_peaks

        self.peak = np.maximum(self.peak, block_peak)
        if block_peak.max(initial=0.0) >= self._rail or self._run.any():
            count_rail_runs(block, self._rail, self._run, self._side, self._runs)
        if len(self._rest):
            missing = self._window - len(self._rest)
            joined = np.concatenate([self._rest, block[:missing]])
            if len(joined) < self._window:
                self._rest = joined
                return
            self._peaks.append(np.abs(joined).max(axis=0, keepdims=True))
            block = block[missing:]
        whole = len(block) // self._window
        peaks = np.empty((whole, block.shape[1]))
        window_peaks(block, self._window, peaks)
        self._peaks.append(peaks)
        self._rest = block[whole * self._window :].copy()

    def count_not_finite(self, block: Samples) -> None:
        """Count what is not finite in a block."""
        self.non_finite += (~np.isfinite(block)).sum(axis=0)

    def starts(self) -> list[int | None]:
        """For each channel the frame of the first window that stands at signal level; None for a silent channel."""
        windows = [*self._peaks, np.abs(self._rest).max(axis=0, keepdims=True)] if len(self._rest) else self._peaks
        envelope = np.concatenate(windows) if windows else np.zeros((0, len(self.peak)))
        return [self._start(envelope[:, c], float(self.peak[c])) for c in range(len(self.peak))]

    def readings(self) -> list[Reading]:
        """silent, non_finite, lead_in_silence and clipped_runs."""
        channels = len(self.peak)
        counts = [float(c) for c in self.non_finite]
        readings = for_channels("non_finite", counts, sum(counts))
        if sum(counts):
            return readings + refuse(("silent", "lead_in_silence", "clipped_runs"), channels, NOT_FINITE)
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
        threshold = max(float(envelope.min()) * _ABOVE_FLOOR, SILENT_PEAK)
        if threshold >= peak:  # nothing stands 20 dB above the quietest moment: it sounds throughout
            return 0
        return int(np.argmax(envelope > threshold)) * self._window
