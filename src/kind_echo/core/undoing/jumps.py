"""Frames that were lost, repeated or exchanged: from where on, and by how many samples, a render is out of step.

Each frame of the render comes from some frame of the reference. Where it does not come from the one at the delay of the
whole, the place it comes from is looked for, and the path through all such delays that leaves least is taken.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.source import PASS, Derived, Samples, Source, as_rows, read_padded
from kind_echo.core.audio.transforms import fast_length
from kind_echo.core.causes.shares import fall
from kind_echo.core.undoing.jumps_told import Piece, jumps_of
from kind_echo.core.undoing.undone import Undone

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class SeekingJumps:
    """When frames are taken to come from elsewhere: choices of this product, which `benchmarks.causes` holds.

    Attributes:
        frame_samples: that are judged together; edges are told to the sample afterwards.
        sounds: of the mean power, under which a frame tells nothing.
        loud: of the greatest power of a frame, from which it tells the level of the render.
        worse: times the error of the better fifth of frames, from which one is out of step.
        least_error: of its power, under which a frame is in step.
        bridged_frames: in step for chance, between two that are not.
        segment_samples: of the render, that are sought in the reference.
        reach_samples: to either side.
        most_segments, most_delays: that are sought, and that are tried.
        least_correlation: of a segment with where it comes from.
        as_good, as_good_share: under the best correlation, and of what it lacks, within which a place fits as well.
        switch_cost: of the mean power of a frame, that a jump must save.
        switch_share: of all that differs, from which it is worth one at the least.
        least_frames: for which a delay must hold.
        worth_db: that the path must take off all of the difference.
        few, many_worth_db: jumps, over which they must take more off.
        drift_samples: that several jumps are greater than.
        period_frames: after a jump, in which a period is looked for, and the longest_period in samples.
        same: of its power, by which a sound a period later may differ; differs: by which it must before that.
    """

    frame_samples: int = 256
    sounds: float = 1e-5
    loud: float = 1e-3
    worse: float = 10.0
    least_error: float = 1e-4
    bridged_frames: int = 3
    segment_samples: int = 8192
    reach_samples: int = 1 << 15
    most_segments: int = 16
    most_delays: int = 10
    least_correlation: float = 0.8
    as_good: float = 1e-6
    as_good_share: float = 0.05
    switch_cost: float = 0.02
    switch_share: float = 0.02
    least_frames: int = 2
    worth_db: float = 3.0
    few: int = 4
    many_worth_db: float = 20.0
    drift_samples: int = 2
    period_frames: int = 1 << 16
    longest_period: int = 1 << 13
    same: float = 1e-8
    differs: float = 0.1


SEEKING = SeekingJumps()


@dataclass(frozen=True)
class _Sums:
    """Products over frames of the render: of the reference at each delay with itself and with the render; its own.

    Shapes (delays, channels, frames) and (channels, frames).
    """

    size: int
    own: Floats
    cross: Floats
    other: Floats

    @property
    def power(self) -> Floats:
        """Of the render, all channels together."""
        return np.asarray(self.other.sum(axis=0))

    def factors(self) -> Floats:
        """Of each channel, the factor of the render over the reference in the fifth of the frames that follows best."""
        found = np.ones(len(self.other))
        for c, yy in enumerate(self.other):
            xx, xy = self.own[:, c], self.cross[:, c]
            fits = np.divide(xy**2, xx * yy, out=np.zeros_like(xy), where=xx * yy > 0.0)
            best, at = fits.argmax(axis=0), np.arange(len(yy))
            loud = yy > SEEKING.loud * yy.max()
            if not loud.any() or not yy.any():
                continue
            good = loud & (fits[best, at] >= np.quantile(fits[best, at][loud], 0.8))
            power = float(xx[best, at][good].sum())
            found[c] = float(xy[best, at][good].sum()) / power if power > 0.0 else 1.0
        return found

    def errors(self, factors: Floats) -> Floats:
        """What is left at each delay, all channels together; shape (delays, frames)."""
        g = factors[:, None]
        left = self.other - 2 * g * self.cross + g**2 * self.own
        return np.asarray(np.maximum(left, 0.0).sum(axis=1))


@dataclass(frozen=True)
class SteppedSource(Derived):
    """A reference whose frames come as those of the render did: lost, repeated or exchanged.

    Attributes:
        pieces: of the reference's time axis: end of each, and by how many samples it is late.
    """

    pieces: tuple[tuple[int, int], ...]

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop."""
        found, at = [], start
        for end, late in self.pieces:
            until = min(stop, end)
            if until > at:
                found.append(read_padded(self.source, at - late, until - late))
                at = until
        return np.concatenate(found) if found else np.zeros((0, self.channels))


