"""How late a burst of tone is in a render whose gain moves, where correlation would take its attack for a delay."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Frames = NDArray[np.int64]

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
    """Samples by which the output is later: the delay that takes most movement out of the gain about the input's steps.

    Searched a second to either side, to a hundredth of a sample; our own method.
    At any other delay the step itself stands in the gain, once up and once down. 0 where no delay is clearly better,
    as of an output whose level does not step.
    """
    up, down = steps.edges
    longest = min(_LONGEST_SECONDS * rate, 0.9 * min(up, down - up, len(steps.level_in) - down))
    stride = steps.period / 2
    count = int(longest / stride)
    coarse = max(1, round(stride / 2))
    frames = _frames(steps, coarse, longest)
    usual, one_way = (sum(_movement(steps, 0.0, one, whole=whole) for one in frames) for whole in (True, False))
    if count < 1 or usual < _ONE_WAY_RATIO * one_way + _LEAST_MOVEMENT_DB:
        return 0.0
    tried = np.arange(-count, count + 1) * stride
    at = float(tried[int(np.argmax([_saved(steps, late, frames)[0] for late in tried.tolist()]))])
    fine = _frames(steps, 1, abs(at) + stride)
    while stride > _FINEST_SAMPLES:
        tried = at + np.linspace(-stride, stride, 9)
        at = float(tried[int(np.argmax([_saved(steps, late, fine)[0] for late in tried.tolist()]))])
        stride /= 3
    saved, usual = _saved(steps, at, fine)
    return at if usual - saved + _LEAST_MOVEMENT_DB < _CLEARLY_SHARE * (usual + _LEAST_MOVEMENT_DB) else 0.0


def _frames(steps: Steps, stride: int, window: float) -> list[Frames]:
    """The frames about each step that are looked at: so many samples to either side, beyond a few periods."""
    wide = round(_AROUND_PERIODS * steps.period + window)
    last = len(steps.level_in)
    return [np.arange(max(0, edge - wide), min(last, edge + wide), stride) for edge in steps.edges]


def _saved(steps: Steps, late: float, about: list[Frames]) -> tuple[float, float]:
    """How much less the gain moves with the output taken `late` samples later than as it is, and how much as it is.

    Over the same frames, those for which there is output: noise moves it alike at both.
    """
    saved = usual = 0.0
    for frames in about:
        there = frames[(frames + late >= 0) & (frames + late <= len(steps.level_out) - 1)]
        if len(there) > 1:
            as_it_is = _movement(steps, 0.0, there)
            saved, usual = saved + as_it_is - _movement(steps, late, there), usual + as_it_is
    return saved, usual


def _movement(steps: Steps, late: float, frames: Frames, *, whole: bool = True) -> float:
    """dB by which the gain goes up and down over some frames, when the output is taken `late` samples later.

    Args:
        whole: all of the movement; else from one end to the other.
    """
    shift, part = int(np.floor(late)), late - np.floor(late)
    # Beyond its ends the output stands still: there the whole step of the input is in the gain.
    one, next_one = (np.clip(frames + shift + k, 0, len(steps.level_out) - 1) for k in (0, 1))
    output = (1.0 - part) * steps.level_out[one] + part * steps.level_out[next_one]
    gain = output - steps.level_in[frames]
    return float(np.abs(np.diff(gain)).sum() if whole else abs(gain[-1] - gain[0]))
