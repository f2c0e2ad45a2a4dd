"""What each cause takes off, and which explains most."""

import math
from collections.abc import Sequence

from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.excerpts import Excerpt
from kind_echo.core.causes.filtering import filtered
from kind_echo.core.causes.models import Model


def fall(before: float, after: float) -> float:
    """By how many dB a power fell; at most 200."""
    if before <= 0.0:
        return 0.0
    return min(200.0, 10 * math.log10(before / max(after, before * 1e-20)))


def by_share(causes: Sequence[Cause]) -> list[Cause]:
    """Causes by the share of the difference that each explains, told one after the other; the greatest first."""
    left, shares = 1.0, []
    for cause in causes:
        after = left * 10 ** (-(cause.takes_off or 0.0) / 10)
        shares.append(left - after)
        left = after
    order = sorted(range(len(causes)), key=lambda i: -shares[i])
    return [causes[i] for i in order]


def without_gain(level: list[Excerpt], models: dict[int, Model], channels: Sequence[int], factor: float) -> float:
    """dB that filters take off beyond what they do without the gain of their level parts; 0 where there is none.

    A gain beside a filter may move the render no closer by itself, as a cut beside a boost.
    """
    with_gain = without = 0.0
    for c in channels:
        model = models[c]
        if model.parts != ("filter",) or model.filter is None:
            return 0.0
        through = filtered(level[c], model.filter.taps, model.filter.before)
        with_gain += level[c].power(level[c].y - through)
        without += level[c].power(level[c].y - through / factor)
    return fall(without, with_gain)