def find_jumps(reference: Source, render: Source, delay: int | None) -> Undone | None:
    """Jumps in time; None where there are none, or nothing tells.

    Args:
        delay: of the whole, in samples; None where it has none.
    """
    if render.frames < 8 * SEEKING.frame_samples:
        return None
    known = [] if delay is None else [delay]
    segments = _all_over(render) if delay is None else _out_of_step(reference, render, delay)
    loudest = max((_energy(render, *segment) for segment in segments), default=0.0)
    sign = 0.0
    for segment in segments:
        if _energy(render, *segment) <= SEEKING.sounds * loudest:
            continue
        found = delay_of_segment(reference, render, *segment, delay or 0, sign)
        if found is not None and abs(found[1]) >= SEEKING.least_correlation:
            # Half a period of a tone later it is inverted: all of a render is upright, or none is.
            sign = sign or float(np.sign(found[1]))
            known += [found[0]] if found[0] not in known else []
    known = known[: SEEKING.most_delays]
    if len(known) < 2:
        return None
    sums = _sums(reference, render, known)
    factors = sums.factors()
    errors = sums.errors(factors)
    # In a quiet part, where all else is the same, a jump saves little of the power, but most of what differs.
    cost = min(SEEKING.switch_cost * float(sums.power.mean()), SEEKING.switch_share * float(errors.sum(axis=1).min()))
    path = _cheapest(errors, cost)
    pieces = _refined(reference, render, _pieces(path, known, sums.size, render.frames), factors, sums.size)
    pieces = _within(pieces, reference.frames - sums.size)
    sounding = int(np.flatnonzero(sums.power)[-1]) if sums.power.any() else 0
    left = errors[path, np.arange(len(path))][:sounding]  # where frames were lost the render ends in silence
    off = fall(float(errors[:, :sounding].sum(axis=1).min()), float(left.sum()))
    jumps = [abs(b.delay - a.delay) for a, b in pairwise(pieces)]
    if not jumps or off < (SEEKING.worth_db if len(jumps) <= SEEKING.few else SEEKING.many_worth_db):
        return None
    if len(jumps) > 1 and max(jumps) <= SEEKING.drift_samples:
        return None  # so does a clock that runs apart
    base = pieces[0].delay
    ends = tuple((piece.last - base if piece is not pieces[-1] else 1 << 62, piece.delay - base) for piece in pieces)
    causes = jumps_of(pieces, reference, render, factors, off)
    again = _comes_again(reference, pieces[-1].first - base)
    if again is not None and len(jumps) == 1:
        jump = pieces[1].delay - pieces[0].delay
        nearest = jump - again * round(jump / again)
        if nearest == 0:
            return None
        what = f"{-nearest} samples lost" if nearest < 0 else causes[0].why if nearest == jump else f"{nearest} put in"
        why = f"{what}, or any whole periods of {again} samples more"
        causes = [replace(causes[0], amount=float(nearest), why=why), *causes[1:]]
    return Undone(causes, SteppedSource(reference, ends), render, off)


def _comes_again(reference: Source, first: int) -> int | None:
    """The samples after which a reference is the same again to its end, from a frame on; None for none."""
    first = min(max(first, 0), reference.frames)
    x = reference.read(first, min(reference.frames, first + SEEKING.period_frames))
    size = len(x) - SEEKING.longest_period
    if size < SEEKING.longest_period or not x.any():
        return None
    x = x[:, int(np.square(x).sum(axis=0).argmax())]
    length = fast_length(len(x))
    lags = fft.irfft(np.conj(fft.rfft(x[:size], length)) * fft.rfft(x, length), length)[: SEEKING.longest_period]
    energy = np.concatenate([[0.0], np.cumsum(x**2)])
    met = energy[size : size + SEEKING.longest_period] - energy[: SEEKING.longest_period]
    apart = np.maximum(energy[size] + met - 2 * lags, 0.0)
    same = np.flatnonzero(apart[1:] <= SEEKING.same * energy[size]) + 1
    # Beside a lag of nothing low sounds are much the same too.
    differs = np.flatnonzero(apart > SEEKING.differs * energy[size])
    after = same[same > differs[0]] if len(differs) else same[:0]
    return int(after[0]) if len(after) else None


