"""Marks that tell which signal a file holds and where it begins, whatever has happened to it on its way."""

from functools import lru_cache

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.source import Samples
from kind_echo.core.audio.transforms import fast_length

Mono = NDArray[np.float64]

MARK_SECONDS = 0.12
_LOW_HZ, _HIGH_HZ = 400.0, 6000.0  # Hz: what every host and rate lets pass
_PEAK = 0.25
_SILENT_POWER = 1e-12


@lru_cache(maxsize=128)
def sync_mark(seed: int, rate: int) -> Mono:
    """A short sound that no other seed has, the same at every rate, shape (frames,); kept, and not to be written to.

    A sum of sines of equal height and of phases drawn from the seed, between 400 and 6000 Hz, faded at both ends. Two
    of different seeds are as unlike as noise: their correlation stays under about 0.15.
    """
    frames = round(MARK_SECONDS * rate)
    time = np.arange(frames) / rate
    frequencies = np.arange(_LOW_HZ, _HIGH_HZ, 1 / MARK_SECONDS)
    phases = np.random.default_rng(seed).uniform(0.0, 2 * np.pi, len(frequencies))
    sound = np.sin(2 * np.pi * frequencies[:, None] * time + phases[:, None]).sum(axis=0)
    # Scaled by the power that the sum has, not by its peak, which would depend on where a rate happens to sample.
    sound *= np.sin(np.pi * time / MARK_SECONDS) ** 2
    mark = np.asarray(_PEAK * sound / (4.0 * np.sqrt(len(frequencies) / 2)))
    mark.flags.writeable = False
    return mark


def find_sound(samples: Samples, sound: Mono) -> tuple[int, float]:
    """Where a sound is in samples of shape (frames, channels), and how like it is: 1 for the sound itself, 0 for none.

    The likeness is the greatest normalised cross-correlation over places and channels, whatever gain and polarity.
    """
    place, likeness = 0, 0.0
    length = len(sound)
    norm = float(np.sqrt(np.sum(sound**2)))
    if len(samples) < length or norm <= _SILENT_POWER:
        return place, likeness
    size = fast_length(len(samples) + length - 1)
    spectrum = np.conj(fft.rfft(sound, size))
    for channel in samples.T:
        product = fft.irfft(fft.rfft(channel, size) * spectrum, size)[: len(channel) - length + 1]
        sums = np.concatenate([[0.0], np.cumsum(channel**2)])
        energy = np.maximum(sums[length:] - sums[:-length], 0.0)
        # Next to silence the sums are all rounding: what is 80 dB under the loudest stretch is not looked at.
        heard = energy > max(_SILENT_POWER, 1e-8 * float(energy.max()))
        found = np.where(heard, np.abs(product) / (np.sqrt(np.maximum(energy, _SILENT_POWER)) * norm), 0.0)
        best = int(np.argmax(found))
        if found[best] > likeness:
            place, likeness = best, float(found[best])
    return place, likeness
