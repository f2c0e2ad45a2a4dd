"""What could have made a render of its reference: filter, curve, clipping, moving gain, one or several in turn."""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.causes.curves import Clipping, CurveFit, find_clipping, fit_curve
from kind_echo.core.causes.excerpts import Excerpt
from kind_echo.core.causes.filtering import Filter, filtered, fit_filter, share_that_follows
from kind_echo.core.causes.level_motion import GainMotion, follow_gain
from kind_echo.core.causes.shapes import Shape

Floats = NDArray[np.float64]

Kind = Literal["filter", "curve", "clipping", "motion"]

WORTH = 10 ** (1.0 / 10)
"""A model takes at least 1 dB off what is left, or it is none."""

_SECOND_WORTH_RATIO = 10 ** (5.0 / 10)  # a further one, for the first has left what fits anything a little
_BARELY_LEFT_SHARE = 10**-2.0  # of it, under which a filter is no longer looked for beside a curve or a gain that moves
_DEEP_SHARE = 10**-3.5  # of what there was to explain: what is left then is how well the model itself was found
_FILTER_PAYS_SHARE = 0.1  # of the power of what is left, under which no filter takes 1 dB off it: that is a fifth
_OWN_BEND_SHARE = 0.25  # of what a curve explains beside a filter, that its own bend makes up
_CUT_LEAVES_SHARE = 0.5  # a cut, which has one number, goes before a curve that leaves no less than half as much
_ROUNDS = 2


@dataclass(frozen=True)
class Model:
    """One channel's render as it is made of its reference.

    Attributes:
        parts: what is done to the reference, in order.
        gain: what it does to soft parts in the middle of the band, as a factor.
        error: of the render, over the frames of the excerpt.
        left: mean square of the error.
        steps: mean square that is left after each of the parts, in the order in which they were found.
    """

    parts: tuple[Kind, ...]
    gain: float
    error: Floats
    left: float
    steps: tuple[tuple[Kind, float, float], ...] = ()
    filter: Filter | None = None
    curve: CurveFit | None = None
    clipping: Clipping | None = None
    motion: GainMotion | None = None


_Turn = tuple[Model, Floats | None]  # a model, and the render with what comes after its filter undone, if it can be


def explain_channel(excerpt: Excerpt, floor: float) -> Model:
    """The parts that explain a channel, each told on frames that it was not fitted on.

    Args:
        floor: mean square under which nothing need be explained.
    """
    x, y = excerpt.inner, excerpt.y
    gain = _gain(excerpt, x, y)
    plain = Model((), gain, y - gain * x, 0.0)
    plain = replace(plain, left=excerpt.power(plain.error))
    enough = max(floor, _DEEP_SHARE * plain.left)
    if plain.left <= floor:
        return plain
    singles = _singles(excerpt, plain)
    best = min(singles, key=lambda model: model.left * (_CUT_LEAVES_SHARE if model.clipping else 1.0), default=plain)
    if best.left * WORTH > plain.left:
        return plain
    best = replace(best, steps=((best.parts[0], plain.left, best.left),))
    for _ in range(2):
        if best.left <= (enough if best.filter is not None else max(enough, _BARELY_LEFT_SHARE * plain.left)):
            return best
        further = [
            model
            for model in _furthered(excerpt, best)
            if model.left * _SECOND_WORTH_RATIO < best.left and _bends_enough(excerpt, model, best)
        ]
        if not further:
            return best
        found = min(further, key=lambda model: model.left)
        added = next(part for part in found.parts if part not in best.parts)
        best = replace(found, steps=(*best.steps, (added, best.left, found.left)))
    return best


def _bends_enough(excerpt: Excerpt, model: Model, before: Model) -> bool:
    """Whether a curve that came in bends what goes through it about as much as it explains; a straight one does not."""
    if model.curve is None or before.curve is not None:
        return True
    u = excerpt.inner
    if model.parts[0] == "filter" and model.filter is not None:
        u = filtered(excerpt, model.filter.taps, model.filter.before)
    bent = model.curve.of(u)
    off = excerpt.power(bent - _gain(excerpt, u, bent) * u)
    # A filter that comes after makes it louder or softer, as it does the whole.
    scale = excerpt.power(excerpt.y) / max(excerpt.power(bent), 1e-30)
    return off * scale >= _OWN_BEND_SHARE * (before.left - model.left)


