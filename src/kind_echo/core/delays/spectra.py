"""What the spectra of blocks of a pair tell together: phase, magnitude, and how far noise lets them be trusted."""

import math
from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np
from numpy import fft
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Spectrum = NDArray[np.complex128]

ALIKE = 1.5
"""Bins of a Hann window that noise moves together."""

_CARRYING_POWER_SHARE = 1e-6  # of the greatest, under which a band carries nothing of the signal
_SMOOTHING_OCTAVES = 1 / 12  # octaves
_LOST_POWER_SHARE = 1e-4  # of what the render has of the rest of the reference, under which it has lost a band
_LEVEL_LOG_MAGNITUDE = 0.02  # of the logarithm of a magnitude, within which it brings no phase along
_NOISE_RATIO = 1.3  # times what noise makes of a level magnitude, within which it is one
_STEEPEST_NEPERS_PER_OCTAVE = 24.0 / 8.686  # dB an octave, on which a magnitude goes on beyond the band


@dataclass(frozen=True)
class Cross:
    """Cross-spectrum of the blocks of a render and its reference, all summed up.

    Attributes:
        power: that of the one times the other.
        own, other: of the reference and of the render.
        coherence: of each bin, without what chance has of so few blocks.
        weight: the coherence where a bin carries the signal, else 0; somewhere greater than 0.
        count: of blocks that tell apart from each other.
    """

    power: Spectrum
    own: Floats
    other: Floats
    coherence: Floats
    weight: Floats
    count: float

    @cached_property
    def omega(self) -> Floats:
        """Radians per sample of each bin."""
        return np.asarray(np.pi * np.arange(len(self.own)) / (len(self.own) - 1))

    @cached_property
    def turn(self) -> Spectrum:
        """The phase of each bin as a number of magnitude 1; 1 where there is nothing."""
        size = np.abs(self.power)
        return np.divide(self.power, size, out=np.ones_like(self.power), where=size > 0.0)

    @cached_property
    def logarithm(self) -> Floats:
        """Of the smoothed magnitude of what in the render follows from the reference: noise beside it makes none."""
        follows = np.sqrt(self.coherence * self.own * self.other)
        magnitude = smoothed(follows) / np.maximum(smoothed(self.own), 1e-300)
        return np.asarray(np.log(np.maximum(magnitude, 1e-6)))

    @cached_property
    def least(self) -> Floats:
        """The phase that the magnitude brings along: that of a minimum-phase filter."""
        return _least_phase(self.logarithm, self.weight > 0.05)

    @cached_property
    def noise(self) -> Floats:
        """Variance, by noise, of the phase of a bin in radians, and of the logarithm of its magnitude.

        Source:
            J. S. Bendat and A. G. Piersol, Random Data, chapter on errors of frequency response estimates.
        """
        return (1.0 - self.coherence) / (2 * self.count * np.maximum(self.coherence, 1e-9))

    @cached_property
    def certain(self) -> Floats:
        """The mean cosine of the errors that noise makes of a phase."""
        return np.asarray(np.exp(-self.noise / 2))

    @cached_property
    def coherent(self) -> tuple[float, float]:
        """The magnitude of the one times the other that is the same in all blocks, and all of it, over all bins."""
        both = np.sqrt(self.own * self.other)
        return float((both * np.sqrt(self.coherence)).sum()), float(both.sum())

    @cached_property
    def level(self) -> bool:
        """Whether the magnitude is the same all over the band, as far as noise lets it be told."""
        return _is_level(self.logarithm, self.weight, self.own * self.weight, self.noise)


@dataclass(frozen=True)
class Blocks:
    """Power of windowed blocks of a pair, aligned at a delay of whole samples; shape (blocks, bins).

    Attributes:
        own, other: of the reference and of the render.
        power: of the one times the other.
    """

    own: Floats
    other: Floats
    power: Spectrum

    @classmethod
    def of(cls, x: Spectrum, y: Spectrum) -> "Blocks":
        """From the spectra of the blocks of both sides."""
        return cls(x.real**2 + x.imag**2, y.real**2 + y.imag**2, np.conj(x) * y)

    @cached_property
    def sums(self) -> tuple[Floats, Floats, Spectrum]:
        """Over the blocks."""
        return self.own.sum(axis=0), self.other.sum(axis=0), self.power.sum(axis=0)

    @cached_property
    def cross(self) -> Cross | None:
        """What they tell together; None where one side is silent, or nothing coheres."""
        own, other, power = self.sums
        if own.max(initial=0.0) <= 0.0 or other.max(initial=0.0) <= 0.0:
            return None
        # Overlapping blocks are worth about two thirds of as many that stand apart.
        count = max(1.0, 0.66 * len(self.own))
        coherence = np.minimum((power.real**2 + power.imag**2) / np.maximum(own * other, 1e-300), 1.0)
        if len(self.own) > 1:
            # Chance alone has that of one block in so many.
            coherence = np.clip((coherence - 1 / count) / (1 - 1 / count), 0.0, 1.0)
        around = smoothed(own)
        carries = around > _CARRYING_POWER_SHARE * own.max()
        share = smoothed(other) / np.maximum(around, 1e-300)
        usual = float(np.average(share[carries], weights=own[carries])) if carries.any() else 0.0
        carries &= share > _LOST_POWER_SHARE * usual
        weight = np.where(carries, coherence, 0.0)
        weight[0] = 0.0
        return Cross(power, own, other, coherence, weight, count) if weight.sum() > 0.0 else None

    @cached_property
    def halves(self) -> "tuple[Blocks, Blocks]":
        """Every other block, and the rest."""
        first, second = (Blocks(self.own[k::2], self.other[k::2], self.power[k::2]) for k in (0, 1))
        return first, second


