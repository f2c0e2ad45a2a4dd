"""What comes out of silence, or of a constant: an offset, tones, noise."""

import math

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource, rows_of_pair
from kind_echo.core.audio.source import Source
from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.models import decibels
from kind_echo.core.causes.shares import fall
from kind_echo.core.causes.thresholds import NAMING
from kind_echo.core.registry.numbers import number
from kind_echo.core.undoing.lines import find_lines

Floats = NDArray[np.float64]

_CONSTANT_SHARE = 1e-5  # of its value, by which a reference varies at the most


def is_constant(reference: Source, aligned: AlignedSource) -> bool:
    """Whether a reference is silent, or one value all along, in every channel."""
    value: Floats | None = None
    for _, x, _ in rows_of_pair(reference, aligned):
        value = x[:, :1] if value is None else value
        if (np.abs(x - value) > _CONSTANT_SHARE * np.abs(value)).any():
            return False
    return value is not None


def causes_from_nothing(reference: Source, aligned: AlignedSource) -> list[Cause]:
    """What a render has that a silent or constant reference has not; the louder first."""
    sums, own = np.zeros((3, reference.channels)), np.zeros(reference.channels)
    for _, x, y in rows_of_pair(reference, aligned):
        error = y - x
        sums += [np.square(error).sum(axis=1), error.sum(axis=1), np.full(len(x), x.shape[1])]
        own = x[:, 0]
    count = max(1.0, float(sums[2].max()))
    power, mean = sums[0] / count, sums[1] / count
    left = float((power - mean**2).clip(min=0.0).sum())
    causes = []
    if float(np.square(mean).sum()) > max(NAMING.least_power, 0.2 * float(power.sum())):
        channel = int(np.abs(mean).argmax())
        most, off = float(mean[channel]), fall(float(power.sum()), left)
        causes.append(Cause("dc", amount=most, unit="FS", takes_off=off, why=_or_gain(float(own[channel]), most)))
    lines = find_lines(reference, aligned)
    if lines is not None:
        causes += lines.causes
        left *= 10 ** (-lines.off / 10)
    if left > reference.channels * NAMING.floor and (lines is None or lines.off < 40.0):
        level = round(decibels(left / reference.channels), 1)
        causes.append(Cause("noise", amount=level, unit="dBFS", why="the reference is silent there"))
    return causes


def _or_gain(value: float, offset: float) -> str | None:
    """Of a constant, an offset and a gain are one and the same."""
    factor = 1.0 + offset / value if value else 0.0
    return f"or a gain of {number(20 * math.log10(factor), '+.2f')} dB" if factor > 0.0 else None
