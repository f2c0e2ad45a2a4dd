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
        well_db: from which no other is looked for.
        slowest_swings: that the blocks must hold.
        fastest_blocks: share of the rate of blocks that it goes to and fro at the most.
        least_blocks: that must tell.
        first_blocks: that are looked at first.
        may_leave: times what they leave each at its own delay, that they leave at one delay where it may wander.
        of_most: of the depth of a sine, within which it leaves half of the delays.
        leaning_turns: in which delays that are far off come to count little.
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
    well_db: float = 30.0
    slowest_swings: float = 1.0
    fastest_blocks: float = 0.2
    least_blocks: int = 12
    first_blocks: int = 40
    may_leave: float = 2.0
    of_most: float = 0.1
    leaning_turns: int = 6
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
    lo, hi = max(0, -centre), min(reference.frames, render.frames - centre)
    most = round(WANDER.most_seconds * reference.rate)
    lo, hi = max(lo, (lo + hi - most) // 2), min(hi, (lo + hi + most) // 2)
    if hi - lo < 16 * round(WANDER.block_seconds[-1] * reference.rate):
        return None
    best: Undone | None = None
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
            sine = _strongest(times, delays, size / reference.rate / 2)
            if sine is None:
                continue
            # The delay of the whole is that at which most of it fits, and need not be the middle of the way.
            middle = centre + round(sine.middle)
            for _ in range(WANDER.turns):
                moved_pair = _Pair(reference, lo, hi, read_padded(render, lo + middle, hi + middle))
                moved, beside = _sought(moved_pair, size, sine)
                if round(beside) == 0:
                    break
                middle += round(beside)
            off = 0.0 if moved is None else fall(moved_pair.left(reference), moved_pair.left(moved))
            if moved is not None and off >= max(WANDER.worth_db, best.off if best is not None else 0.0):
                why = f"{moved.hertz:.2f} times a second, ±{1000 * moved.depth / reference.rate:.3f} ms"
                wander = Cause("wander", amount=moved.depth, unit="samples", takes_off=off, why=why)
                best = Undone([wander], moved, render, off)
                if off >= WANDER.well_db:
                    return best
    return best


@dataclass(frozen=True)
class _Sine:
    """A sine that delays follow: its rate in Hz, its complex depth in samples, and the delay that it goes around."""

    hertz: float
    depth: complex
    middle: float


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


def _sought(pair: _Pair, size: int, told: _Sine) -> tuple[WanderingSource | None, float]:
    """The reference along a sine that the delays of blocks follow, and by how much all of it is late beside.

    None where they do not follow it closer to.
    """
    rate, hertz = pair.reference.rate, told.hertz
    sine = told.depth / _averaged(hertz, size / rate)
    beside = 0.0
    for _ in range(WANDER.turns):
        moved = WanderingSource(pair.reference, abs(sine), hertz, float(np.angle(sine)))
        times, delays = _lags(pair, moved, size, WANDER.near_samples[0]).delays(WANDER.near_samples[0])
        if len(times) < WANDER.least_blocks:
            return None, 0.0
        off = _corrected(times, delays, hertz, sine)
        hertz, beside = off.hertz, off.middle
        sine += off.depth / _averaged(hertz, size / rate)
    if abs(sine) < WANDER.least_samples:
        return None, 0.0
    return WanderingSource(pair.reference, abs(sine), hertz, float(np.angle(sine))), beside


def _averaged(hertz: float, seconds: float) -> float:
    """What a Hann window of a block leaves of a sine: its transform there, over that at none."""
    x = hertz * seconds
    return float(max(0.3, np.sinc(x) / (1 - x**2) if abs(x - 1) > 1e-3 else 0.5))


def _middle_delay(reference: Source, render: Source) -> int:
    """The middle one of the delays of segments that sound, where most lie near each other; else 0."""
    length = min(WANDER.segment_samples, render.frames // 4)
    starts = np.linspace(0, render.frames - length, WANDER.first_segments).astype(int)
    found = [delay_of_segment(reference, render, int(start), length, 0) for start in starts]
    delays = [one[0] for one in found if one is not None and abs(one[1]) >= WANDER.least_correlation]
    if len(delays) < WANDER.least_segments:
        return 0
    middle = round(float(np.median(delays)))
    close = [one for one in delays if abs(one - middle) <= WANDER.near_samples[-1]]
    return round(float(np.mean(close))) if len(close) >= WANDER.together * len(delays) else 0


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


def _strongest(times: Floats, delays: Floats, step: float) -> _Sine | None:
    """The sine that explains most of the delays; None where none explains enough."""
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
    return sine if left <= (1.0 - WANDER.explained) * whole else _of_most(times, delays, hertz)


def _of_most(times: Floats, delays: Floats, hertz: Floats) -> _Sine | None:
    """The sine that most of the delays follow, where others are whole periods of the sound away from it."""
    apart, sine = min((_leaning_fit(times, delays, rate) for rate in hertz.tolist()), key=lambda one: one[0])
    return sine if apart <= WANDER.of_most * abs(sine.depth) else None


def _leaning_fit(times: Floats, delays: Floats, rate: float) -> tuple[float, _Sine]:
    """A sine of a rate, and the middle one of the distances that it has from delays.

    Delays that are far off count little. Source: P. J. Huber, Robust Statistics: iteratively reweighted least squares.
    """
    turn = 2 * np.pi * rate * times
    basis = np.stack([np.sin(turn), np.cos(turn), np.ones_like(times)], axis=1)
    weights = np.ones_like(times)
    for _ in range(WANDER.leaning_turns):
        scaled = basis * weights[:, np.newaxis]
        found = np.linalg.solve(scaled.T @ basis + 1e-9 * np.eye(3), scaled.T @ delays)
        off = np.abs(delays - basis @ found)
        middle = float(np.median(off))
        weights = 1.0 / (1.0 + np.square(off / max(middle, 1e-3)))
    return middle, _Sine(rate, complex(found[0], found[1]), float(found[2]))


def _corrected(times: Floats, delays: Floats, hertz: float, sine: complex) -> _Sine:
    """What is to be added to the depth of a sine, its rate, and the delay beside it, told from what it leaves."""
    usual = float(np.median(delays))
    spread = 1.4826 * float(np.median(np.abs(delays - usual)))
    kept = np.abs(delays - usual) <= max(6 * spread, 0.01)
    if kept.sum() < 12:
        return _Sine(hertz, 0j, usual)
    t, d = times[kept], delays[kept]
    turn = 2 * np.pi * hertz * t
    slope = 2 * np.pi * t * abs(sine) * np.cos(turn + np.angle(sine))  # by the rate
    basis = np.stack([np.sin(turn), np.cos(turn), np.ones_like(t), slope], axis=1)
    a, b, beside, df = np.linalg.lstsq(basis, d, rcond=None)[0]
    return _Sine(hertz + float(df), complex(a, b), float(beside))


def _fitted(times: Floats, delays: Floats, hertz: float) -> tuple[float, _Sine]:
    """Squares that a sine of a rate leaves of delays, and the sine: depth·sin(2π·hertz·t + phase)."""
    turn = 2 * np.pi * hertz * times
    basis = np.stack([np.sin(turn), np.cos(turn), np.ones_like(times)], axis=1)
    found = np.linalg.lstsq(basis, delays, rcond=None)[0]
    sine = _Sine(hertz, complex(found[0], found[1]), float(found[2]))
    return float(np.square(delays - basis @ found).sum()), sine