def _energy(source: Source, at: int, length: int) -> float:
    return float(np.square(read_padded(source, at, at + length)).sum())


def delay_of_segment(
    reference: Source, render: Source, at: int, length: int, centre: int, sign: float = 0.0
) -> tuple[int, float] | None:
    """Where a segment of the render comes from: its delay in whole samples, and the correlation there; None if silent.

    Args:
        at, length: samples of the render.
        centre: of the delays that are looked at.
        sign: of the correlation; 0 for either.
    """
    reach = SEEKING.reach_samples
    y = np.diff(read_padded(render, at, at + length), axis=0)  # what is low and loud would hide the rest
    channel = int(np.square(y).sum(axis=0).argmax())
    y = y[:, channel]
    lo = at - centre - reach
    x = np.diff(read_padded(reference, lo, at + length - centre + reach)[:, channel])
    own = float(y @ y)
    if own <= 0.0:
        return None
    size = fast_length(len(x))
    lags = fft.irfft(np.conj(fft.rfft(y, size)) * fft.rfft(x, size), size)[: 2 * reach + 1]
    energy = np.concatenate([[0.0], np.cumsum(x**2)])
    met = energy[len(y) : len(y) + 2 * reach + 1] - energy[: 2 * reach + 1]
    heard = met > 1e-4 * own
    alike = np.divide(lags, np.sqrt(own * np.maximum(met, 0.0)), out=np.zeros_like(lags), where=heard)
    told = sign * alike if sign else np.abs(alike)
    # A sound that comes again fits in many places: the nearest is taken.
    most = float(told.max())
    good = np.flatnonzero(told >= most - max(SEEKING.as_good, SEEKING.as_good_share * (1.0 - most)))
    best = int(good[np.abs(good - reach).argmin()])
    return at - (lo + best), float(alike[best])


