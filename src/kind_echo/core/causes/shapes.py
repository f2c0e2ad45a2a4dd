"""A filter in words: the greatest change in the band that carries the signal, and the simple shape that fits it."""

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.causes.excerpts import Excerpt
from kind_echo.core.causes.filtering import Filter
from kind_echo.core.causes.loudest_line import SPECTRUM_FRAMES, spectrum_of
from kind_echo.core.registry.numbers import number

Floats = NDArray[np.float64]

_CARRYING_POWER_SHARE = 1e-5  # of the greatest, under which a band carries nothing of the signal
_POINTS_PER_OCTAVE = 12
_LOWEST_HZ = 25.0  # Hz
_LEVEL_WITHIN_DB = 0.12  # dB, within which a response counts as level
_LEVEL_BAND_SHARE = 0.3  # of the band that must be level for a gain to be told
_PASSING_DB = -12.0  # dB, from which a filter lets something through
_NO_CHANGE_DB = 0.3  # dB
_LEAST_CHANGE_DB = 0.05  # dB
_TURNING_DEGREES = 5.0  # degrees, more than a filter turns whose magnitude changes no more
_UNCHANGED_BAND_SHARE, _MUCH_TURNED_DEGREES = (
    0.85,
    30.0,
)  # share of the band that has no other magnitude, degrees that half of it turns by
_ONE_ANGLE_DEGREES, _ONE_ANGLE_BAND_SHARE = 10.0, 0.8  # degrees, and the share of the band within them
# Degrees, within which an all-pass that turns no more anywhere has not turned the polarity
_UPRIGHT_ALL_PASS_DEGREES = 90.0
_UPRIGHT_DEGREES, _UPRIGHT_BAND_SHARE = (
    60.0,
    0.25,
)  # degrees within which it is the right way up, over so much of the band
_LEAST_GAIN_DB = 0.05  # dB of a bell or a shelf
_SHAPED_FROM_DB = 0.1  # dB, from which a change of magnitude has a shape
_SHAPE_OFF_DB, _SHAPE_OFF_SHARE = 0.02, 0.07  # dB, and of the change, that a shape may be off by
_ORDERS = (1, 2, 3, 4)  # of a low-pass and a high-pass
_BELL_MIDDLE_RATIO = 2**0.25  # the middle of a bell lies this far within the band


Law = Callable[[Floats, Floats], Floats]
"""A magnitude in dB at frequencies, from the logarithms of a corner and a Q, and a gain in dB."""


@dataclass(frozen=True)
class Shape:
    """The response of a filter over the band that carries the signal.

    Attributes:
        frequencies: Hz, twelve to the octave.
        magnitude: dB over the level part, or over unity where there is none.
        phase: degrees.
        gain: dB of the level part; None where there is none.
        greatest, at: the change that is greatest, in dB, and its frequency in Hz.
        words: the simple shape that fits; empty where none does.
    """

    frequencies: Floats
    magnitude: Floats
    phase: Floats
    gain: float | None
    greatest: float
    at: float
    words: str

    @property
    def turns_alone(self) -> bool:
        """Whether it changes phases and no magnitude, as an all-pass does."""
        turned = float(np.abs(self.phase).max(initial=0.0))
        return abs(self.greatest) < _NO_CHANGE_DB and (
            turned > _TURNING_DEGREES or abs(self.greatest) < _LEAST_CHANGE_DB
        )

    @property
    def turns_most(self) -> bool:
        """Whether it turns phases much, and leaves nearly every magnitude alone."""
        if len(self.magnitude) == 0:
            return False
        same = float(np.mean(np.abs(self.magnitude) < _NO_CHANGE_DB))
        return self.turns_alone or (
            same >= _UNCHANGED_BAND_SHARE and float(np.median(np.abs(self.phase))) > _MUCH_TURNED_DEGREES
        )

    @property
    def angle(self) -> float | None:
        """Degrees by which it turns nearly all phases, as no delay does; None where it turns them apart, or not."""
        turned = np.exp(1j * np.radians(self.phase))
        middle = complex(np.median(turned.real), np.median(turned.imag)) if len(turned) else 0j
        angle = float(np.degrees(np.angle(middle)))
        if abs(angle) < _TURNING_DEGREES or middle == 0j:
            return None
        apart = np.abs(np.degrees(np.angle(turned * np.conj(middle))))
        return angle if float(np.mean(apart < _ONE_ANGLE_DEGREES)) >= _ONE_ANGLE_BAND_SHARE else None

    @property
    def is_upright(self) -> bool:
        """Whether it lets a good part of the band through the right way up."""
        if self.turns_alone:
            return bool((np.abs(self.phase) < _UPRIGHT_ALL_PASS_DEGREES).any())
        passes = self.magnitude > _PASSING_DB
        return (
            bool(np.mean(np.abs(self.phase[passes]) < _UPRIGHT_DEGREES) > _UPRIGHT_BAND_SHARE)
            if passes.any()
            else False
        )


