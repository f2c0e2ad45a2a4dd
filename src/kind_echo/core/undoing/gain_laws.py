"""Laws of a gain over time: steps, a ramp, a swing, fitted to what frames say of it."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.registry.numbers import number

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class SeekingMotion:
    """When a gain is told to move with time: choices of this product, which `benchmarks.causes` holds.

    Attributes:
        frame_samples: over which the gain is told.
        most_frames: that laws are fitted to; of more, neighbours are added up.
        explained: of what a gain of its own for each frame takes off, that a law takes off.
        worth_db: that it must take off all of the difference.
        step_worth_db: that a further step must.
        little: of the difference, that steps may leave: each ends within a frame.
        most_steps: that are told.
        step_frames: that a ramp lasts, up to which it is a step.
        faded: of the one level, under which the other is none.
        starts: places in a file from which a ramp is sought to begin and to end.
        slowest_swings: of a swing, that a file must hold.
        fastest_hertz: of a swing.
        alike_db, alike: within which channels move alike.
        least_level_seconds: that a level lasts between two steps.
        most_step_db: that a level steps; from there on it is a gap.
        least_db: by which a gain moves.
    """

    frame_samples: int = 512
    most_frames: int = 4096
    explained: float = 0.9
    worth_db: float = 3.0
    step_worth_db: float = 3.0
    little: float = 0.003
    most_steps: int = 6
    step_frames: float = 3.0
    faded: float = 10 ** (-30 / 20)
    starts: int = 9
    slowest_swings: float = 2.0
    fastest_hertz: float = 25.0
    alike_db: float = 0.05
    alike: float = 0.05
    least_level_seconds: float = 0.1
    most_step_db: float = 30.0
    least_db: float = 0.01


MOTION = SeekingMotion()
_LEAST_GAIN_FACTOR = 1e-4  # −80 dB: what stands for a gain of nothing

Law = Callable[[Floats], Floats]
"""Factors at times in seconds."""


@dataclass(frozen=True)
class Moving:
    """A law of a channel's gain over time, how much it moves in dB, words for it, and where it holds.

    Attributes:
        edges, levels: of steps, their seconds, and the factors before, between and after them.
    """

    law: Law
    amount: float
    words: str
    left: float
    start: float | None = None
    length: float | None = None
    edges: tuple[float, ...] = ()
    levels: tuple[float, ...] = ()


@dataclass(frozen=True)
class Track:
    """Sums over the frames of a channel, their times, and the seconds of each."""

    times: Floats
    own: Floats
    cross: Floats
    other: Floats
    seconds: float

    def left(self, factors: Floats) -> float:
        """What factors leave of the channel."""
        return max(0.0, float((self.other - 2 * factors * self.cross + factors**2 * self.own).sum()))


def fit_steps(track: Track) -> Moving | None:
    """Levels between which the gain steps, each split where that leaves least."""
    xx, xy = (np.concatenate([[0.0], np.cumsum(side)]) for side in (track.own, track.cross))
    total = float(track.other.sum())

    def kept(lo: int, hi: int) -> float:
        own = xx[hi] - xx[lo]
        return float((xy[hi] - xy[lo]) ** 2 / own) if own > 0.0 else 0.0

    edges = [0, len(track.own)]
    tried = [(total - kept(0, len(track.own)), edges)]
    # A level that comes back makes two steps, of which neither is worth much by itself.
    for _ in range(MOTION.most_steps):
        best: tuple[float, int] | None = None
        for lo, hi in pairwise(edges):
            places = np.arange(lo + 2, hi - 1)
            if len(places) == 0:
                continue
            one, other = xx[places] - xx[lo], xx[hi] - xx[places]
            gained = (
                np.divide((xy[places] - xy[lo]) ** 2, one, out=np.zeros(len(places)), where=one > 0.0)
                + np.divide((xy[hi] - xy[places]) ** 2, other, out=np.zeros(len(places)), where=other > 0.0)
                - kept(lo, hi)
            )
            at = int(gained.argmax())
            if best is None or gained[at] > best[0]:
                best = float(gained[at]), int(places[at])
        if best is None:
            break
        edges = sorted([*edges, best[1]])
        tried.append((max(0.0, tried[-1][0] - best[0]), edges))
    # The fewest steps that leave little, or little more than many.
    enough = max(tried[-1][0] * 10 ** (MOTION.step_worth_db / 10), MOTION.little * tried[0][0])
    left, edges = next(one for one in tried if one[0] <= enough)
    if len(edges) < 3:
        return None
    levels = [float((xy[hi] - xy[lo]) / (xx[hi] - xx[lo])) if xx[hi] > xx[lo] else 1.0 for lo, hi in pairwise(edges)]
    seconds = [float(track.times[0] + (edge - 0.5) * track.seconds) for edge in edges[1:-1]]
    return stepping(seconds, levels, max(0.0, left))


def stepping(at: Sequence[float], levels: Sequence[float], left: float) -> Moving:
    """A law of steps at some seconds between levels."""

    def law(times: Floats) -> Floats:
        return np.asarray(np.array(levels)[np.searchsorted(at, times + 1e-9, "right")])

    moves = [_decibels(b) - _decibels(a) for a, b in pairwise(levels)]
    words = "steps by " + ", ".join(
        f"{number(move, '+.2f')} dB at {place:.3f} s" for move, place in zip(moves, at, strict=True)
    )
    return Moving(law, max(moves, key=abs), words, left, at[0], edges=tuple(at), levels=tuple(levels))


def is_gap(found: Moving) -> bool:
    """Whether steps are those of a gap: a level that all but vanishes, or that does not last."""
    lasts = min((b - a for a, b in pairwise(found.edges)), default=math.inf)
    return bool(found.edges) and (abs(found.amount) > MOTION.most_step_db or lasts < MOTION.least_level_seconds)


def fit_ramp(track: Track, half: float) -> Moving | None:
    """A gain that goes from one level to another, straight in amplitude or in dB, over all or a part of the file.

    Args:
        half: what leaves less than that may be worth telling exactly.
    """
    begins, ends = track.times[0] - track.seconds / 2, track.times[-1] + track.seconds / 2
    grid = np.linspace(begins, ends, MOTION.starts)
    best: tuple[float, float, float] | None = None  # left, begin, end
    for i, a in enumerate(grid[:-1]):
        for b in grid[i + 1 :]:
            left, _ = _levels(track, a, b)
            if best is None or left < best[0]:
                best = left, float(a), float(b)
    if best is None or best[0] > half:
        return None  # nor would another be the best
    least = track.seconds

    def left_of(p: Floats) -> float:
        a, b = sorted(p.tolist())
        return _levels(track, a, max(b, a + least))[0]

    edge = grid[1] - grid[0]
    moved, _ = _least(left_of, np.array(best[1:]), np.array([edge / 3, -edge / 3]))
    a, b = sorted(moved.tolist())
    b = max(b, a + least)
    left, levels = _levels(track, a, b)

    law = _straight(a, b, levels)
    if min(levels) > 0.05:

        def bent(p: Floats) -> float:
            return track.left(np.exp(np.interp(track.times, sorted(p[:2]), p[2:])))

        first = np.array([a, b, math.log(levels[0]), math.log(levels[1])])
        again, lower = _least(bent, first, np.array([least, -least, 0.01, 0.01]))
        if lower < left:
            left = lower
            a, b = sorted(again[:2].tolist())
            law = _exponential(a, b, again[2:].tolist())
    a, b = max(a, begins), min(b, ends)
    edges = law(np.array([a, b]))
    amount = _decibels(float(edges[1])) - _decibels(float(edges[0]))
    if b - a <= MOTION.step_frames * track.seconds:
        return None  # that is a step
    words = f"goes by {number(amount, '+.2f')} dB from {a:.2f} to {b:.2f} s"
    if edges.min() < MOTION.faded * edges.max():
        words = f"fades {'in' if amount > 0 else 'out'} from {a:.2f} to {b:.2f} s"
    return Moving(law, amount, words, left, a, b - a)


def _straight(a: float, b: float, levels: Sequence[float]) -> Law:
    return lambda times: np.asarray(np.interp(times, [a, b], levels))


def _exponential(a: float, b: float, logs: Sequence[float]) -> Law:
    return lambda times: np.asarray(np.exp(np.interp(times, [a, b], logs)))


def _levels(track: Track, a: float, b: float) -> tuple[float, list[float]]:
    """What a straight ramp between two times leaves at its best levels, and these."""
    rise = np.clip((track.times - a) / max(b - a, 1e-9), 0.0, 1.0)
    basis = np.stack([1.0 - rise, rise])
    gram = (basis * track.own) @ basis.T
    wanted = basis @ track.cross
    levels = np.linalg.lstsq(gram + 1e-12 * np.trace(gram) * np.eye(2), wanted, rcond=None)[0]
    levels = np.maximum(levels, 0.0)
    return track.left(levels @ basis), levels.tolist()


def fit_swing(track: Track, half: float) -> Moving | None:
    """A gain that goes up and down as a sine, in dB; `half` as in `fit_ramp`."""
    span = len(track.times) * track.seconds
    gains = np.divide(track.cross, track.own, out=np.ones_like(track.own), where=track.own > 0.0)
    heard = (track.own > 1e-4 * track.own.mean()) & (gains > 0.0)
    if heard.sum() < 16:
        return None
    logs = np.log(np.where(heard, np.maximum(gains, _LEAST_GAIN_FACTOR), 1.0))
    usual = float(np.median(logs[heard]))
    weight = np.where(heard, 1.0, 0.0)
    hertz = np.arange(MOTION.slowest_swings / span, min(MOTION.fastest_hertz, 0.4 / track.seconds), 0.25 / span)
    if len(hertz) == 0:
        return None
    sums = np.exp(-2j * np.pi * np.outer(hertz, track.times)) @ (weight * (logs - usual))
    best = int(np.abs(sums).argmax())
    turn = 2 * sums[best] / weight.sum()

    def law_of(p: Sequence[float]) -> Law:
        level, cosine, sine, rate = p
        return lambda times: np.asarray(
            np.exp(level + cosine * np.cos(2 * np.pi * rate * times) + sine * np.sin(2 * np.pi * rate * times))
        )

    first = np.array([usual, turn.real, -turn.imag, hertz[best]])
    depth = 0.1 * abs(turn) + 1e-4
    if track.left(law_of(first.tolist())(track.times)) > half:
        return None  # nor would another near it
    steps = np.array([0.01, depth, depth, 0.1 / span])
    found, left = _least(lambda p: track.left(law_of(p.tolist())(track.times)), first, steps)
    level, cosine, sine, rate = found.tolist()
    # What is told over frames is a little less than what swings within them.
    wide = float(np.sinc(rate * track.seconds))
    depth = math.hypot(cosine, sine) / max(wide, 0.1) * 20 / math.log(10)
    law = law_of((level, cosine / wide, sine / wide, rate))
    words = f"swings by ±{depth:.2f} dB, {rate:.2f} times a second"
    return Moving(law, depth, words, left)


def _least(objective: Callable[[Floats], float], start: Floats, steps: Floats) -> tuple[Floats, float]:
    """Where an objective is least near a start, and its value there.

    Source: J. A. Nelder and R. Mead, A simplex method for function minimization, Computer Journal 7 (1965).
    """
    from scipy.optimize import minimize  # slow to load, and few gains move

    scale = max(objective(start), 1e-300)
    simplex = np.vstack([start, start + np.diag(steps)])
    exactly: dict[str, Any] = {"initial_simplex": simplex, "xatol": 1e-7, "fatol": 1e-12, "maxiter": 2000}
    found: Any = minimize(  # type: ignore[call-overload]  # the stubs know no initial simplex
        lambda p: objective(np.asarray(p)) / scale, start, method="Nelder-Mead", options=exactly
    )
    return np.asarray(found.x), float(found.fun) * scale


def _decibels(factor: float) -> float:
    return 20 * math.log10(max(abs(factor), _LEAST_GAIN_FACTOR))
