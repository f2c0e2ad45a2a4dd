"""The time constant of a level detector that follows the amplitude or the power, told by the gain that it makes.

Such a detector approaches each new level exponentially, but the gain computer takes the logarithm of it, and is at rest
under its threshold, so that the gain itself is no exponential (D. Giannoulis, M. Massberg and J. D. Reiss, Digital
Dynamic Range Compressor Design, J. Audio Eng. Soc. 60, 2012, section 2.2).
"""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Follows = Literal["amplitude", "power"]

_DECIBELS: dict[Follows, float] = {"amplitude": 20.0, "power": 10.0}
_FITTED_POINTS = 400  # of the gain, at most
_LEAST_POINTS = 12
_MISFIT_SHARE = 0.001  # of the movement, that the gain may lie off a detector's, RMS, beside its noise
_WINDOW_SHARE = 0.15  # of the window of the tone, by which a constant is told wrong: the most that simulations gave
_SAME_SHARE = 0.05  # by which the constants of two kinds of detector that fit may differ
_THRESHOLDS = 24  # that are tried before the best is refined
_FITTED_CONSTANTS = 10.0


@dataclass(frozen=True)
class Approach:
    """A gain on its way from one settled value to another.

    Attributes:
        gain: dB by frame, from the step on; where the tone's window reaches over the step is left out.
        skipped: frames that are left out.
        begin, settled: dB, before the step and at last.
        levels: of the input before the step and after it, dB.
        noise: RMS of the gain where it stands still, dB.
        smear: frames that share a window, and err alike.
    """

    gain: Floats
    skipped: int
    begin: float
    settled: float
    levels: tuple[float, float]
    noise: float
    smear: int
    rate: int


@dataclass(frozen=True)
class Detector:
    """A detector that fits.

    Attributes:
        follows: what it smooths; None where both fit, and have one constant.
        seconds, spread: its time constant, and the uncertainty at 95 %.
        misfit: dB RMS that the gain lies off its own.
    """

    follows: Follows | None
    seconds: float
    spread: float
    misfit: float


def find_detector(approach: Approach, seconds: float) -> Detector | None:
    """The detector whose gain this is; None where none fits, or two that fit have other constants.

    Args:
        seconds: about how long it takes, to begin with.
    """
    tried = {follows: _fitting(approach, follows, seconds) for follows in _DECIBELS}
    found = {follows: fit for follows, fit in tried.items() if fit is not None}
    if not found:
        return None
    best = min(found.values(), key=lambda fit: fit.misfit)
    constants = [fit.seconds for fit in found.values()]
    if max(constants) > (1.0 + _SAME_SHARE) * min(constants):
        return None
    (follows, *others) = found
    window = _WINDOW_SHARE * approach.smear / approach.rate
    spread = float(np.hypot(max(fit.spread for fit in found.values()), window))
    return Detector(None if others else follows, best.seconds, spread, best.misfit)


@dataclass(frozen=True)
class _Fit:
    """A time constant and its uncertainty in s, and the misfit in dB RMS."""

    seconds: float
    spread: float
    misfit: float


def _fitting(approach: Approach, follows: Follows, seconds: float) -> _Fit | None:
    """The detector of a kind; None where it leaves more of the gain than its noise."""
    found = _fit(approach, follows, seconds)
    if found is not None and not 0.5 <= found.seconds / seconds <= 2.0:
        found = _fit(approach, follows, found.seconds)  # over as much of its way as belongs to it
    allowed = np.hypot(_MISFIT_SHARE * abs(approach.settled - approach.begin), 1.5 * approach.noise)
    return found if found is not None and found.misfit <= allowed else None


def _fit(approach: Approach, follows: Follows, seconds: float) -> _Fit | None:
    """The detector of a kind that fits best; None where there is too little to fit."""
    from scipy.optimize import least_squares

    length = min(len(approach.gain), round(_FITTED_CONSTANTS * seconds * approach.rate))
    step = max(1, length // _FITTED_POINTS)
    values = approach.gain[:length:step]
    times = (approach.skipped + np.arange(0, length, step)) / approach.rate
    if len(values) < _LEAST_POINTS:
        return None
    scale = _DECIBELS[follows]
    begin, end = (10.0 ** (level / scale) for level in approach.levels)
    low, high = min(approach.levels), max(approach.levels)

    def error(p: Floats) -> Floats:
        """Of the logarithm of the constant, the threshold (from low, 0, to high, 1) and the settled gain."""
        threshold = low + (high - low) * p[1]
        detected = scale * np.log10(end + (begin - end) * np.exp(-times * np.exp(-p[0])))
        before, after = (max(level, threshold) for level in approach.levels)
        share = (np.maximum(detected, threshold) - before) / (after - before)
        return np.asarray(approach.begin + (p[2] - approach.begin) * share - values)

    starts = [
        np.array([np.log(seconds * factor), threshold, approach.settled])
        for threshold in np.linspace(0.0, 0.95, _THRESHOLDS)
        for factor in (0.3, 1.0, 3.0)
    ]
    start = min(starts, key=lambda p: float(np.square(error(p)).sum()))
    bounds = [np.log(seconds) - 6.0, 0.0, -np.inf], [np.log(seconds) + 6.0, 0.98, np.inf]
    found = least_squares(error, start, bounds=bounds)
    misfit = float(np.sqrt(np.square(found.fun).mean()))
    constant = float(np.exp(found.x[0]))
    inverse = np.linalg.pinv(np.asarray(found.jac))
    alike = max(1.0, approach.smear / step)
    spread = 2.0 * misfit * float(np.sqrt(np.square(inverse[0]).sum() * alike))
    return _Fit(constant, constant * spread, misfit)