def carrying_band(excerpt: Excerpt) -> Floats:
    """Frequencies in Hz, twelve to the octave, at which the reference has something; empty for silence."""
    power, frequencies = spectrum_of(excerpt.inner), fft.rfftfreq(SPECTRUM_FRAMES, 1 / excerpt.rate)
    grid = _LOWEST_HZ * 2 ** (np.arange(0, math.log2(0.49 * excerpt.rate / _LOWEST_HZ), 1 / _POINTS_PER_OCTAVE))
    edges = grid * 2 ** (0.5 / _POINTS_PER_OCTAVE)
    half = excerpt.rate / SPECTRUM_FRAMES / 2
    found = []
    for centre, edge in zip(grid, edges, strict=True):
        inside = (frequencies >= min(centre**2 / edge, centre - half)) & (frequencies <= max(edge, centre + half))
        found.append(float(power[inside].max(initial=0.0)))
    levels = np.array(found)
    return (
        np.asarray(grid[levels > _CARRYING_POWER_SHARE * levels.max(initial=0.0)])
        if levels.max(initial=0.0) > 0
        else grid[:0]
    )


def shape_of(linear: Filter, excerpt: Excerpt) -> Shape | None:
    """The shape of a filter that was found; None where the reference carries nothing."""
    band = carrying_band(excerpt)
    if len(band) == 0:
        return None
    response = linear.response(band, excerpt.rate)
    decibels = 20 * np.log10(np.maximum(np.abs(response), 1e-6))
    gain = level_part(decibels)
    magnitude = decibels - (gain or 0.0)
    place = int(np.abs(np.maximum(magnitude, -60.0)).argmax())
    phase = np.degrees(np.angle(response))
    words = _described(band, magnitude, excerpt.rate)
    return Shape(band, magnitude, phase, gain, float(magnitude[place]), float(band[place]), words)


def level_part(decibels: Floats) -> float | None:
    """The level at which a response stays over a good part of the band; None where it is nowhere level."""
    near = np.abs(decibels[:, None] - decibels[None, :]) <= _LEVEL_WITHIN_DB
    counts = near.sum(axis=1)
    best = int(counts.argmax())
    if counts[best] < max(4.0, _LEVEL_BAND_SHARE * len(decibels)):
        return None
    return float(np.median(decibels[near[best]]))


