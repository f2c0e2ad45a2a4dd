"""How late a burst of tone is in a render whose gain moves, where correlation would take its attack for a delay."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

_LONGEST_SECONDS = 1.0  # s by which a render is looked for earlier or later
_AROUND_PERIODS = 4  # periods beside each step that are looked at
_CLEARLY_SHARE = 0.9  # of the movement of the gain without a delay, under which another is believed
_ONE_WAY_RATIO = 1.05  # times its change from end to end, that a gain moves which goes one way alone
_LEAST_MOVEMENT_DB = 0.05  # dB that the gain moves at any delay
_FINEST_SAMPLES = 0.01  # samples


@dataclass(frozen=True)
class Steps:
    """Levels of the tone on both sides, and where the input steps.

    Attributes:
        level_in, level_out: dB by frame of the tone in the input and in the output, shape (frames,) each.
        edges: frames at which the input steps up and down.
        period: of the tone, in samples.
    """

    level_in: Floats
    level_out: Floats
    edges: tuple[int, int]
    period: float


def find_burst_delay(steps: Steps, rate: int) -> float:
    """Samples by which the output is later: the delay at which the gain moves least about the input's steps.

    Searched a second to either side, to a hundredth of a sample; our own method.
    At any other delay the step itself stands in the gain, once up and once down. 0 where no delay is clearly better,
    as of an output whose level does not step.
    """
    up, down = steps.edges
    longest = min(_LONGEST_SECONDS * rate, 0.9 * min(up, down - up, len(steps.level_in) - down))
    stride = steps.period / 2
    count = int(longest / stride)
    coarse = max(1, round(stride / 2))
    usual, one_way = (_movement(steps, 0.0, coarse, longest, whole=whole) for whole in (True, False))
    if count < 1 or usual < _ONE_WAY_RATIO * one_way + _LEAST_MOVEMENT_DB:
        return 0.0
    tried = np.arange(-count, count + 1) * stride
    moved = [_movement(steps, late, coarse, longest) for late in tried.tolist()]
    at = float(tried[int(np.argmin(moved))])
    window = abs(at) + stride
    while stride > _FINEST_SAMPLES:
        tried = at + np.linspace(-stride, stride, 9)
        at = float(tried[int(np.argmin([_movement(steps, late, 1, window) for late in tried.tolist()]))])
        stride /= 3
    usual, least = (_movement(steps, late, 1, window) for late in (0.0, at))
    return at if least + _LEAST_MOVEMENT_DB < _CLEARLY_SHARE * (usual + _LEAST_MOVEMENT_DB) else 0.0


def _movement(steps: Steps, late: float, stride: int, window: float, *, whole: bool = True) -> float:
    """dB by which the gain goes up and down about both steps together, when the output is taken `late` samples later.

    Args:
        stride: samples from one point that is looked at to the next.
        window: samples beside each step that are looked at, beyond a few periods.
        whole: all of the movement; else from one end of each window to the other.
    """
    wide = round(_AROUND_PERIODS * steps.period + window)
    shift, part = int(np.floor(late)), late - np.floor(late)
    total = 0.0
    for edge in steps.edges:
        frames = np.arange(max(0, edge - wide), min(len(steps.level_in), edge + wide), stride)
        # Beyond its ends the output stands still: there the whole step of the input is in the gain.
        one, next_one = (np.clip(frames + shift + k, 0, len(steps.level_out) - 1) for k in (0, 1))
        output = (1.0 - part) * steps.level_out[one] + part * steps.level_out[next_one]
        gain = output - steps.level_in[frames]
        total += float(np.abs(np.diff(gain)).sum() if whole else abs(gain[-1] - gain[0]))
    return total
