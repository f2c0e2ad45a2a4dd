"""A memoryless curve of output over input, fitted on some parts of a sound and judged on the others; and clipping."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.causes.excerpts import Excerpt

Floats = NDArray[np.float64]

_KNOTS = 129
_KNOT_BINDING_SHARE = 1e-6  # of the mean count of a knot: what binds knots that no sample reaches to their neighbours
_RAIL_TOLERANCE_SHARE = 1e-6  # of the rail, within which a sample stands at it
_LEAST_RAIL_SAMPLES = 2


@dataclass(frozen=True)
class CurveFit:
    """A curve through knots, straight between them, and what it leaves.

    Attributes:
        knots: inputs at which the curve is told, ascending.
        values: outputs there.
        error: of the target, each part with the curve that was fitted on the others.
        left: mean square of the error.
    """

    knots: Floats
    values: Floats
    error: Floats
    left: float

    def of(self, u: Floats) -> Floats:
        """The output for inputs of any shape."""
        return np.interp(u, self.knots, self.values)

    def back(self, y: Floats) -> Floats | None:
        """The inputs that give outputs; None for a curve that does not rise all the way."""
        if (np.diff(self.values) <= 0.0).any():
            return None
        return np.interp(y, self.values, self.knots)


@dataclass(frozen=True)
class Clipping:
    """A rail at which a render is cut, and what cutting the prediction there leaves.

    Attributes:
        low, high: the rails; infinite where one is not reached.
        count: samples that stand at a rail and would pass it.
    """

    low: float
    high: float
    count: int
    error: Floats
    left: float


def fit_curve(excerpt: Excerpt, u: Floats, target: Floats) -> CurveFit | None:
    """The curve from u to the target, both over the frames of the excerpt; None for an input that is silent."""
    greatest = float(np.abs(u).max(initial=0.0))
    if greatest <= 0.0:
        return None
    knots = np.linspace(-greatest, greatest, _KNOTS)
    fold = np.broadcast_to(excerpt.fold, u.shape)
    place = np.clip((u / greatest + 1.0) * (_KNOTS - 1) / 2, 0.0, _KNOTS - 1.000001)
    at = place.astype(int)
    share = place - at
    values = []
    for k in (0, 1):
        chosen = (fold == k) & (excerpt.weight > 0)
        values.append(_solved(at[chosen], share[chosen], target[chosen]))
    first, second = (np.interp(u, knots, v) for v in values)
    error = target - np.where(fold == 0, second, first)
    return CurveFit(knots, 0.5 * (values[0] + values[1]), error, excerpt.power(error))


def _solved(at: NDArray[np.int64], share: Floats, target: Floats) -> Floats:
    """Least squares of straight pieces between knots; a weak pull towards no bend holds what no sample reaches."""
    rest = 1.0 - share

    def summed(index: NDArray[np.int64], weights: Floats) -> Floats:
        return np.asarray(np.bincount(index, weights, _KNOTS)[:_KNOTS], dtype=np.float64)

    main = summed(at, rest**2) + summed(at + 1, share**2)
    beside = summed(at, rest * share)[:-1]
    right = summed(at, rest * target) + summed(at + 1, share * target)
    pull = _KNOT_BINDING_SHARE * max(1.0, len(at) / _KNOTS)
    bend = np.diff(np.eye(_KNOTS), 2, axis=0)
    normal = np.diag(main) + np.diag(beside, 1) + np.diag(beside, -1) + pull * bend.T @ bend
    try:
        return np.asarray(np.linalg.solve(normal, right))
    except np.linalg.LinAlgError:
        # All samples stand at one place, as those of one click do: of all lines through it the one next to zero.
        return np.asarray(np.linalg.lstsq(normal, right, rcond=None)[0])


def find_clipping(excerpt: Excerpt, prediction: Floats, target: Floats) -> Clipping | None:
    """The rail at which a target is cut and its prediction is not; None where no samples stand at one together."""
    weighed = excerpt.weight > 0
    high, low = float(target[weighed].max(initial=0.0)), float(target[weighed].min(initial=0.0))
    counts, rails = 0, []
    for rail, sign in ((high, 1.0), (low, -1.0)):
        at = (
            weighed & (sign * target >= abs(rail) * (1.0 - _RAIL_TOLERANCE_SHARE))
            if rail * sign > 0.0
            else np.zeros_like(weighed)
        )
        beyond = at & (sign * prediction > abs(rail))
        holds = int(beyond.sum()) >= _LEAST_RAIL_SAMPLES and 2 * int(beyond.sum()) > int(at.sum())
        counts += int(beyond.sum()) if holds else 0
        rails.append(rail if holds else sign * np.inf)
    if counts == 0:
        return None
    error = target - np.clip(prediction, rails[1], rails[0])
    return Clipping(rails[1], rails[0], counts, error, excerpt.power(error))
