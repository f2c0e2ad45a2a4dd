"""A maximum-length sequence."""

from dataclasses import dataclass

import numpy as np

from kind_echo.core.signals.parameter import Order
from kind_echo.core.signals.request import Mono, SignalRequest


@dataclass(frozen=True)
class Sequence(SignalRequest):
    """A maximum-length sequence of ±level, over and over; its length is counted in samples, whatever the rate."""

    kind = "sequence"
    title = "Maximum-length sequence"
    purpose = "Response of linear effects at a flat spectrum and the least crest factor."
    expect = (
        "A flat spectrum with a crest factor of 0 dB. It repeats every 2^order − 1 samples at any rate, so that it "
        "alone of all signals is not the same sound at two rates."
    )
    rank = 90
    method = "response"

    order: Order = 16

    def sound(self, frames: int, rate: int) -> Mono:
        """Source: S. W. Golomb, Shift register sequences, 1967; the taps are those of scipy.signal.max_len_seq."""
        from scipy.signal import max_len_seq  # slow to load, and no other signal needs it

        bits, _ = max_len_seq(self.order)
        return np.asarray(self.amplitude * np.resize(2.0 * bits - 1.0, frames))
