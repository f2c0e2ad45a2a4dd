"""Noise that the reference has as well: two takes of a noisy effect differ by noise of both.

The usual models take the reference for clean. The best filter of a noisy one falls where the noise is, and a gain that
follows the level falls where the sound is soft, though nothing was filtered and no level was controlled.
"""

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.transforms import hann
from kind_echo.core.causes.excerpts import Excerpt
from kind_echo.core.causes.leftover import judge_leftover

Floats = NDArray[np.float64]
Spectra = NDArray[np.complex128]

_WINDOW_FRAMES = 1024
_STRIDE_BINS = 2  # bins of a window that are taken: its neighbours hold the same again
_CELL_BINS, _CELL_FRAMES = 8, 4  # of a cell, within which a change would be one and the same
_LEAST_CELL_COUNT = 4.0  # values of a cell that count, of unlike power, under which it tells nothing
_LEAST_CELLS = 60
_FITTING_DISTANCE, _UNFIT_DISTANCE = (
    1.35,
    2.0,
)  # how far cells lie from what is expected, as a mean of 1 where that holds
_ROUNDS = 4
_ONE_SIDED_BALANCE = 0.42  # of the balance, from which one side is told to have the noise alone
_LEAST_NOISE_SHARE = 10**-12.0  # of the sides, under which what differs is rounding


@dataclass(frozen=True)
class SidesNoise:
    """Noise of the sides of one channel, where the reference has some of its own.

    Attributes:
        in_render: whether the render has noise of its own as well.
        gain: of the render over the reference, as a factor, between what both have in common.
        power: mean square of the noise, of the render where it has some, at its level; else of the reference.
        reference_power: mean square of the reference's noise.
    """

    in_render: bool
    gain: float
    power: float
    reference_power: float


def noise_of_sides(one: Excerpt) -> SidesNoise | None:
    """Whether two sides differ by a gain and by noise that the reference has too; None where they do not.

    The difference of both sides is laid beside their mean in cells of time and frequency. Noise of one side is in the
    difference and, half of it, in the mean; noise of equal power in both cancels in their product; a filter, a curve or
    a gain that moves is in each cell another share of the mean. So noise alone has one balance, render's less
    reference's, in all cells, and their distances from it, over their own spread, have a mean square of 1.
    """
    if one.y.shape[1] < _WINDOW_FRAMES * _CELL_FRAMES:
        return None
    x, y = one.inner * one.weight, one.y * one.weight
    own, other, both = (float(np.vdot(a, b)) for a, b in ((x, x), (y, y), (x, y)))
    if own <= 0.0 or other <= 0.0 or both == 0.0:
        return None
    sides = _spectra(x), _spectra(y)
    plain = _fitted(*sides, both / own, 0.5)
    if plain is None or plain.misfit < _UNFIT_DISTANCE:
        return None  # noise of the render alone
    # One side that is wholly clean is known so sharply that a search comes close to it and no further.
    balance, gain = -0.5, other / both
    found = _fitted(*sides, gain, balance)
    if found is None or found.misfit > _FITTING_DISTANCE:
        balance, gain = 0.0, math.copysign(math.sqrt(other / own), both)
        for _ in range(_ROUNDS):
            found = _fitted(*sides, gain, balance)
            if found is None:
                return None
            balance = min(max(found.balance, -0.5), 0.5)
            gain = _gain(own, other, both, balance)
        found = _fitted(*sides, gain, balance)
        if found is None or found.misfit > _FITTING_DISTANCE or balance > _ONE_SIDED_BALANCE:
            return None
    level = one.y / gain
    error = (level - one.inner) * one.weight
    # What both have in common, as far as it can be told without the difference.
    common = np.pad(0.5 * (level + one.inner) - balance * error, ((0, 0), (one.reach, one.reach)))
    judged = judge_leftover(replace(one, x=common), error)
    if judged.kind in ("follows", "lossy") or judged.follows is None:
        return None
    of_reference, of_render = ((0.5 + share) * one.power(error) for share in (-balance, balance))
    in_render = balance >= -_ONE_SIDED_BALANCE
    return SidesNoise(in_render, gain, of_render * gain**2 if in_render else of_reference, of_reference)


@dataclass(frozen=True)
class _Fitted:
    """The balance of noise that fits the cells best, from −0.5 for the reference's alone to 0.5 for the render's.

    Attributes:
        misfit: mean square distance of the cells from the balance that they were laid beside, over their own spread.
    """

    balance: float
    misfit: float


def _fitted(x: Spectra, y: Spectra, gain: float, balance: float) -> _Fitted | None:
    level = y / gain
    apart = level - x
    # The mean without the difference's own part in it, or the spread would hold that twice.
    rest = 0.5 * (x + level) - balance * apart
    power = np.abs(apart) ** 2
    spread = power * np.abs(rest) ** 2
    product = _cells(apart * np.conj(rest))
    noise, beside, scatter, square = (_cells(one).real for one in (power, np.abs(rest) ** 2, spread, spread**2))
    counted = np.divide(scatter**2, square, out=np.zeros(scatter.shape), where=square > 0.0)
    tells = (counted >= _LEAST_CELL_COUNT) & (noise > _LEAST_NOISE_SHARE * beside)
    if int(tells.sum()) < _LEAST_CELLS:
        return None
    product, noise, scatter = product[tells], noise[tells], scatter[tells]
    more = float((product.real * noise / scatter).sum() / (noise**2 / scatter).sum())
    return _Fitted(balance + more, float(np.mean(np.abs(product) ** 2 / scatter)))


def _gain(own: float, other: float, both: float, balance: float) -> float:
    """The factor at which the powers of both sides differ as the balance of their noise says.

    Of the two forms of a quadratic's root the one that takes no two like numbers from each other.
    """
    a, b, c = other * (0.5 - balance), 2 * balance * abs(both), own * (0.5 + balance)
    root = math.sqrt(b * b + 4 * a * c)
    inverse = 2 * c / (b + root) if b > 0.0 else (root - b) / (2 * a)
    return math.copysign(1.0 / inverse, both)


def _cells(values: Spectra | Floats) -> Spectra:
    """Sums over cells; shape (frames of cells, bands)."""
    frames, bands = len(values) // _CELL_FRAMES, values.shape[1] // _CELL_BINS
    cut = values[: frames * _CELL_FRAMES, : bands * _CELL_BINS]
    return np.asarray(cut.reshape(frames, _CELL_FRAMES, bands, _CELL_BINS).sum(axis=(1, 3)), dtype=np.complex128)


def _spectra(samples: Floats) -> Spectra:
    """Every other bin of windows side by side, all stretches one after the other; shape (frames, bins)."""
    count = samples.shape[1] // _WINDOW_FRAMES
    cut = samples[:, : count * _WINDOW_FRAMES].reshape(-1, _WINDOW_FRAMES)
    return np.asarray(fft.rfft(cut * hann(_WINDOW_FRAMES), axis=1)[:, 2:-1:_STRIDE_BINS])
