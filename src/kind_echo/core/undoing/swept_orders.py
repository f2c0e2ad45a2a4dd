"""Sweeps whose harmonics fold: each order follows the sweep so many times as fast, and is told along its own path."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource
from kind_echo.core.audio.smoothing import analytic, cubic_weights, smoothed
from kind_echo.core.audio.source import Source
from kind_echo.core.audio.transforms import fast_length
from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.shares import fall
from kind_echo.core.registry.numbers import number
from kind_echo.core.undoing.stretch import take_stretch

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class JudgingSweeps:
    """When orders of a sweep are told to fold: choices of this product, which `benchmarks.causes` holds.

    Attributes:
        most_frames: of a pair, from its middle.
        smooth_seconds: over which the phase of a sweep is a cubic.
        block: samples, in which an order holds its level.
        least_range: times that a sweep's frequency rises, or falls.
        one_way: share of the blocks in which it may go the other way.
        pure: share of the power of a reference that lies on its own path.
        most_order: that is looked for.
        margin_hertz: over half the rate, from which an order folds; about its own path, within which nothing is told.
        folds: share of what is left, that orders which fold explain.
        most: times what harmonics which do not fold explain.
        told_order: share of what folds, from which an order is named.
        louder_db: than in the reference, all that is new together.
        none_dbfs: under which the reference has none.
    """

    most_frames: int = 1 << 19
    smooth_seconds: float = 0.05
    block: int = 256
    least_range: float = 4.0
    one_way: float = 0.1
    pure: float = 0.5
    most_order: int = 24
    margin_hertz: float = 300.0
    folds: float = 0.5
    most: float = 2.0
    told_order: float = 0.01
    louder_db: float = 0.0
    none_dbfs: float = -100.0


SWEEPS = JudgingSweeps()


@dataclass(frozen=True)
class _Path:
    """A sweep: its phase in radians at each sample, and its frequency in Hz in each block."""

    rate: int
    phase: Floats
    hertz: Floats

    def folds(self, order: int) -> NDArray[np.bool_]:
        """Whether an order folds in each block, away from the sweep itself."""
        at = order * self.hertz
        into = np.abs(at - self.rate * np.round(at / self.rate))
        away = np.abs(into - self.hertz) > SWEEPS.margin_hertz
        return np.asarray(away & (at > self.rate / 2 + SWEEPS.margin_hertz))

    def powers(self, side: Floats, most: int) -> dict[int, Floats]:
        """What each order up to `most` explains of a sound, in each block, beyond what it does of any by chance."""
        turned: NDArray[np.complex128] = _blocks(side).astype(np.complex128)
        turn = np.exp(-1j * _blocks(self.phase))
        chance = 2 * np.square(_blocks(side)).sum(axis=1) / SWEEPS.block
        found = {}
        for order in range(1, most + 1):
            turned *= turn
            explained = 2 * np.square(np.abs(turned.sum(axis=1))) / SWEEPS.block
            found[order] = np.maximum(explained - chance, 0.0)
        return found

    def without_harmonics(self, side: Floats) -> Floats:
        """A sound without the sweep and its harmonics that do not fold, of whole blocks."""
        left = _blocks(side).copy()
        turn = np.exp(1j * _blocks(self.phase))
        for order in range(1, SWEEPS.most_order + 1):
            there = order * self.hertz < self.rate / 2
            wave = turn[there] ** order
            left[there] -= 2 * (np.mean(left[there] * np.conj(wave), axis=1, keepdims=True) * wave).real
        return left.ravel()


def folding_of_sweep(reference: Source, aligned: AlignedSource) -> Cause | None:
    """Orders of a sweep that fold in the render more than in the reference; None for none, and for no sweep."""
    part = take_stretch(reference, aligned, SWEEPS.most_frames)
    if part is None or part.x.shape[1] < 64 * SWEEPS.block:
        return None
    channel = int(np.square(part.x).sum(axis=1).argmax())
    x, error = part.x[channel], part.error[channel]
    path = _path(x, part.rate)
    if path is None:
        return None
    total = float(np.square(error).sum())
    found = path.powers(error, SWEEPS.most_order)
    folded = {order: float(found[order][path.folds(order)].sum()) for order in _orders()}
    under = part.rate / 2 - SWEEPS.margin_hertz
    harmonics = sum(float(found[order][order * path.hertz < under].sum()) for order in _orders())
    power = sum(folded.values())
    if power < SWEEPS.folds * total or power < SWEEPS.most * harmonics:
        return None
    before = path.powers(path.without_harmonics(part.factors[channel] * x), SWEEPS.most_order)
    own = sum(float(before[order][path.folds(order)].sum()) for order in _orders())
    if fall(power, own) < SWEEPS.louder_db:
        return None
    orders = [order for order, mine in folded.items() if mine >= SWEEPS.told_order * power]
    level, was = (10 * math.log10(max(p, 1e-24) / len(x)) for p in (power, own))
    had = f"{number(was, '.1f')} dBFS" if was > SWEEPS.none_dbfs else "none"
    span = f"order {orders[0]}" if len(orders) == 1 else f"orders {orders[0]} to {orders[-1]}"
    why = f"{span} of the sweep {'folds' if len(orders) == 1 else 'fold'}; {had} in the reference"
    off = fall(total, max(total - power, 0.0))
    return Cause(
        "aliasing", amount=level, unit="dBFS", takes_off=off, why=why, orders=(orders[0], orders[-1]),
        is_new=was <= SWEEPS.none_dbfs,
    )  # fmt: skip


def _orders() -> range:
    """Those that may fold: of the first, the sweep itself, nothing is told."""
    return range(2, SWEEPS.most_order + 1)


def _path(x: Floats, rate: int) -> _Path | None:
    """The path of a sweep; None for another sound."""
    turning = analytic(np.concatenate([x, np.zeros(fast_length(len(x)) - len(x))]))[: len(x)]
    phase = np.unwrap(np.angle(turning))
    wide = round(SWEEPS.smooth_seconds * rate) | 1
    for _ in range(2):
        phase = smoothed(phase, cubic_weights(wide))
        # What is slow of the phase that is left belongs to the sweep, and what is fast to its harmonics.
        phase = phase + np.unwrap(np.angle(smoothed(turning * np.exp(-1j * phase), np.full(wide, 1.0 / wide))))
    hertz = _blocks(np.gradient(phase)).mean(axis=1) * rate / (2 * np.pi)
    low, high = np.quantile(np.abs(hertz), [0.1, 0.9])
    rises = float(np.mean(np.diff(hertz) > 0.0))
    if high < SWEEPS.least_range * max(low, 1.0) or SWEEPS.one_way < rises < 1.0 - SWEEPS.one_way:
        return None
    path = _Path(rate, phase, np.abs(hertz))
    return path if float(path.powers(x, 1)[1].sum()) > SWEEPS.pure * float(np.square(x).sum()) else None


def _blocks(side: Floats) -> Floats:
    """Whole blocks of samples, one after the other."""
    count = len(side) // SWEEPS.block
    return side[: count * SWEEPS.block].reshape(count, SWEEPS.block)