def _gain(excerpt: Excerpt, u: Floats, y: Floats) -> float:
    own = float((u * u * excerpt.weight).sum())
    return float((u * y * excerpt.weight).sum()) / own if own > 0.0 else 1.0


def _singles(excerpt: Excerpt, plain: Model) -> list[Model]:
    """Each kind of part by itself."""
    x, y = excerpt.inner, excerpt.y
    found = []
    clipping = _clip(excerpt, x, y)
    if clipping is not None:
        cut, gain = clipping
        found.append(Model(("clipping",), gain, cut.error, cut.left, clipping=cut))
    curve = fit_curve(excerpt, x, y)
    if curve is not None:
        found.append(Model(("curve",), _slope(excerpt, curve, x), curve.error, curve.left, curve=curve))
    motion = follow_gain(excerpt, x, y)
    if motion is not None:
        found.append(Model(("motion",), motion.quiet or plain.gain, motion.error, motion.left, motion=motion))
    deep = found and min(model.left for model in found) <= _DEEP_SHARE * plain.left
    if not deep and share_that_follows(excerpt, plain.error) > _FILTER_PAYS_SHARE:
        linear = fit_filter(excerpt, enough=1e-6 * plain.left)
        if linear is not None:
            found.append(Model(("filter",), plain.gain, linear.error, linear.left, filter=linear))
    return found


def _furthered(excerpt: Excerpt, model: Model) -> list[Model]:
    """A model with one part more, in each order that can be told."""
    found: list[Model | None] = []
    if "filter" in model.parts and model.filter is not None:
        if model.curve is None and model.clipping is None:
            found += [_filter_then_curve(excerpt, model), _curve_then_filter(excerpt, model)]
            found.append(_filter_then_clipping(excerpt, model))
        if model.motion is None:
            found.append(_with_motion(excerpt, model))
    elif model.filter is None and (model.curve is not None or model.clipping is not None):
        found += [_filter_then_curve(excerpt, model), _curve_then_filter(excerpt, model)]
        if model.clipping is not None:
            found.append(_filter_then_clipping(excerpt, model))
        if model.motion is None:
            found.append(_with_motion(excerpt, model))
    elif model.motion is not None:
        found += _under_motion(excerpt, model)
    return [one for one in found if one is not None and set(one.parts) > set(model.parts)]


def _curve_then_filter(excerpt: Excerpt, model: Model) -> Model | None:
    """A curve of the reference, and then a filter: they take turns, each fitted with the other undone."""
    x = excerpt.x
    curve = model.curve or fit_curve(excerpt, excerpt.inner, excerpt.y)
    best: Model | None = None
    for _ in range(_ROUNDS):
        if curve is None:
            break
        bent = replace(excerpt, x=curve.of(x))
        linear = fit_filter(bent, lengths=2, like=None if best is None else best.filter)
        if linear is None:
            break
        if best is not None and linear.left >= best.left:
            break
        best = Model(("curve", "filter"), model.gain, linear.error, linear.left, filter=linear, curve=curve)
        # What comes out of the filter's inverse is what the curve gave.
        inverse = _inverse(excerpt, linear, curve)
        curve = None if inverse is None else fit_curve(excerpt, excerpt.inner, inverse)
    return best


def _inverse(excerpt: Excerpt, linear: Filter, curve: CurveFit) -> Floats | None:
    """The render with the filter undone: a filter from it to what the curve gives."""
    margin = excerpt.reach
    padded = np.pad(excerpt.y, ((0, 0), (margin, margin)))
    back = fit_filter(replace(excerpt, x=padded), curve.of(excerpt.inner), lengths=2)
    if back is None:
        return None
    return filtered(replace(excerpt, x=padded), back.taps, back.before)


