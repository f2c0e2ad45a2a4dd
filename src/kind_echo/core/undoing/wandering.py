"""A delay that goes to and fro: how far, how often, and the reference read along with it."""

import math
from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.source import Derived, Samples, Source, read_padded
from kind_echo.core.audio.transforms import hann
from kind_echo.core.audio.warping import read_between
from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.shares import fall
from kind_echo.core.undoing.jumps import delay_of_segment
from kind_echo.core.undoing.undone import Undone

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class SeekingWander:
    """When a delay is told to wander: choices of this product, which `benchmarks.causes` holds.

    Attributes:
        block_seconds: of which a delay is told, the longest first: what wanders fast needs short ones.
        most_seconds: that are looked at, from the middle of a file.
        oversampled: steps of a delay to the sample.
        near_samples: around the delay of the whole, within which it wanders, the least first: tones come again.
        first_segments, segment_samples: that the delay of the whole is told from, where it is not known.
        least_segments, together: that must tell it, and the share of them that lie near each other.
        least_correlation: of a block, from which its delay counts.
        explained: of the variance of delays, that a sine takes off.
        least_samples: by which it wanders.
        worth_db: that it must take off the difference.
        slowest_swings: that the blocks must hold.
        fastest_blocks: share of the rate of blocks that it goes to and fro at the most.
        least_blocks: that must tell.
        first_blocks: that are looked at first.
        may_leave: times what they leave each at its own delay, that they leave at one delay where it may wander.
        turns: in which the sine is told anew with what was found undone.
    """

    block_seconds: tuple[float, ...] = (0.1, 0.04)
    most_seconds: float = 6.0
    oversampled: int = 4
    near_samples: tuple[int, ...] = (8, 64, 256)
    first_segments: int = 24
    segment_samples: int = 2048
    least_segments: int = 4
    together: float = 0.6
    least_correlation: float = 0.5
    explained: float = 0.9
    least_samples: float = 0.01
    worth_db: float = 6.0
    slowest_swings: float = 1.0
    fastest_blocks: float = 0.2
    least_blocks: int = 12
    first_blocks: int = 40
    may_leave: float = 2.0
    turns: int = 2


WANDER = SeekingWander()