def _is_level(logarithm: Floats, weight: Floats, power: Floats, noise: Floats) -> bool:
    """Whether a magnitude is the same all over the band, as far as noise lets it be told.

    Args:
        logarithm: of the smoothed magnitude.
        noise: variance of that of each bin before it is smoothed.
    """
    sure = weight > 0.9 * weight.max()
    lo, hi = _around(len(noise))
    smooth = smoothed(np.minimum(noise, 1.0)) * ALIKE / (hi - lo)
    by_noise = 3.3 * math.sqrt(float(smooth[sure].mean()))  # from the 5th percentile to the 95th
    if np.subtract(*np.percentile(logarithm[sure], [95, 5])) >= math.hypot(
        _LEVEL_LOG_MAGNITUDE, _NOISE_RATIO * by_noise
    ):
        return False
    # A filter may change few bins of many, and those that carry the most.
    usual = float(np.average(logarithm, weights=power))
    off = float(np.sqrt(np.average((logarithm - usual) ** 2, weights=power)))
    return off < math.hypot(
        _LEVEL_LOG_MAGNITUDE / 2, _NOISE_RATIO * math.sqrt(float(np.average(smooth, weights=power)))
    )


@lru_cache(maxsize=32)
def _around(bins: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """For each bin, the first of those that it is smoothed over, and the one beyond the last."""
    each = np.arange(bins)
    half = np.maximum(2, (each * (2 ** (_SMOOTHING_OCTAVES / 2) - 1)).astype(np.int64))
    return np.maximum(0, each - half), np.minimum(bins, each + half + 1)


def smoothed(power: Floats) -> Floats:
    """Mean over a twelfth of an octave, a few bins at least."""
    lo, hi = _around(len(power))
    total = np.concatenate([[0.0], np.cumsum(power)])
    return np.asarray((total[hi] - total[lo]) / (hi - lo))


def noise_of_slope(variance: Floats) -> Floats:
    """Variance of the slope of a phase over a twelfth of an octave, in radians² per bin², from that of each bin."""
    lo, hi = _around(len(variance))
    return np.asarray(2.0 * smoothed(np.minimum(variance, 1.0)) * ALIKE / np.square(hi - lo))


def _least_phase(log_magnitude: Floats, known: NDArray[np.bool_]) -> Floats:
    """The phase of the minimum-phase filter of that magnitude, by the cepstrum; held level where nothing is known.

    Source: A. V. Oppenheim and R. W. Schafer, Discrete-Time Signal Processing, chapter on the Hilbert transform.
    """
    places = np.flatnonzero(known)
    if len(places) < 2:
        return np.zeros_like(log_magnitude)
    held = _extended(log_magnitude, places)
    size = 2 * (len(held) - 1)
    cepstrum = fft.irfft(held, size)
    fold = np.zeros(size)
    fold[0], fold[1 : size // 2], fold[size // 2] = 1.0, 2.0, 1.0
    return np.asarray(fft.rfft(cepstrum * fold).imag)


def _extended(log_magnitude: Floats, places: NDArray[np.int64]) -> Floats:
    """A magnitude beyond the band in which it is known, on the slopes that it has at the band's ends."""
    bins = np.arange(len(log_magnitude))
    held = np.interp(bins, places, log_magnitude[places])
    octaves = np.log2(np.maximum(bins, 0.5))
    for end, inner, beyond, sign in (
        (places[-1], octaves[places[-1]] - 1.0, bins > places[-1], -1.0),
        (places[0], octaves[places[0]] + 1.0, bins < places[0], 1.0),
    ):
        near = places[(octaves[places] >= min(inner, octaves[end])) & (octaves[places] <= max(inner, octaves[end]))]
        if len(near) < 4 or not beyond.any():
            continue
        slope = float(np.polyfit(octaves[near], log_magnitude[near], 1)[0])
        slope = sign * float(np.clip(sign * slope, 0.0, _STEEPEST_NEPERS_PER_OCTAVE))
        held[beyond] = held[end] + slope * (octaves[beyond] - octaves[end])
    return held