def _all_over(render: Source) -> list[tuple[int, int]]:
    length = min(SEEKING.segment_samples, render.frames // 4)
    starts = np.linspace(0, render.frames - length, SEEKING.most_segments).astype(int)
    return [(int(start), length) for start in starts]


def _out_of_step(reference: Source, render: Source, delay: int) -> list[tuple[int, int]]:
    """Stretches of the render that do not follow at the delay while others do; the longest first."""
    sums = _sums(reference, render, [delay])
    errors, power = sums.errors(sums.factors())[0], sums.power
    sounds = power > SEEKING.sounds * power.mean()
    if not sounds.any():
        return []
    share = errors / np.maximum(power, 1e-300)
    usual = float(np.quantile(share[sounds], 0.2))
    bad = _bridged(sounds & (share > max(SEEKING.worse * usual, SEEKING.least_error)))
    edges = np.flatnonzero(np.diff(np.concatenate([[False], bad, [False]]).astype(int))).reshape(-1, 2) * sums.size
    found: list[tuple[int, int]] = []
    for first, last in sorted(edges.tolist(), key=lambda run: run[0] - run[1])[: SEEKING.most_segments]:
        length = min(last - first, SEEKING.segment_samples)
        if length >= SEEKING.least_frames * sums.size:
            # Of a long one, its beginning, its middle and its end may lie apart.
            starts = {first, (first + last - length) // 2, last - length}
            if last - first < 2 * length:
                # A short one may be two blocks that changed places.
                half = (last - first) // 2
                found += [_inside(first, half, sums.size), _inside(last - half, half, sums.size)]
                found.append(_inside(first, last - first, sums.size))
            found += [(start, length) for start in sorted(starts)]
    return found


def _inside(first: int, length: int, frame: int) -> tuple[int, int]:
    """A stretch without its ends, which may be of what comes beside it."""
    margin = min(frame, length // 6)
    return first + margin, length - 2 * margin


def _bridged(bad: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """With short stretches between two that are bad."""
    width = SEEKING.bridged_frames
    places = np.flatnonzero(bad)
    filled = bad.copy()
    for a, b in pairwise(places):
        if 1 < b - a <= width + 1:
            filled[a:b] = True
    return filled


def _sums(reference: Source, render: Source, delays: Sequence[int]) -> _Sums:
    size = SEEKING.frame_samples
    parts = []
    for x, y in _rows(reference, render, delays, size):
        a, b = x.reshape(*x.shape[:2], -1, size), y.reshape(len(y), -1, size)
        parts.append((np.einsum("kcfs,kcfs->kcf", a, a), np.einsum("kcfs,cfs->kcf", a, b),
                      np.einsum("cfs,cfs->cf", b, b)))  # fmt: skip
    own, cross, other = (np.concatenate([part[i] for part in parts], axis=-1) for i in range(3))
    return _Sums(size, own, cross, other)


def _rows(reference: Source, render: Source, delays: Sequence[int], size: int) -> Iterator[tuple[Floats, Floats]]:
    """Blocks of whole frames: the reference at each delay, and the render."""
    end = render.frames // size * size
    for start in range(0, end, PASS):
        stop = min(start + PASS, end)
        x = np.stack([as_rows(read_padded(reference, start - delay, stop - delay)) for delay in delays])
        yield x, as_rows(render.read(start, stop))


def _cheapest(errors: Floats, switch: float) -> NDArray[np.int64]:
    """The delay of each frame on the path that leaves least, where each change of delay costs so much.

    Source: A. J. Viterbi, Error bounds for convolutional codes, IEEE Trans. Information Theory 13 (1967).
    """
    count, frames = errors.shape
    total, came = errors[:, 0].copy(), np.zeros((frames, count), np.int16)
    for frame in range(1, frames):
        least = int(total.argmin())
        stays = total <= total[least] + switch
        came[frame] = np.where(stays, np.arange(count), least)
        total = np.where(stays, total, total[least] + switch) + errors[:, frame]
    path = np.empty(frames, np.int64)
    path[-1] = int(total.argmin())
    for frame in range(frames - 1, 0, -1):
        path[frame - 1] = came[frame, path[frame]]
    return path


def _within(pieces: list[Piece], end: int) -> list[Piece]:
    """The pieces but for those that only begin, or end, where the one beside them has no more of the reference."""
    while len(pieces) > 1 and pieces[-1].first - pieces[-2].delay >= end:
        pieces = [*pieces[:-2], replace(pieces[-2], last=pieces[-1].last)]
    while len(pieces) > 1 and pieces[0].last - pieces[1].delay <= 0:
        pieces = [replace(pieces[1], first=0), *pieces[2:]]
    return pieces


def _pieces(path: NDArray[np.int64], delays: Sequence[int], size: int, frames: int) -> list[Piece]:
    edges = [0, *(np.flatnonzero(np.diff(path)) + 1).tolist(), len(path)]
    pieces = [Piece(a * size, b * size, delays[int(path[a])]) for a, b in pairwise(edges)]
    last = pieces[-1]
    return [*pieces[:-1], Piece(last.first, frames, last.delay)]


def _refined(reference: Source, render: Source, pieces: list[Piece], factors: Floats, size: int) -> list[Piece]:
    """The pieces with their edges to the sample: where the one delay begins to leave more than the other."""
    edges = [0]
    for one, other in pairwise(pieces):
        lo = max(edges[-1], one.last - 2 * size)
        hi = min(render.frames, one.last + 2 * size)
        y = render.read(lo, hi)
        left = [
            np.square(y - factors * read_padded(reference, lo - late, hi - late)).sum(axis=1)
            for late in (one.delay, other.delay)
        ]
        gone = np.concatenate([[0.0], np.cumsum(left[0] - left[1])])
        edges.append(lo + int(gone.argmin()))
    edges.append(render.frames)
    found: list[Piece] = []
    for piece, first, last in zip(pieces, edges[:-1], edges[1:], strict=True):
        if found and (last - first < 8 or (last == render.frames and last - first < size)):
            continue  # what comes after the end of the reference fits anything
        if found and found[-1].delay == piece.delay:
            found[-1] = Piece(found[-1].first, last, piece.delay)
        else:
            found.append(Piece(first, last, piece.delay))
    return [*found[:-1], replace(found[-1], last=render.frames)]