def _described(f: Floats, magnitude: Floats, rate: int) -> str:
    """The simple shape that fits a magnitude to a small share of its change; empty for none.

    Each is tried as an analogue filter has it, and as the bilinear transform makes it, which bends frequencies up.
    """
    change = float(np.ptp(magnitude))
    if len(f) < 8 or change < _SHAPED_FROM_DB:
        return ""
    weight = np.where(magnitude > -40.0, 1.0, 0.0)
    bent = rate / math.pi * np.tan(math.pi * f / rate)
    best: tuple[float, str] | None = None
    for axis in (f, bent):
        for name, shape, starts in _SHAPES:
            begins = [(math.log(corner), second) for corner in axis[:: max(1, len(f) // 24)] for second in starts]
            for left, found in zip(*_least(partial(shape, axis), magnitude, weight, begins), strict=True):
                if (
                    shape is _bell
                    and not axis[0] * _BELL_MIDDLE_RATIO <= math.exp(found[0]) <= axis[-1] / _BELL_MIDDLE_RATIO
                ):
                    continue  # one of its sides was not seen: any roll-off looks like that
                if shape in _WITH_GAIN and abs(found[2]) < _LEAST_GAIN_DB:
                    continue
                if best is None or left < best[0]:
                    at = math.exp(found[0])
                    hertz = at if axis is f else rate / math.pi * math.atan(math.pi * at / rate)
                    best = float(left), name(math.log(hertz), *found[1:].tolist())
    if best is None or best[0] > max(_SHAPE_OFF_DB, _SHAPE_OFF_SHARE * change):
        return ""
    return best[1]


def _least(
    shape: Callable[[Floats], Floats], goal: Floats, weight: Floats, begins: list[tuple[float, float]]
) -> tuple[Floats, Floats]:
    """A few steps of the Gauss-Newton method from each of some starts; RMS of what is left in dB, and the parameters.

    Args:
        begins: the first two of the three parameters.
    """
    most = goal[int(np.abs(goal).argmax())]
    p = np.array([(*begin, most if abs(most) < 40 else math.copysign(12.0, most)) for begin in begins])
    ridge, step = 1e-6 * np.eye(3), 1e-4
    for _ in range(6):
        base = shape(p)
        error = (goal - base) * weight
        jacobian = np.stack([(shape(p + step * one) - base) / step * weight for one in np.eye(3)], axis=1)
        normal = jacobian @ jacobian.transpose(0, 2, 1) + ridge
        move = np.linalg.solve(normal, jacobian @ error[:, :, None])[:, :, 0]
        p = p + np.clip(move, -1.0, [1.0, 1.0, 6.0])
        p[:, 1] = np.clip(p[:, 1], -3.0, 3.0)
        p[:, 0] = np.clip(p[:, 0], math.log(15.0), math.log(60_000.0))
    left = (goal - shape(p)) * weight
    return np.sqrt(np.mean(left**2, axis=1)), p


def _parameters(p: Floats) -> tuple[Floats, Floats, Floats]:
    """The corner in Hz, the logarithm of the quality and the gain in dB of some shapes, a column each."""
    return np.exp(p[:, :1]), p[:, 1:2], p[:, 2:]


def _bell(f: Floats, p: Floats) -> Floats:
    corner, quality, decibels = _parameters(p)
    r, q, gain = f / corner, np.exp(quality), 10 ** (decibels / 40)
    top = (1 - r**2) ** 2 + (gain * r / q) ** 2
    return np.asarray(10 * np.log10(top / ((1 - r**2) ** 2 + (r / (q * gain)) ** 2)))


def _high_shelf(f: Floats, p: Floats) -> Floats:
    corner, _, decibels = _parameters(p)
    r, gain = (f / corner) ** 2, 10 ** (decibels / 10)
    return np.asarray(10 * np.log10((1 + r * gain) / (1 + r)))


def _low_shelf(f: Floats, p: Floats) -> Floats:
    corner, _, decibels = _parameters(p)
    r, gain = (f / corner) ** 2, 10 ** (decibels / 10)
    return np.asarray(10 * np.log10((gain + r) / (1 + r)))


def _steep_low_shelf(f: Floats, p: Floats) -> Floats:
    """Of the second order, as steep as it can be without a bump."""
    corner, _, decibels = _parameters(p)
    r, a = (f / corner) ** 2, 10 ** (decibels / 40)
    return np.asarray(10 * np.log10(a**2 * ((a - r) ** 2 + 2 * a * r) / ((1 - a * r) ** 2 + 2 * a * r)))


def _steep_high_shelf(f: Floats, p: Floats) -> Floats:
    corner, _, decibels = _parameters(p)
    r, a = (f / corner) ** 2, 10 ** (decibels / 40)
    return np.asarray(10 * np.log10(a**2 * ((1 - a * r) ** 2 + 2 * a * r) / ((a - r) ** 2 + 2 * a * r)))


def _low_pass(order: int) -> Law:
    return lambda f, p: np.asarray(-10 * np.log10(1 + (f / _parameters(p)[0]) ** (2 * order)))


def _high_pass(order: int) -> Law:
    return lambda f, p: np.asarray(-10 * np.log10(1 + (_parameters(p)[0] / f) ** (2 * order)))


def _gain(decibels: float) -> str:
    return f"{number(decibels, '+.1f')} dB"


def _hertz(log: float) -> str:
    return f"{number(round(math.exp(log), -1 if math.exp(log) < 1000 else -2), ',.0f')} Hz"


def _passing(kind: str, order: int) -> Callable[[float, float, float], str]:
    return lambda c, q, g: f"a {kind} at {_hertz(c)}, {6 * order} dB/octave"


_WITH_GAIN = (_bell, _high_shelf, _low_shelf, _steep_high_shelf, _steep_low_shelf)
_SHAPES: tuple[tuple[Callable[[float, float, float], str], Law, tuple[float, ...]], ...] = (
    (lambda c, q, g: f"a bell of {_gain(g)} at {_hertz(c)}, Q {math.exp(q):.1f}", _bell, (0.0,)),
    (lambda c, q, g: f"a high shelf of {_gain(g)} from {_hertz(c)}", _high_shelf, (0.0,)),
    (lambda c, q, g: f"a low shelf of {_gain(g)} to {_hertz(c)}", _low_shelf, (0.0,)),
    (lambda c, q, g: f"a high shelf of {_gain(g)} at {_hertz(c)}, 12 dB/octave", _steep_high_shelf, (0.0,)),
    (lambda c, q, g: f"a low shelf of {_gain(g)} at {_hertz(c)}, 12 dB/octave", _steep_low_shelf, (0.0,)),
    *((_passing("low-pass", order), _low_pass(order), (0.0,)) for order in _ORDERS),
    *((_passing("high-pass", order), _high_pass(order), (0.0,)) for order in _ORDERS),
)
