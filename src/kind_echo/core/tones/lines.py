"""Lines of a spectrum: steady sines measured at any frequency, and the floor that they stand on."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source
from kind_echo.core.audio.transforms import LOBE_BETA, LOBE_BINS, kaiser

Floats = NDArray[np.float64]

STANDS_OUT = 2.0
"""Factor of amplitude, 6 dB, by which a line must pass the greatest bin around it."""

SPREAD_DB = 6.1
"""dB by which a line reads wrong at 95 %, times the floor over its amplitude.

The greatest of some fifty independent bins of noise stands 2.8 standard deviations of a quadrature high (Rayleigh's
distribution); a line's amplitude takes up one of the quadratures, and 1.96 of its deviations are 17 dB times the ratio.
"""

FREQUENCY_SPREAD = 0.38
"""Bins by which the frequency of a line is wrong at 95 %, times the floor over its amplitude.

Of the turn of phase between the two halves of the samples, whose windows leave each half its own noise. The factor is
that of draws of tones of 60 Hz to 9 kHz in white noise 20 to 100 dB below them.
"""

_MOST_FRAMES = 1 << 21
_LEAST_FRAMES = 64
# Times the mean of noise, that a bin of it passes once in a million (exponential distribution)
_LINE_POWER_RATIO = 14.0
_NEIGHBOUR_BINS = 48  # bins on either side of a line among which its floor is taken
_ENVELOPE_SECONDS = 0.02
_STEADY_DB = 0.5
_TRIM_WINDOWS = 2  # envelope windows left out at either end of the steady part
_SEARCH_SHARE = 0.005  # share of the frequency asked for within which the tone is looked for
_LEAST_TONE_AMPLITUDE = 1e-6  # −120 dBFS: what is under it is rounding, not a test tone
_TONE_OUT_FACTOR = 10.0  # factor by which a tone must pass the middle of what is around it, 20 dB


def steady_part(source: Source) -> tuple[int, int]:
    """First and end frame of the longest stretch whose level stays within 0.5 dB of the loud half's median.

    The whole file where nothing is as steady as that. Fades and silence at the ends are left out.
    """
    window = max(16, round(_ENVELOPE_SECONDS * source.rate))
    count = source.frames // window
    if count < 8:
        return 0, source.frames
    power = np.empty(count)
    step = max(1, (1 << 18) // window)
    for first in range(0, count, step):
        last = min(first + step, count)
        block = source.read(first * window, last * window)
        power[first:last] = np.square(block).max(axis=1).reshape(last - first, window).max(axis=1)
    if not np.isfinite(power).all() or not power.max() > 0.0:
        return 0, source.frames
    loud = power[power >= power.max() / 4]
    steady = np.abs(10 * np.log10(np.maximum(power, 1e-30) / np.median(loud))) <= _STEADY_DB
    edges = np.flatnonzero(np.diff(np.concatenate([[0], steady.astype(int), [0]])))
    runs = edges.reshape(-1, 2)
    if len(runs) == 0:
        return 0, source.frames
    first, last = runs[np.argmax(runs[:, 1] - runs[:, 0])]
    first = first + _TRIM_WINDOWS if first > 0 else 0
    last = last - _TRIM_WINDOWS if last < count else count
    if last - first < 8:
        return 0, source.frames
    end = source.frames if last == count else int(last * window)
    return int(first * window), end


@dataclass(frozen=True)
class LineSpectrum:
    """One channel under a Kaiser window, and what is asked of its lines.

    Attributes:
        samples: shape (frames,).
        spectrum: complex, scaled so that a sine reads its peak amplitude at its own frequency.
        power_scale: factor from squared magnitude to mean square.
    """

    samples: Floats
    rate: int
    window: Floats
    spectrum: NDArray[np.complex128]
    power_scale: float

    @staticmethod
    def of(samples: Floats, rate: int) -> "LineSpectrum":
        """The spectrum of all the samples given."""
        window = kaiser(len(samples), LOBE_BETA)
        scale = 2.0 / window.sum()
        spectrum = fft.rfft(samples * window) * scale
        # Mean square of a stretch of noise: sum of |X|² over the window's energy, both signs of frequency.
        power = 2.0 / (scale**2 * len(samples) * float(np.sum(window**2)))
        return LineSpectrum(samples, rate, window, spectrum, power)

    @property
    def spacing(self) -> float:
        """Hz between bins."""
        return self.rate / len(self.samples)

    @property
    def lobe(self) -> float:
        """Hz from a line within which another cannot be told apart."""
        return LOBE_BINS * self.spacing

    def resolves(self, frequency: float) -> bool:
        """Whether a tone stands clear of zero and of its own second harmonic, in a transform that tells lines apart."""
        return len(self.samples) >= _LEAST_FRAMES and self.lobe * 2 <= frequency

    def amplitude(self, frequency: float) -> float:
        """Peak amplitude of the line at exactly that frequency."""
        return float(self.amplitudes(np.array([frequency]))[0])

    def amplitudes(self, frequencies: Floats) -> Floats:
        """Peak amplitudes of the lines at exactly these frequencies, wherever they lie between bins.

        The sum over the samples is split in rows, exp(i·w·(a·b + c)) = exp(i·w·a·b)·exp(i·w·c), so that it is a product
        of matrices.
        """
        columns = int(np.sqrt(len(self.samples))) + 1
        rows = -(-len(self.samples) // columns)
        padded = np.zeros(rows * columns)
        padded[: len(self.samples)] = self.samples * self.window
        turns = frequencies / self.rate
        fine = 2 * np.pi * np.mod(np.outer(np.arange(columns), turns), 1.0)
        coarse = 2 * np.pi * np.mod(np.outer(np.arange(rows) * columns, turns), 1.0)
        matrix = padded.reshape(rows, columns)
        inner = matrix @ np.cos(fine) - 1j * (matrix @ np.sin(fine))
        total = np.sum(inner * np.exp(-1j * coarse), axis=0)
        return np.asarray(np.abs(total) * 2.0 / self.window.sum())

    def floor(self, frequency: float, taken: Floats) -> float:
        """Greatest amplitude among the bins around a frequency that belong to none of the lines in `taken`."""
        centre = frequency / self.spacing
        reach = LOBE_BINS + _NEIGHBOUR_BINS
        low, high = max(0, int(centre - reach)), min(len(self.spectrum), int(centre + reach) + 2)
        bins = np.arange(low, high)
        free = np.abs(bins - centre) > LOBE_BINS
        near = taken[(taken > (low - LOBE_BINS) * self.spacing) & (taken < (high + LOBE_BINS) * self.spacing)]
        for line in near:
            free &= np.abs(bins - line / self.spacing) > LOBE_BINS
        free &= bins > LOBE_BINS
        if not free.any():
            return 0.0
        return float(np.abs(self.spectrum[bins[free]]).max())

    def find_tone(self, asked: float, within: float | None = None) -> float | None:
        """The frequency of the line near the one asked for, refined on its phase; None where none stands out."""
        reach = max(_SEARCH_SHARE * asked if within is None else within, 2 * self.spacing)
        low = max(1, int((asked - reach) / self.spacing))
        high = min(len(self.spectrum) - 1, int((asked + reach) / self.spacing) + 2)
        if high <= low:
            return None
        best = low + int(np.abs(self.spectrum[low:high]).argmax())
        frequency = self._refined(best * self.spacing)
        height = self.amplitude(frequency)
        centre = round(frequency / self.spacing)
        reach = int(LOBE_BINS) + _NEIGHBOUR_BINS
        around = np.abs(self.spectrum[max(0, centre - reach) : centre + reach + 1])
        # The middle of what is around, not its greatest: an alias may stand close to the tone.
        if height < _LEAST_TONE_AMPLITUDE or height < _TONE_OUT_FACTOR * float(np.median(around)):
            return None
        return frequency

    def _refined(self, frequency: float) -> float:
        """From the turn of phase between two halves, then between overlapping ends of them."""
        size = len(self.samples) // 2
        shift = len(self.samples) - size
        window = kaiser(size, 12.0)
        parts = self.samples[:size] * window, self.samples[shift:] * window
        for _ in range(3):
            turn = np.exp(-2j * np.pi * np.mod(frequency / self.rate * np.arange(size), 1.0))
            first, second = np.dot(parts[0], turn), np.dot(parts[1], turn)
            advance = np.angle(second * np.conj(first)) - 2 * np.pi * ((frequency * shift / self.rate) % 1.0)
            advance = (advance + np.pi) % (2 * np.pi) - np.pi
            frequency += float(advance) * self.rate / (2 * np.pi * shift)
        return frequency

    def mean_square(self, low: float, high: float, without: Floats) -> "Power | None":
        """Power between two frequencies of all bins outside the lobes of given lines, filled up for what these hide.

        None where they hide all of it.
        """
        bins = np.arange(len(self.spectrum))
        inside = (bins * self.spacing >= low) & (bins * self.spacing <= high)
        free = inside & (bins > LOBE_BINS)
        for line in without:
            a = max(0, int(np.ceil(line / self.spacing - LOBE_BINS)))
            free[a : int(line / self.spacing + LOBE_BINS) + 1] = False
        if not free.any():
            return None
        share = inside.sum() / free.sum()
        powers = np.abs(self.spectrum[free]) ** 2
        # Neighbouring bins of noise are alike as far as the window's own transform reaches.
        alike = len(self.samples) * float(np.sum(self.window**4)) / float(np.sum(self.window**2)) ** 2
        noise, lines = _noise_and_lines(powers)
        # Power varies as the square of its mean in noise, and as twice the product of a line and the noise in a line.
        variance = alike * float(np.sum(noise**2) + 2.0 * np.sum(lines * noise))
        # What is hidden is filled up as if lines were as dense there.
        missed = (float(share) - 1.0) * float(lines.sum())
        total = float(powers.sum())
        spread = (math.sqrt(variance) + missed) / total if total > 0.0 else 0.0
        return Power(total * self.power_scale * float(share), spread)

    def greatest(self, low: float, high: float, without: Floats) -> tuple[float, float] | None:
        """Frequency and amplitude of the greatest bin between two frequencies outside the lobes of given lines."""
        bins = np.arange(len(self.spectrum))
        free = (bins * self.spacing >= low) & (bins * self.spacing <= high) & (bins > LOBE_BINS)
        free &= bins < len(self.spectrum) - LOBE_BINS
        for line in without:
            a = max(0, int(np.floor(line / self.spacing - 1.2 * LOBE_BINS)))
            free[a : int(line / self.spacing + 1.2 * LOBE_BINS) + 2] = False
        if not free.any():
            return None
        index = np.flatnonzero(free)
        best = int(index[np.abs(self.spectrum[index]).argmax()])
        frequency = self._summit(best)
        return frequency, self.amplitude(frequency)

    def _summit(self, best: int) -> float:
        """Frequency of a line from the bins around its greatest, by a parabola through the logarithms."""
        if not 0 < best < len(self.spectrum) - 1:
            return best * self.spacing
        a, b, c = np.log(np.maximum(np.abs(self.spectrum[best - 1 : best + 2]), 1e-300))
        bend = a - 2 * b + c
        return float((best + (0.5 * (a - c) / bend if bend < 0 else 0.0)) * self.spacing)


@dataclass(frozen=True)
class Power:
    """A mean square, and its standard deviation over its value."""

    mean_square: float
    spread: float

    @property
    def uncertainty(self) -> float:
        """Of the level, in dB at 95 %."""
        return 20.0 / math.log(10.0) * self.spread


def _noise_and_lines(powers: Floats) -> tuple[Floats, Floats]:
    """Of the powers of bins what noise has on average, from the middle of blocks of them, and what stands out of it."""
    size = min(_NEIGHBOUR_BINS, len(powers))
    whole = len(powers) // size * size
    middles = np.median(powers[:whole].reshape(-1, size), axis=1) / math.log(2.0)
    noise = np.concatenate([np.repeat(middles, size), np.full(len(powers) - whole, middles[-1])])
    return noise, np.where(powers > _LINE_POWER_RATIO * noise, powers, 0.0)


def strongest_line(spectra: Sequence[LineSpectrum]) -> float | None:
    """Frequency of the greatest line of all channels, away from zero and half the rate; None where none stands out."""
    best: tuple[float, float] | None = None
    for spectrum in spectra:
        size = np.abs(spectrum.spectrum)
        edge = int(LOBE_BINS) + 1
        if len(size) <= 2 * edge:
            continue
        place = edge + int(size[edge:-edge].argmax())
        if best is None or size[place] > best[0]:
            found = spectrum.find_tone(place * spectrum.spacing, 2 * spectrum.spacing)
            best = best if found is None else (float(size[place]), found)
    return None if best is None else best[1]


def line_spectra(source: Source) -> list[LineSpectrum] | None:
    """The spectra of all channels over the steady part, at most 2^21 frames; None where that is not finite."""
    lo, hi = steady_part(source)
    if hi - lo > _MOST_FRAMES:
        middle = (lo + hi) // 2
        lo, hi = middle - _MOST_FRAMES // 2, middle + _MOST_FRAMES // 2
    samples = source.read(lo, hi)
    if not np.isfinite(samples).all():
        return None
    return [LineSpectrum.of(np.ascontiguousarray(samples[:, c]), source.rate) for c in range(source.channels)]
