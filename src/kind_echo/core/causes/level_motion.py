"""A gain that moves over time: told in short frames from their neighbours, and whether it moves with the signal."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.causes.excerpts import Excerpt

Floats = NDArray[np.float64]

_FRAME_SECONDS = 0.0025
_HEARD_POWER_SHARE = 1e-5  # of the mean power of a sound, under which a frame tells no gain
_SMOOTHING_SECONDS = (0.005, 0.03, 0.15)
_LEAST_MOTION_DB = 0.03  # dB RMS by which a gain moves at least
_FOLLOWING_RANK_CORRELATION = 0.35  # rank correlation of gain and level


@dataclass(frozen=True)
class GainMotion:
    """A gain over time.

    Attributes:
        times: seconds on the reference's time axis, of the middles of frames that tell.
        gains: factors there.
        track: the factor at each frame of the excerpt.
        error: of the target, each frame with the gain of its neighbours.
        left: mean square of the error.
        quiet: the factor where the signal is softest; None where it moves there as well.
    """

    times: Floats
    gains: Floats
    track: Floats
    error: Floats
    left: float
    quiet: float | None


def follow_gain(excerpt: Excerpt, u: Floats, target: Floats) -> GainMotion | None:
    """The gain from u to the target, if it moves with the level of u; None if it does not, or nothing tells."""
    length = max(16, round(_FRAME_SECONDS * excerpt.rate))
    count = u.shape[1] // length
    if count < 16:
        return None
    shape = (u.shape[0], count, length)
    a, b = (side[:, : count * length].reshape(shape) for side in (u, target))
    weight = excerpt.weight[:, : count * length].reshape(shape)
    own, cross = (a * a * weight).sum(axis=2), (a * b * weight).sum(axis=2)
    heard = own > _HEARD_POWER_SHARE * own.mean()
    if heard.sum() < 32:
        return None
    around, across = _beside(own), _beside(cross)
    gain = np.divide(across, around, out=np.ones_like(around), where=around > _HEARD_POWER_SHARE * own.mean())
    here = np.divide(cross, own, out=np.ones_like(own), where=heard)
    track = np.repeat(gain, length, axis=1)
    track = np.concatenate([track, np.repeat(track[:, -1:], u.shape[1] - count * length, axis=1)], axis=1)
    error = target - track * u
    if not _moves_with(own, np.maximum(here, 1e-6), heard, excerpt.rate / length):
        return None
    starts = np.asarray(excerpt.starts)[:, None]
    times = (starts + (np.arange(count) + 0.5) * length) / excerpt.rate
    return GainMotion(times[heard], here[heard], track, error, excerpt.power(error), _quiet(own, here, heard))


def _beside(values: Floats) -> Floats:
    """Of each frame the sum over the frame before and the one after."""
    padded = np.pad(values, ((0, 0), (1, 1)))
    return np.asarray(padded[:, :-2] + padded[:, 2:])


def _moves_with(own: Floats, gain: Floats, heard: NDArray[np.bool_], frames_per_second: float) -> bool:
    """Whether the gain goes up or down with the level, smoothed over one of some times."""
    decibels = 20 * np.log10(gain)
    usual = float(np.median(decibels[heard]))
    moved = np.clip(decibels - usual, -24.0, 24.0)
    if float(np.sqrt(np.mean(moved[heard] ** 2))) < _LEAST_MOTION_DB:
        return False
    best = 0.0
    for seconds in _SMOOTHING_SECONDS:
        level = _smoothed(own, seconds * frames_per_second)
        best = max(best, abs(_rank_correlation(level[heard], moved[heard])))
    return best >= _FOLLOWING_RANK_CORRELATION


def _smoothed(own: Floats, frames: float) -> Floats:
    """Level that rises at once and falls slowly, as the ear and most level controls have it."""
    fall = float(np.exp(-1.0 / max(frames, 1e-3)))
    out, state = np.empty_like(own), own[:, 0].copy()
    for i in range(own.shape[1]):
        state = np.maximum(own[:, i], fall * state)
        out[:, i] = state
    return out


def _rank_correlation(a: Floats, b: Floats) -> float:
    ranks = [np.argsort(np.argsort(one)).astype(float) for one in (a, b)]
    x, y = (r - r.mean() for r in ranks)
    scale = float(np.sqrt((x @ x) * (y @ y)))
    return float(x @ y) / scale if scale > 0.0 else 0.0


def _quiet(own: Floats, gain: Floats, heard: NDArray[np.bool_]) -> float | None:
    levels, gains = own[heard], gain[heard]
    soft = gains[levels <= np.quantile(levels, 0.2)]
    decibels = 20 * np.log10(np.maximum(soft, 1e-6))
    spread = float(np.subtract(*np.percentile(decibels, [75, 25])))
    return float(np.median(soft)) if spread < 0.3 else None
