"""Samples at another rate."""

from functools import cache

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


_TONES, _HIGHEST = 24, 0.4  # of the lower rate


@cache
def resampling_floor(rate: int, wanted: int) -> float:
    """What resampling adds, in dB under the signal: of tones up to 0.4 of the lower rate, in 32 bits, measured here.

    Nearer to half the lower rate more is lost: the filter falls there.
    """
    frequencies = np.geomspace(20.0, _HIGHEST * min(rate, wanted), _TONES)
    phases = np.arange(_TONES) ** 2 * np.pi / _TONES

    def tones(at: int) -> Samples:
        time = np.arange(2 * at) / at
        return np.asarray(np.sin(2 * np.pi * frequencies * time[:, None] + phases).mean(axis=1)[:, None])

    made, ideal = resample(tones(rate), rate, wanted).astype(np.float32), tones(wanted)
    inner = slice(wanted // 2, -wanted // 2)  # clear of the ends, where there is nothing to look ahead to
    left = np.mean(np.square(made[: len(ideal)][inner] - ideal[: len(made)][inner]))
    return float(10 * np.log10(left / np.mean(np.square(ideal[inner]))))
