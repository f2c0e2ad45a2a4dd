"""Channels that are mixed: a fold to one, sides that are softer, crosstalk, a channel that is the mean of two."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource, rows_of_pair
from kind_echo.core.audio.source import Derived, Samples, Source
from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.shares import fall
from kind_echo.core.registry.numbers import number
from kind_echo.core.undoing.undone import Undone

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class JudgingMixes:
    """When channels are told to be mixed: choices of this product, which `benchmarks.causes` holds.

    Attributes:
        most_channels: that are looked at.
        worth_db: that a mix takes off what a gain of its own for each channel leaves.
        least_crosstalk: factor, under which a channel has nothing of another: −80 dB.
        least_condition: of the channels' powers, the least over the greatest, under which they are one sound.
        same: factors that differ by less are the same.
        small: share of the other channel, under which it is crosstalk and no change of the sides.
        folded: share of the greatest singular value, under which a mix has one direction less.
    """

    most_channels: int = 8
    worth_db: float = 10.0
    least_crosstalk: float = 1e-4
    least_condition: float = 1e-7
    same: float = 0.01
    small: float = 0.12
    folded: float = 1e-3


MIXES = JudgingMixes()


@dataclass(frozen=True)
class MixedSource(Derived):
    """A reference whose channels are mixed; matrix[i][j]: of its channel j in channel i."""

    matrix: tuple[tuple[float, ...], ...]

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop."""
        return np.asarray(self.source.read(start, stop) @ np.array(self.matrix).T)


def find_mix(reference: Source, aligned: AlignedSource) -> Undone | None:
    """Channels that are mixed, by a matrix fitted on every other block and judged on the rest; None for none."""
    channels = reference.channels
    if not 2 <= channels <= MIXES.most_channels:
        return None
    sums = np.zeros((2, 3, channels, channels))  # of every other block, and of the rest
    for count, (x, y) in enumerate(_blocks(reference, aligned)):
        sums[count % 2] += np.stack([x @ x.T, y @ x.T, y @ y.T])
    if not all(_tells(half[0]) for half in sums):
        return None
    left = before = 0.0
    for fitted, judged in (sums, sums[::-1]):
        left += _left(np.linalg.solve(fitted[0], fitted[1].T).T, judged)
        before += _left(np.diag(np.diag(fitted[1]) / np.diag(fitted[0])), judged)
    off = fall(before, left)
    own, cross, _ = sums.sum(axis=0)
    matrix = np.linalg.solve(own, cross.T).T
    apart = matrix - np.diag(np.diag(matrix))
    if off < MIXES.worth_db or np.abs(apart).max() < MIXES.least_crosstalk or _is_swap(matrix):
        return None
    amount, why = _told(matrix)
    mixed = MixedSource(reference, tuple(map(tuple, matrix.tolist())))
    return Undone([Cause("channel_mix", amount=amount, unit="dB", takes_off=off, why=why)], mixed, aligned.render, off)


def _blocks(reference: Source, aligned: AlignedSource) -> Iterator[tuple[Floats, Floats]]:
    """Short blocks of the pair, so that every other one is about as loud as the rest."""
    for _, x, y in rows_of_pair(reference, aligned):
        size = max(1, x.shape[1] // 8)
        for at in range(0, x.shape[1], size):
            yield x[:, at : at + size], y[:, at : at + size]


def _tells(own: Floats) -> bool:
    """Whether the channels are sounds of their own."""
    if (np.diag(own) <= 0.0).any():
        return False
    scale = np.sqrt(np.diag(own))
    values = np.linalg.eigvalsh(own / np.outer(scale, scale))
    return bool(values[0] > MIXES.least_condition * values[-1])


def _left(matrix: Floats, sums: Floats) -> float:
    """What a mix leaves, all channels together."""
    own, cross, other = sums
    return max(0.0, float(np.trace(other) - 2 * np.sum(matrix * cross) + np.trace(matrix @ own @ matrix.T)))


def _is_swap(matrix: Floats) -> bool:
    """Whether each channel is one other alone."""
    largest = np.abs(matrix).max(axis=1, keepdims=True)
    return bool((np.sum(np.abs(matrix) > MIXES.least_crosstalk * largest, axis=1) == 1).all())


def _told(matrix: Floats) -> tuple[float, str]:
    """How much is mixed in dB, and the mix in the words of the trade."""
    greatest = float(np.linalg.norm(matrix, 2))
    values = np.linalg.svd(matrix, compute_uv=False)
    apart = matrix - np.diag(np.diag(matrix))
    crosstalk = _decibels(float(np.abs(apart).max()))
    if len(matrix) == 2:
        (a, b), (c, d) = matrix.tolist()
        same = MIXES.same * greatest
        if values[-1] < MIXES.folded * greatest and abs(a - c) < same and abs(b - d) < same:
            return crosstalk, "both channels are one: a fold to mono"
        if abs(a - d) < same and abs(b - c) < same and abs(a + b) > same:
            side = abs((a - b) / (a + b))
            if a * b > 0.0 and abs(b) < MIXES.small * abs(a):
                return crosstalk, f"crosstalk at {number(_decibels(abs(b / a)), '.1f')} dB"
            return _decibels(side), f"the side signal {number(_decibels(side), '+.1f')} dB against the middle"
        for row, other in ((0, 1), (1, 0)):
            mine, theirs = abs(matrix[row, row]), abs(matrix[row, other])
            if abs(matrix[other, row]) < MIXES.least_crosstalk * 10 and abs(mine - theirs) < same:
                return _decibels(theirs), f"channel {row + 1} is the mean of both"
    i, j = (int(k) for k in np.unravel_index(int(np.abs(apart).argmax()), apart.shape))
    return crosstalk, f"channel {j + 1} in channel {i + 1} at {number(crosstalk, '.1f')} dB"


def _decibels(factor: float) -> float:
    return float(20 * np.log10(max(factor, 1e-6)))
