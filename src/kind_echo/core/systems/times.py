"""When a gain has reached the value that it settles at, and with which time constant."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Reading
from kind_echo.core.systems.detectors import Approach, find_detector

Floats = NDArray[np.float64]

SETTLED_SHARE = 0.3  # of each part, at its end
STILL_DB = 0.15  # dB, by which a gain that has settled still moves in the last part
LEAST_FRAMES = 16  # frames after the step down, from which a gain can be said to have settled
_REACHED_WITHIN_DB = 1.0  # dB from the settled gain at which it has been reached
_HALF_WAY_SHARE = 0.3  # of what is left: the geometric middle of 0.9 and 0.1
_BENDING_RATIO = 1.5  # times as steep as the other, that one half of the way of one exponential may not be
_MISFIT_SHARE = 0.002  # of the way, RMS, that a gain may lie off an exponential beside its noise
_BETTER_SHARE = 0.8  # of what an exponential leaves, that a detector leaves which is believed
_LEAST_WINDOWS = 2.5  # windows of the tone in a time constant, from which what a window smears is no shape
_FITTED_CONSTANTS = 8.0  # time constants over which an exponential is fitted, after which nothing of it is left
_SMEARED_CONSTANTS = 1.2  # time constants in a window of the tone, from which it is the window's own shape that is seen
_WINDOW_SHARE = 0.03  # of a window's length, by which one of half its length is told wrong: twice what simulations gave
_FITTED_POINTS = 4000  # of the gain, at most
_ENDS = "the render ends before the gain can settle"


def movement(gain: Floats) -> float:
    """dB by which a gain still moves over the last part, in which it should stand still."""
    last = gain[-max(LEAST_FRAMES, round(SETTLED_SHARE * len(gain))) :]
    tenth = max(1, len(last) // 10)
    # The window of the tone reaches over the end.
    return float(np.median(last[-2 * tenth : -tenth]) - np.median(last[:tenth]))


def unsettled(moves: float) -> str:
    """Why there are no times of a gain that still moves by so many dB."""
    return f"the gain does not settle before the part ends: it still moves by {number(moves, '+.2f')} dB"


def time_to(key: str, name: str, gain: Floats, settled: float | None, moves: float, rate: int) -> Reading:
    """ms after which the gain stays within 1 dB of the settled one; a bound where it has not settled."""
    if settled is None:
        return Reading(key, name, None, _ENDS)
    if abs(moves) > STILL_DB:
        return Reading(key, name, None, unsettled(moves), at_least=1000.0 * len(gain) / rate)
    away = np.flatnonzero(np.abs(gain - settled) > _REACHED_WITHIN_DB)
    if len(away) == 0:
        return Reading(key, name, 0.0)
    if away[-1] >= len(gain) - 2:
        return Reading(key, name, None, "the gain does not settle before the part ends")
    return Reading(key, name, 1000.0 * (float(away[-1]) + 1) / rate)


def time_constant(
    key: str, name: str, gain: Floats, way: tuple[float, float | None], levels: tuple[float, float], moves: float,
    smear: int, rate: int,
) -> Reading:  # fmt: skip
    """Time constant of the gain's way from one settled value to another.

    The logarithm of what is left of the way shows whether it is one exponential; a fit, in which the settled gain is
    free as well, then has the constant. Where it is none, a detector of the level may be.

    Args:
        way: settled gains before and after, dB.
        levels: of the input before and after, dB.
        smear: frames over which neighbouring gains share a window.
    """
    begin, settled = way
    if settled is None:
        return Reading(key, name, None, _ENDS)
    if abs(moves) > STILL_DB:
        return Reading(key, name, None, unsettled(moves))
    left = (gain - settled) / (begin - settled)
    done = np.flatnonzero(left < 0.1)
    if len(done) == 0:
        return Reading(key, name, None, "the gain does not settle before the part ends")
    part = left[: done[0]]
    first = int(np.argmax(part < 0.9)) if (part < 0.9).any() else len(part)
    part = part[first:]
    if len(part) < 4:
        return Reading(key, name, 0.0, f"faster than {1000 * 4 / rate:.2g} ms")
    falls = np.log(np.maximum(part, 1e-6))
    slope = float(np.polyfit(np.arange(len(part)) / rate, falls, 1)[0])
    if slope >= 0.0:
        return Reading(key, name, None, "the gain does not move towards its settled value")
    if -slope * smear / rate > _SMEARED_CONSTANTS:
        why = "no slower than what a period of the tone shows"
        return Reading(key, name, -1000.0 / slope, why, 500.0 * smear / rate)
    halves = _halves(falls, part, rate)
    bent = halves is not None and not 1.0 / _BENDING_RATIO <= halves[1] / halves[0] <= _BENDING_RATIO
    fitted = _fitted(left[first : len(left) - smear], -1.0 / slope, smear, rate)
    noise = _noise(gain, settled, smear)
    slow = fitted.seconds * rate > _LEAST_WINDOWS * smear
    if bent or (slow and fitted.misfit > _MISFIT_SHARE):
        seen = Approach(gain[smear : len(gain) - smear], smear, begin, settled, levels, noise, smear, rate)
        detector = find_detector(seen, -1.0 / slope)
        if detector and (bent or detector.misfit < _BETTER_SHARE * fitted.misfit * abs(begin - settled)):
            why = f"of a detector that follows the {detector.follows or 'level'}, not of the gain"
            return Reading(key, name, 1000.0 * detector.seconds, why, 1000.0 * detector.spread, reason="detector")
    told = halves and f"{number(1000 * halves[0], '.3g')} ms at first, {number(1000 * halves[1], '.3g')} ms later"
    if bent:
        return Reading(key, name, None, f"not one exponential: {told}")
    spread = fitted.spread
    doubtful = slow and fitted.misfit > math.hypot(_MISFIT_SHARE, 1.5 * noise / abs(begin - settled))
    if doubtful and halves and spread is not None:
        # What is bent is no noise: the constant is known no better than its two halves agree.
        spread = max(spread, abs(halves[1] - halves[0]) / 2)
        return Reading(key, name, 1000.0 * fitted.seconds, f"not quite one exponential: {told}", 1000.0 * spread)
    return Reading(key, name, 1000.0 * fitted.seconds, None, None if spread is None else 1000.0 * spread)


def _noise(gain: Floats, settled: float, smear: int) -> float:
    """RMS in dB by which a settled gain scatters; 0 where the window of the tone reaches over all of its end."""
    end = gain[3 * len(gain) // 4 : len(gain) - smear]
    return 1.4826 * float(np.median(np.abs(end - settled))) if len(end) else 0.0


def _halves(falls: Floats, part: Floats, rate: int) -> tuple[float, float] | None:
    """Time constants in s of both halves of the way to a tenth, which one exponential has alike; None where too short.

    Args:
        falls: the logarithm of `part`, the share of the way that is left.
    """
    middle = int(np.argmax(part < _HALF_WAY_SHARE)) if (part < _HALF_WAY_SHARE).any() else 0
    if middle < LEAST_FRAMES or len(part) - middle < LEAST_FRAMES:
        return None
    early, late = (float(np.polyfit(np.arange(len(half)), half, 1)[0]) for half in (falls[:middle], falls[middle:]))
    return None if early >= 0.0 or late >= 0.0 else (-1.0 / (rate * early), -1.0 / (rate * late))


@dataclass(frozen=True)
class _Exponential:
    """A time constant in s, its uncertainty at 95 % where it is known, and the share by which the gain lies off."""

    seconds: float
    spread: float | None
    misfit: float


def _fitted(left: Floats, seconds: float, smear: int, rate: int) -> _Exponential:
    """An exponential and a constant beside it.

    The beginning where there is too little to fit, or where the fit does not stay near it.

    Args:
        left: share of the way that is left, by frame.
        seconds: where to begin.
        smear: frames that share a window, so that they count as one value.
    """
    from scipy.optimize import least_squares

    shown = left[: max(LEAST_FRAMES, round(_FITTED_CONSTANTS * seconds * rate))]
    step = max(1, len(shown) // _FITTED_POINTS)
    times, values = np.arange(0, len(shown), step) / rate, shown[::step]
    free = len(shown) / max(smear, step) - 3
    if free < 1:
        return _Exponential(seconds, None, 0.0)

    def error(p: Floats) -> Floats:
        return np.asarray(p[0] * np.exp(-times * np.exp(-p[1])) + p[2] - values)

    found = least_squares(error, np.array([values[0], math.log(seconds), 0.0]))
    fitted = math.exp(min(float(found.x[1]), 50.0))
    misfit = math.sqrt(2.0 * found.cost / len(values))
    if not 1.0 / _BENDING_RATIO <= fitted / seconds <= _BENDING_RATIO:
        return _Exponential(seconds, None, misfit)
    inverse = np.linalg.pinv(np.asarray(found.jac))
    # Values that share a window err alike: of so many the residuals count as few.
    variance = misfit**2 * (free + 3) / free
    spread = math.sqrt(float(np.square(inverse[1]).sum()) * variance * max(1.0, smear / step))
    window = _WINDOW_SHARE * (smear / rate) ** 2 / (2 * fitted)
    return _Exponential(fitted, math.hypot(_students(free) * spread * fitted, window), misfit)


def _students(free: float) -> float:
    """Standard deviations at 95 % by so many degrees of freedom."""
    from scipy.special import stdtrit

    return float(stdtrit(free, 0.975))
