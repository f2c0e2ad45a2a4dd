"""Samples at another rate."""

import numpy as np

from kind_echo.core.audio.source import Samples


def resample(samples: Samples, rate: int, wanted: int) -> Samples:
    """Samples, shape (frames, channels), at the wanted rate, in soxr's very high quality: linear phase, no delay.

    What is kept of the band, and what folds, lies some 170 dB apart. The same samples where the rates are equal.
    """
    if rate == wanted:
        return samples
    import soxr  # slow to load, and few commands need it

    return np.asarray(soxr.resample(samples, rate, wanted, "VHQ"))
