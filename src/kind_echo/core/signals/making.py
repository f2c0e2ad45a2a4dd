"""From a request to samples."""

from dataclasses import replace

import numpy as np

from kind_echo.core.audio.source import LEAST_RATE, Samples
from kind_echo.core.signals.parameter import within
from kind_echo.core.signals.request import SignalRequest


def synthesise(request: SignalRequest, rate: int) -> Samples:
    """Samples of a signal at a rate, shape (frames, channels).

    Raises:
        BadParameter: a frequency at or above half the rate, or another parameter out of range.
    """
    within("rate", rate, LEAST_RATE, 1_536_000)
    sound = request.sound(max(1, round(request.seconds * rate)), rate)
    mono = np.concatenate([np.zeros(round(request.lead_in * rate)), sound, np.zeros(round(request.tail * rate))])
    if request.placement == "apart":
        other = replace(request, channels=1, placement="equal", seed=(request.seed + 1) % 2**32)
        return np.concatenate([mono[:, None], synthesise(other, rate)], axis=1)
    samples = np.repeat(mono[:, None], request.channels, axis=1)
    if request.placement == "opposite":
        samples[:, 1] *= -1.0
    elif request.placement != "equal":
        samples[:, 1 if request.placement == "first" else 0] = 0.0
    return samples


def whole_seconds(request: SignalRequest, rate: int) -> float:
    """How long a signal lasts at a rate, silence before and after with it, without making it."""
    return request.lead_in + request.sound_seconds(rate) + request.tail