@dataclass(frozen=True)
class WanderingSource(Derived):
    """A reference that is late by a sine of the time: depth·sin(2π·hertz·t + phase) samples."""

    depth: float
    hertz: float
    phase: float

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop."""
        frames = np.arange(start, stop)
        late = self.depth * np.sin(2 * np.pi * self.hertz * frames / self.rate + self.phase)
        return read_between(self.source, frames - late)


def find_wander(reference: Source, render: Source, delay: float | None) -> Undone | None:
    """A delay that wanders as a sine; None where it does not, or nothing tells.

    Args:
        delay: of the whole, in samples; None where it has none.
    """
    centre = _middle_delay(reference, render) if delay is None else round(delay)
    if centre is None:
        return None
    lo, hi = max(0, -centre), min(reference.frames, render.frames - centre)
    most = round(WANDER.most_seconds * reference.rate)
    lo, hi = max(lo, (lo + hi - most) // 2), min(hi, (lo + hi + most) // 2)
    if hi - lo < 16 * round(WANDER.block_seconds[-1] * reference.rate):
        return None
    for seconds in WANDER.block_seconds:
        size = 1 << round(math.log2(seconds * reference.rate))
        every = max(1, (hi - lo) // (size // 2 * WANDER.first_blocks))
        pair = _Pair(reference, lo, hi, read_padded(render, lo + centre, hi + centre))
        if not _may_wander(_lags(pair, reference, size, WANDER.near_samples[-1], every)):
            continue
        lags = _lags(pair, reference, size, WANDER.near_samples[-1])
        for near in WANDER.near_samples:
            times, delays = lags.delays(near)
            if len(times) < WANDER.least_blocks:
                continue
            # The delay of the whole is that at which most of it fits, and need not be the middle of the way.
            middle = centre + round(float(_middle(times, delays)))
            moved_pair = _Pair(reference, lo, hi, read_padded(render, lo + middle, hi + middle))
            moved = _sought(moved_pair, size, (times, delays - (middle - centre)))
            off = 0.0 if moved is None else fall(moved_pair.left(reference), moved_pair.left(moved))
            if moved is not None and off >= WANDER.worth_db:
                why = f"{moved.hertz:.2f} times a second, ±{1000 * moved.depth / reference.rate:.3f} ms"
                wander = Cause("wander", amount=moved.depth, unit="samples", takes_off=off, why=why)
                return Undone([wander], moved, render, off)
    return None


def _middle(times: Floats, delays: Floats) -> float:
    """Half-way between the delays at the ends of the way, without the farthest."""
    low, high = np.percentile(delays, [5, 95])
    return 0.5 * float(low + high) if len(times) else 0.0


@dataclass(frozen=True)
class _Pair:
    """A stretch of a reference, and the samples of the render that lie over it."""

    reference: Source
    lo: int
    hi: int
    y: Samples

    def left(self, side: Source) -> float:
        """What a gain leaves of the stretch, all channels together, with another source for the reference."""
        x = side.read(self.lo, self.hi)
        own, cross = np.einsum("fc,fc->c", x, x), np.einsum("fc,fc->c", x, self.y)
        off = np.divide(cross**2, own, out=np.zeros(len(own)), where=own > 0.0)
        return max(0.0, float((np.einsum("fc,fc->c", self.y, self.y) - off).sum()))


def _sought(pair: _Pair, size: int, told: tuple[Floats, Floats]) -> WanderingSource | None:
    """The reference along the sine that the delays of blocks follow; None where they follow none.

    Args:
        told: seconds of blocks, and their delays in samples.
    """
    rate = pair.reference.rate
    found = _strongest(*told, size / rate / 2) if len(told[0]) >= WANDER.least_blocks else None
    if found is None:
        return None
    hertz, sine = found
    sine /= _averaged(hertz, size / rate)
    for _ in range(WANDER.turns):
        moved = WanderingSource(pair.reference, abs(sine), hertz, float(np.angle(sine)))
        times, delays = _lags(pair, moved, size, WANDER.near_samples[0]).delays(WANDER.near_samples[0])
        if len(times) < WANDER.least_blocks:
            return None
        step, hertz = _corrected(times, delays, hertz, sine)
        sine += step / _averaged(hertz, size / rate)
    if abs(sine) < WANDER.least_samples:
        return None
    return WanderingSource(pair.reference, abs(sine), hertz, float(np.angle(sine)))


def _averaged(hertz: float, seconds: float) -> float:
    """What a Hann window of a block leaves of a sine: its transform there, over that at none."""
    x = hertz * seconds
    return float(max(0.3, np.sinc(x) / (1 - x**2) if abs(x - 1) > 1e-3 else 0.5))


def _middle_delay(reference: Source, render: Source) -> int | None:
    """The middle one of the delays of segments that sound, where most lie near each other."""
    length = min(WANDER.segment_samples, render.frames // 4)
    starts = np.linspace(0, render.frames - length, WANDER.first_segments).astype(int)
    found = [delay_of_segment(reference, render, int(start), length, 0) for start in starts]
    delays = [one[0] for one in found if one is not None and abs(one[1]) >= WANDER.least_correlation]
    if len(delays) < WANDER.least_segments:
        return None
    middle = round(float(np.median(delays)))
    close = [one for one in delays if abs(one - middle) <= WANDER.near_samples[-1]]
    return round(float(np.mean(close))) if len(close) >= WANDER.together * len(delays) else None


@dataclass(frozen=True)
class _Lags:
    """Of blocks that sound: seconds of their middles, and how they correlate at lags around that of the whole.

    Attributes:
        values: coefficients, shape (blocks, 2·reach + 1).
        reach: steps of the lags to either side.
    """

    times: Floats
    values: Floats
    reach: int

    def delays(self, near: int) -> tuple[Floats, Floats]:
        """Seconds, and the delay in samples at which each block that tells correlates best, within `near`."""
        reach = min(self.reach, near * WANDER.oversampled)
        around = np.abs(self.values[:, self.reach - reach : self.reach + reach + 1])
        best, at = around.argmax(axis=1), np.arange(len(around))
        told = (best > 0) & (best < 2 * reach) & (around[at, best] >= WANDER.least_correlation)
        around, best, at = around[told], best[told], np.arange(int(told.sum()))
        a, b, c = (around[at, best + k] for k in (-1, 0, 1))
        bend = a - 2 * b + c
        beyond = np.divide(0.5 * (a - c), bend, out=np.zeros(len(a)), where=bend < 0.0)
        return self.times[told], (best - reach + beyond) / WANDER.oversampled


def _lags(pair: _Pair, reference: Source, size: int, near: int, every: int = 1) -> _Lags:
    """Of blocks of a size; of a long stretch, of each so many."""
    xs = np.diff(reference.read(pair.lo, pair.hi), axis=0)  # what is low and loud would hide the rest
    ys = np.diff(pair.y, axis=0)
    window = hann(size)[:, None]
    reach = min(near, size // 4) * WANDER.oversampled
    times, values, powers = [], [], []
    for start in range(0, len(xs) - size + 1, size // 2 * every):
        x, y = xs[start : start + size] * window, ys[start : start + size] * window
        own, other = float((x * x).sum()), float((y * y).sum())
        if own <= 0.0 or other <= 0.0:
            continue
        cross = (np.conj(fft.rfft(x, 2 * size, axis=0)) * fft.rfft(y, 2 * size, axis=0)).sum(axis=1)
        lags = fft.irfft(cross, 2 * size * WANDER.oversampled) * (WANDER.oversampled / math.sqrt(own * other))
        values.append(np.concatenate([lags[-reach:], lags[: reach + 1]]))
        times.append((pair.lo + start + size / 2) / pair.reference.rate)
        powers.append(own)
    heard = np.array(powers) > 1e-5 * np.mean(powers) if powers else np.zeros(0, bool)
    return _Lags(np.array(times)[heard], np.array(values).reshape(len(powers), 2 * reach + 1)[heard], reach)


def _may_wander(lags: _Lags) -> bool:
    """Whether blocks correlate clearly better each at a delay of its own."""
    if len(lags.times) < WANDER.least_blocks:
        return False
    there = np.abs(lags.values[:, lags.reach])
    best = np.abs(lags.values).max(axis=1)
    return bool(np.mean(1.0 - there**2) > WANDER.may_leave * np.mean(1.0 - best**2) + 1e-9)


def _strongest(times: Floats, delays: Floats, step: float) -> tuple[float, complex] | None:
    """Rate in Hz and complex depth of the sine that explains most of the delays; None where none explains enough."""
    span = float(times[-1] - times[0])
    hertz = np.arange(WANDER.slowest_swings / span, WANDER.fastest_blocks / step, 0.1 / span)
    usual = float(np.median(delays))
    spread = 1.4826 * float(np.median(np.abs(delays - usual)))
    kept = np.abs(delays - usual) <= max(6 * spread, 0.05)
    if len(hertz) == 0 or kept.sum() < 12:
        return None
    times, delays = times[kept], delays[kept]
    coarse = np.abs(np.exp(-2j * np.pi * np.outer(hertz, times)) @ (delays - delays.mean()))
    rate = float(hertz[int(coarse.argmax())])
    for width in (0.1 / span, 0.02 / span):
        near = rate + width * np.linspace(-1, 1, 11)
        rate = float(near[int(np.argmin([_fitted(times, delays, f)[0] for f in near]))])
    left, sine = _fitted(times, delays, rate)
    whole = float(np.square(delays - delays.mean()).sum())
    return (rate, sine) if left <= (1.0 - WANDER.explained) * whole else None


def _corrected(times: Floats, delays: Floats, hertz: float, sine: complex) -> tuple[complex, float]:
    """What is to be added to a sine, and its rate, told from the delays that are left with it undone."""
    usual = float(np.median(delays))
    spread = 1.4826 * float(np.median(np.abs(delays - usual)))
    kept = np.abs(delays - usual) <= max(6 * spread, 0.01)
    if kept.sum() < 12:
        return 0j, hertz
    t, d = times[kept], delays[kept]
    turn = 2 * np.pi * hertz * t
    slope = 2 * np.pi * t * abs(sine) * np.cos(turn + np.angle(sine))  # by the rate
    basis = np.stack([np.sin(turn), np.cos(turn), np.ones_like(t), slope], axis=1)
    a, b, _, df = np.linalg.lstsq(basis, d, rcond=None)[0]
    return complex(a, b), hertz + float(df)


def _fitted(times: Floats, delays: Floats, hertz: float) -> tuple[float, complex]:
    """Squares that a sine of a rate leaves of delays, and its complex depth: of depth·sin(2π·hertz·t + phase)."""
    turn = 2 * np.pi * hertz * times
    basis = np.stack([np.sin(turn), np.cos(turn), np.ones_like(times)], axis=1)
    found = np.linalg.lstsq(basis, delays, rcond=None)[0]
    return float(np.square(delays - basis @ found).sum()), complex(found[0], found[1])
