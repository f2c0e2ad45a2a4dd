"""Clicks of a render that are neither edges of gaps, nor steps of the reference that show in a residual."""

import numpy as np

from kind_echo.core.audio.align import AlignedSource
from kind_echo.core.audio.source import Source
from kind_echo.core.causes.curves import fit_curve
from kind_echo.core.causes.excerpts import take_excerpts
from kind_echo.core.levels.integrity import Gap, not_of_the_reference, steeper, without_gaps

_SOUNDING_SHARE = 0.001  # of the greatest sample, from which the reference sounds
_APART_SHARE = 3e-4  # of the reference: half of all samples differ by more
_BENT_SHARE = 0.1  # of what a gain leaves


def clicks_among(
    steps: list[list[int]], gaps: list[Gap], reference: Source, aligned: AlignedSource, scale: float
) -> list[list[int]]:
    """The clicks among the steps that were found in a residual, as frames by channel.

    Args:
        steps: what `find_clicks` found of the same pair.
        scale: what brings the render to the level of the reference.
    """
    clicks = without_gaps(steps, gaps, reference.rate)
    clicks = not_of_the_reference(clicks, reference, aligned, scale)
    if any(clicks) and _is_changed_all_along(reference, aligned, scale):
        return steeper(clicks, reference, aligned, scale)
    return clicks


def _is_changed_all_along(reference: Source, aligned: AlignedSource, scale: float) -> bool:
    """Whether the two differ nearly everywhere, or a curve of output over input explains most of what a gain leaves.

    What steps in the reference then steps in the residual too.
    """
    for one in take_excerpts(reference, aligned, 0):
        sounds = np.abs(one.inner) > _SOUNDING_SHARE * np.abs(one.inner).max(initial=0.0)
        if sounds.any():
            apart = np.median(np.abs(scale * one.y - one.inner)[sounds])
            if apart > _APART_SHARE * float(np.median(np.abs(one.inner[sounds]))):
                return True
        own = float((one.inner**2).sum())
        gain = float((one.inner * one.y).sum()) / own if own > 0.0 else 1.0
        curve = fit_curve(one, one.inner, one.y)
        if curve is not None and curve.left < _BENT_SHARE * one.power(one.y - gain * one.inner):
            return True
    return False
