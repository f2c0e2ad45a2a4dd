"""Percentiles, without the library of masked arrays that NumPy loads for its own."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def percentiles(values: Floats, shares: Sequence[float]) -> Floats:
    """Percentiles by linear interpolation between order statistics, as `numpy.percentile` has them.

    Args:
        values: one at least.
        shares: in percent.
    """
    ordered = np.sort(values)
    at = np.asarray(shares) / 100.0 * (len(ordered) - 1)
    below = at.astype(np.int64)
    part = at - below
    lower, upper = ordered[below], ordered[np.minimum(below + 1, len(ordered) - 1)]
    step = upper - lower
    return np.asarray(np.where(part < 0.5, lower + step * part, upper - step * (1.0 - part)))