def _filter_then_curve(excerpt: Excerpt, model: Model) -> Model | None:
    """A filter of the reference, and then a curve."""

    def bent(linear: Filter, through: Floats) -> _Turn | None:
        curve = fit_curve(excerpt, through, excerpt.y)
        if curve is None:
            return None
        made = Model(("filter", "curve"), model.gain, curve.error, curve.left, filter=linear, curve=curve)
        return made, curve.back(excerpt.y)

    return _in_turns(excerpt, model, bent)


def _filter_then_clipping(excerpt: Excerpt, model: Model) -> Model | None:
    """A filter of the reference, and then clipping."""

    def clipped(linear: Filter, through: Floats) -> _Turn | None:
        cut = find_clipping(excerpt, through, excerpt.y)
        if cut is None:
            return None
        made = Model(("filter", "clipping"), model.gain, cut.error, cut.left, filter=linear, clipping=cut)
        # Where it is cut, what would have come is taken from the filter itself.
        beyond = (excerpt.y >= cut.high) | (excerpt.y <= cut.low)
        return made, np.where(beyond, through, excerpt.y)

    return _in_turns(excerpt, model, clipped)


def _in_turns(excerpt: Excerpt, model: Model, after: Callable[[Filter, Floats], _Turn | None]) -> Model | None:
    """A filter and what comes after it, each fitted with the other undone, as long as that leaves less."""
    linear = model.filter or fit_filter(excerpt, lengths=2)
    best: Model | None = None
    for _ in range(_ROUNDS):
        if linear is None:
            break
        turn = after(linear, filtered(excerpt, linear.taps, linear.before))
        if turn is None or (best is not None and turn[0].left >= best.left):
            break
        best, before = turn
        if before is None:
            break
        linear = fit_filter(excerpt, before, lengths=2, like=linear)
    return best


def _with_motion(excerpt: Excerpt, model: Model) -> Model | None:
    """What a model predicts, under a gain that moves."""
    prediction = excerpt.y - model.error
    motion = follow_gain(excerpt, prediction, excerpt.y)
    if motion is None:
        return None
    return replace(model, parts=(*model.parts, "motion"), error=motion.error, left=motion.left, motion=motion)


def _under_motion(excerpt: Excerpt, model: Model) -> list[Model | None]:
    """Another part beside a gain that moves: told with that gain undone."""
    assert model.motion is not None
    track = np.maximum(np.abs(model.motion.track), 1e-3) * np.sign(model.motion.track + 1e-30)
    still = replace(excerpt, y=excerpt.y / track)
    found: list[Model | None] = []
    for single in _singles(still, replace(model, gain=1.0)):
        if single.parts[0] == "motion":
            continue
        again = follow_gain(excerpt, still.y - single.error, excerpt.y)
        if again is not None:
            found.append(
                replace(single, parts=(*single.parts, "motion"), error=again.error, left=again.left, motion=again,
                        gain=model.gain)
            )  # fmt: skip
    return found


def _clip(excerpt: Excerpt, x: Floats, y: Floats) -> tuple[Clipping, float] | None:
    """Clipping of the reference at one gain, which is told from what is not cut; and that gain."""
    peak = float(np.abs(y * excerpt.weight).max(initial=0.0))
    inside = replace(excerpt, weight=excerpt.weight * (np.abs(y) < peak * (1.0 - 1e-6)))
    gain = _gain(inside, x, y)
    found = find_clipping(excerpt, gain * x, y)
    return None if found is None else (found, gain)


def _slope(excerpt: Excerpt, curve: CurveFit, u: Floats) -> float:
    """The gain of a curve for soft sounds: over a twentieth of the range, where it is not bent yet."""
    near = 0.05 * float(curve.knots[-1])
    rise = curve.of(np.array([-near, near]))
    return float(rise[1] - rise[0]) / (2 * near)


def plain_gain(model: Model, shape: Shape | None) -> float:
    """The gain of a model where it does nothing else, signed as the model has it."""
    sign = -1.0 if model.gain < 0.0 else 1.0
    if "filter" in model.parts:
        if shape is None or shape.gain is None:
            return sign
        return sign * 10 ** (shape.gain / 20)
    return model.gain


def decibels(power: float) -> float:
    """A mean square as dBFS (AES17), −400 for none."""
    return 10 * math.log10(2 * power) if power > 0.0 else -400.0
