"""A tone whose level steps, as in bursts, gates and staircases: what holds is told apart from what its edges do.

Where the tone holds its level, a filter is a factor and a turn of its phase, the same at every level. What differs
beside that lies at the edges alone: as a gain that comes back after each rise, or as a filter that settles.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source, read_padded
from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.shares import fall
from kind_echo.core.registry.numbers import number
from kind_echo.core.undoing.tones import strongest

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]


@dataclass(frozen=True)
class JudgingLevels:
    """When the edges of a tone are told to have changed: choices of this product, which `benchmarks.causes` holds.

    Attributes:
        most_frames: of a pair.
        periods, least_samples: of the frames in which tone and gain are told.
        heard: of the greatest level, under which a frame tells nothing; full: from which it counts wholly.
        holds: of its level, by which a tone that holds it may differ from the frames beside it.
        least_frames: that hold; at either end, what is an edge of the file.
        settled: share of those that hold, of which that is asked where a gain moves.
        one_factor: by which the factor may differ between frames that hold.
        at_edges: share of what is left, that lies at the edges.
        least_left: of the power of the render, that is left there.
        upright: share of that, which a real gain in each frame takes off where a gain moves.
        least_db: by which such a gain moves.
        alike: correlation of the gains after one rise with those after the others.
        most_periods: of a delay that is tried; late_share: of what is left beside the edges, that it may leave.
        settling_seconds: after a rise, in which gains are compared.
    """

    most_frames: int = 1 << 20
    periods: float = 2.0
    least_samples: int = 32
    heard: float = 1e-3
    full: float = 0.03
    holds: float = 5e-3
    least_frames: int = 12
    settled: float = 0.7
    one_factor: float = 2e-3
    at_edges: float = 0.98
    least_left: float = 1e-9
    upright: float = 0.9
    least_db: float = 0.03
    alike: float = 0.9
    most_periods: int = 40
    late_share: float = 0.1
    settling_seconds: float = 0.1


LEVELS = JudgingLevels()


@dataclass(frozen=True)
class _Frames:
    """A pair in short frames, with the tone told in each; first axis the frames.

    Attributes:
        x, y: samples of the channel that is loudest.
        mine, theirs: complex amplitude of the tone in each.
        holds: whether the reference holds its level there, and did in the frames beside it.
    """

    hertz: float
    rate: int
    x: Floats
    y: Floats
    mine: Complexes
    theirs: Complexes
    holds: NDArray[np.bool_]

    @property
    def seconds(self) -> float:
        """Of a frame."""
        return int(self.x.shape[1]) / self.rate


def cause_at_edges(reference: Source, render: Source) -> Cause | None:
    """A filter or a level control that the edges of a tone tell; None for neither, or for a reference of another kind.

    The two must lie over each other.
    """
    frames = _frames(reference, render)
    if frames is None:
        return None
    sounds = np.abs(frames.mine)
    weight = np.minimum(1.0, sounds / (LEVELS.full * sounds.max()))
    steady = frames.holds & (sounds > LEVELS.heard * sounds.max())
    if steady.sum() < LEVELS.least_frames or frames.holds[LEVELS.least_frames : -LEVELS.least_frames].all():
        return None  # nothing but the ends is an edge
    ratios = frames.theirs[steady] / frames.mine[steady]
    factor = complex(np.median(ratios.real) + 1j * np.median(ratios.imag))
    apart = np.abs(ratios / factor - 1.0) * weight[steady] if factor else np.full(1, np.inf)
    if float(np.quantile(apart, LEVELS.settled)) > LEVELS.one_factor:
        return None
    # What the factor makes of the reference, by the sample and one a quarter of a period before.
    quarter = _quarter(reference, frames)
    made = factor.real * frames.x - factor.imag * quarter
    left = np.square(frames.y - made).sum(axis=1)
    total = float(left.sum())
    if total < LEVELS.least_left * float(np.square(frames.y).sum()) or _held(frames, left) > 1.0 - LEVELS.at_edges:
        return None
    own = np.square(made).sum(axis=1)
    heard = own > LEVELS.heard**2 * own.max()
    gains = np.divide((made * frames.y).sum(axis=1), own, out=np.ones_like(own), where=heard)
    upright = total - float(np.square(frames.y - gains[:, None] * made).sum())
    if upright > LEVELS.upright * total:
        return _control(frames, gains)
    if float(apart.max()) > LEVELS.one_factor or _is_late(frames, factor, total):
        return None
    level, phase = number(20 * np.log10(abs(factor)), "+.2f"), number(float(np.degrees(np.angle(factor))), "+.1f")
    why = f"{level} dB and {phase}° at {number(frames.hertz, ',.0f')} Hz, the rest at its edges"
    off = fall(_plain(frames), total)
    return Cause("filter", amount=float(20 * np.log10(abs(factor))), unit="dB", takes_off=off, why=why)


def _held(frames: _Frames, left: Floats) -> float:
    """The share of what is left that lies in frames which hold."""
    return float(left[frames.holds].sum()) / max(float(left.sum()), 1e-300)


def _is_late(frames: _Frames, factor: complex, total: float) -> bool:
    """Whether the factor is a gain, and a delay by some whole samples that the edges have too."""
    x, y = frames.x.ravel(), frames.y.ravel()
    first = -float(np.angle(factor)) / (2 * np.pi) * frames.rate / frames.hertz
    for turns in range(-LEVELS.most_periods, LEVELS.most_periods + 1):
        late = round(first + turns * frames.rate / frames.hertz)
        a, b = (x[: len(x) - late], y[late:]) if late >= 0 else (x[-late:], y[: len(y) + late])
        if float(np.square(b - abs(factor) * a).sum()) < LEVELS.late_share * total:
            return True
    return False


def _plain(frames: _Frames) -> float:
    return float(np.square(frames.y - frames.x).sum())


def _control(frames: _Frames, gains: Floats) -> Cause | None:
    """A gain that does after each rise what it did after the others."""
    decibels = 20 * np.log10(np.clip(gains, 1e-3, 1e3))
    size = round(LEVELS.settling_seconds / frames.seconds)
    level = np.abs(frames.mine)
    rises = np.flatnonzero(level[2:] > 2 * np.maximum(level[:-2], 1e-12)) + 1
    rises = rises[np.diff(rises, prepend=-size) >= size]
    after = np.array([decibels[at : at + size] for at in rises.tolist() if at + size <= len(decibels)])
    if len(after) < 2 or size < 4 or np.abs(after).max() < LEVELS.least_db or not np.ptp(after, axis=1).all():
        return None  # after a rise at which the gain stands still there is nothing to correlate
    if min(float(np.corrcoef(after[0], other)[0, 1]) for other in after[1:]) < LEVELS.alike:
        return None
    most = float(after[0][np.abs(after[0]).argmax()])
    why = f"{number(most, '+.2f')} dB at most after each of {len(after)} rises"
    off = fall(_plain(frames), float(np.square(frames.y - gains[:, None] * frames.x).sum()))
    return Cause("level_control", amount=abs(most), unit="dB", takes_off=off, why=why)


def _frames(reference: Source, render: Source) -> _Frames | None:
    count = min(reference.frames, render.frames, LEVELS.most_frames)
    sides = [read_padded(side, 0, count) for side in (reference, render)]
    channel = int(np.square(sides[0]).sum(axis=0).argmax())
    x, y = (side[:, channel] for side in sides)
    hertz = strongest(x[:, None], reference.rate)
    if hertz <= 0.0:
        return None
    size = max(LEVELS.least_samples, round(LEVELS.periods * reference.rate / hertz))
    number_of = count // size
    if number_of < 4 * LEVELS.least_frames:
        return None
    x, y = (side[: number_of * size].reshape(number_of, size) for side in (x, y))
    turn = np.exp(2j * np.pi * hertz / reference.rate * np.arange(number_of * size)).reshape(number_of, size)
    mine, theirs = (_amplitudes(side, turn) for side in (x, y))
    pure = np.square(x - (mine[:, None] * turn).real).sum(axis=1)
    alone = pure <= LEVELS.holds**2 * np.square(x).sum(axis=1)
    level = np.abs(mine)
    same = np.abs(np.diff(level, prepend=level[0])) <= LEVELS.holds * level
    holds = alone & same
    holds[1:-1] &= holds[:-2] & holds[2:]
    holds[0] = False  # a file begins with an edge
    for _ in range(3):  # what a filter does at an edge goes on after it
        holds[1:] &= holds[:-1]
    return _Frames(hertz, reference.rate, x, y, mine, theirs, holds)


def _amplitudes(side: Floats, turn: Complexes) -> Complexes:
    """Of Re(a·exp(iωt)) in each frame, by least squares."""
    cosines, sines = turn.real, -turn.imag
    cc, cs, ss = (cosines**2).sum(axis=1), (cosines * sines).sum(axis=1), (sines**2).sum(axis=1)
    xc, xs = (side * cosines).sum(axis=1), (side * sines).sum(axis=1)
    bend = cc * ss - cs**2
    return np.asarray((xc * ss - xs * cs + 1j * (xs * cc - xc * cs)) / bend)


def _quarter(reference: Source, frames: _Frames) -> Floats:
    """The tone of the reference a quarter of a period later, at the level that it has in each frame."""
    count = frames.x.size
    turn = np.exp(2j * np.pi * frames.hertz / reference.rate * np.arange(count)).reshape(frames.x.shape)
    return np.asarray((frames.mine[:, None] * turn).imag)
