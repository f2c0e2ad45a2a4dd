"""What is known of a pair before its difference is explained, and what the explanation comes to."""

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.causes.cause import Cause
from kind_echo.core.levels.integrity import Gap
from kind_echo.core.registry.readings import Curve, Reading, Reason

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class ComparedFacts:
    """What the comparison found already.

    Attributes:
        readings: integrity, delay, polarity and the rest.
        delay: samples; None where there is none.
        no_delay: why there is none.
        drift: ppm, where it is more than its uncertainty; else 0.
        gaps: of the render, lined up.
        clicks: frames of the reference at which the render clicks, by channel.
    """

    readings: Sequence[Reading]
    delay: float | None
    no_delay: Reason | None
    drift: float
    gaps: Sequence[Gap]
    clicks: Sequence[Sequence[int]]


@dataclass(frozen=True)
class Explained:
    """Causes, and what was found on the way.

    Attributes:
        filtered: share of what delay, polarity and gain leave, by channel, that the best filter leaves; None for none.
        clicks: those that no filter explains; None where that was not looked at.
        is_deep: whether next to nothing of the whole difference is left unexplained.
        curves: responses of the filters, curves of output over input, gains over time.
    """

    causes: list[Cause]
    filtered: Floats | None = None
    why_no_filter: str | None = None
    curves: dict[str, Curve] = field(default_factory=dict)
    clicks: list[list[int]] | None = None
    is_deep: bool = False
