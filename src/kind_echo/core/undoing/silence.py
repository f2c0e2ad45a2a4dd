"""What comes out of silence, or of a constant: an offset, tones, noise."""

import numpy as np

from kind_echo.core.audio.align import AlignedSource, rows_of_pair
from kind_echo.core.audio.source import Source
from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.models import decibels
from kind_echo.core.causes.shares import fall
from kind_echo.core.causes.thresholds import NAMING
from kind_echo.core.undoing.lines import find_lines

_CONSTANT = 1e-10  # of its power, under which a reference varies


def is_constant(reference: Source, aligned: AlignedSource) -> bool:
    """Whether a reference is silent, or one value all along, in every channel."""
    sums = np.zeros((3, reference.channels))
    for _, x, _ in rows_of_pair(reference, aligned):
        sums += [np.square(x).sum(axis=1), x.sum(axis=1), np.full(len(x), x.shape[1])]
    own, total, count = sums
    varies = own - np.divide(total**2, count, out=np.zeros_like(own), where=count > 0)
    return bool((varies <= _CONSTANT * own).all())


def causes_from_nothing(reference: Source, aligned: AlignedSource) -> list[Cause]:
    """What a render has that a silent or constant reference has not; the louder first."""
    sums = np.zeros((3, reference.channels))
    for _, x, y in rows_of_pair(reference, aligned):
        error = y - x
        sums += [np.square(error).sum(axis=1), error.sum(axis=1), np.full(len(x), x.shape[1])]
    count = max(1.0, float(sums[2].max()))
    power, mean = sums[0] / count, sums[1] / count
    left = float((power - mean**2).clip(min=0.0).sum())
    causes = []
    if float(np.square(mean).sum()) > max(NAMING.least_power, 0.2 * float(power.sum())):
        most = float(mean[np.abs(mean).argmax()])
        causes.append(Cause("dc", amount=most, unit="FS", takes_off=fall(float(power.sum()), left)))
    lines = find_lines(reference, aligned)
    if lines is not None:
        causes += lines.causes
        left *= 10 ** (-lines.off / 10)
    if left > reference.channels * NAMING.floor and (lines is None or lines.off < 40.0):
        level = round(decibels(left / reference.channels), 1)
        causes.append(Cause("noise", amount=level, unit="dBFS", why="the reference is silent there"))
    return causes
