"""How much of a cause there is, in a number and in words, and the curves that show it."""

import math

import numpy as np

from kind_echo.core.causes.leftover import Judged
from kind_echo.core.causes.models import Kind, Model
from kind_echo.core.causes.shapes import Shape
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Curve


def found_amount(
    kind: Kind, model: Model, shape: Shape | None, ending: str
) -> tuple[float | None, str, str | None, dict[str, Curve]]:
    """The amount of a part of a model, its unit, words for it, and the curves that show it.

    Args:
        shape: of the model's filter, where it can be told.
        ending: of the names of the curves; empty where all channels share the part.
    """
    if kind == "filter" and shape is not None:
        f = shape.frequencies.tolist()
        curves = {
            f"filter_magnitude{ending}": Curve("Hz", "dB", f, shape.magnitude.tolist()),
            f"filter_phase{ending}": Curve("Hz", "degrees", f, shape.phase.tolist()),
        }
        if shape.angle is not None:
            return shape.greatest, "dB", f"all phases turned by {number(shape.angle, '+.0f')}°", curves
        if shape.turns_alone:
            turned = float(np.abs(shape.phase).max())
            return shape.greatest, "dB", f"phase alone, by up to {turned:.{0 if turned >= 10.0 else 1}f}°", curves
        at = f"{number(shape.greatest, '+.1f')} dB at {number(shape.at, ',.0f')} Hz"
        return shape.greatest, "dB", f"{at}: {shape.words}" if shape.words else at, curves
    if kind == "curve" and model.curve is not None:
        curve = Curve("FS", "FS", model.curve.knots.tolist(), model.curve.values.tolist())
        return None, "", "a curve of output over input predicts it", {f"output_over_input{ending}": curve}
    if kind == "clipping" and model.clipping is not None:
        rail = min(abs(model.clipping.low), abs(model.clipping.high))
        words = f"at {number(20 * math.log10(max(rail, 1e-9)), '.2f')} dBFS"
        return float(model.clipping.count), "", words, {}
    if model.motion is not None:
        gains = 20 * np.log10(np.maximum(np.abs(model.motion.gains), 1e-6))
        spread = float(np.subtract(*np.percentile(gains, [95, 5])))
        moving = Curve("s", "dB", model.motion.times.tolist(), gains.tolist())
        words = f"over {number(spread, '.1f' if spread >= 1.0 else '.2f')} dB"
        return spread, "dB", words, {f"gain_over_time{ending}": moving}
    return None, "", None, {}


def lossy_words(judged: Judged) -> str:
    """What shows that a codec was at work."""
    words = "it follows the signal, leaves holes of time and frequency"
    if not judged.edge:
        return words
    return f"{words}, and ends at {number(judged.edge, ',.0f')} Hz"
