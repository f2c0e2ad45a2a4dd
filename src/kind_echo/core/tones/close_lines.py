"""Lines closer together than a window tells apart, at frequencies that are known: how large each is."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.transforms import LOBE_BINS
from kind_echo.core.tones.lines import LineSpectrum

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]

_NEAREST_BINS = 1.0  # over the seconds of the samples, within which two lines are one to all purposes
_MOST_FRAMES = 1 << 18  # of a long file
_MOST_LINES = 12
_STEPS_PER_BIN = 4  # to the bin, at which what the lines leave is looked at


@dataclass(frozen=True)
class CloseLine:
    """Peak amplitude of a line, and the greatest amplitude of what the lines leave beside it, as it may pull at it."""

    frequency: float
    amplitude: float
    floor: float


def nearest_hertz(spectrum: LineSpectrum) -> float:
    """How far two lines must lie apart to be told apart."""
    return _NEAREST_BINS * spectrum.rate / min(len(spectrum.samples), _MOST_FRAMES)


def solve_close_lines(spectrum: LineSpectrum, main: float, beside: Sequence[float]) -> list[CloseLine]:
    """Lines beside a greater one, by weighted least squares over the samples; those of them that can be told apart.

    The frequency of the greater one may be a little off: what that leaves is fitted along with the lines.

    Args:
        main, beside: Hz.
    """
    if len(spectrum.samples) > _MOST_FRAMES:
        first = (len(spectrum.samples) - _MOST_FRAMES) // 2
        return solve_close_lines(LineSpectrum.of(spectrum.samples[first:][:_MOST_FRAMES], spectrum.rate), main, beside)
    lines = [main]
    for one in sorted(beside, key=lambda at: abs(at - main)):
        if len(lines) < _MOST_LINES and min(abs(one - line) for line in lines) >= nearest_hertz(spectrum):
            lines.append(one)
    if len(lines) == 1:
        return []
    frames = len(spectrum.samples)
    columns = [_turning(spectrum, one) for one in lines]
    columns.append((np.arange(frames) / frames - 0.5) * columns[0])
    gram = np.array([[np.vdot(row * spectrum.window, column) for column in columns] for row in columns])
    scale = np.sqrt(np.abs(np.diag(gram)))
    gram /= np.outer(scale, scale)
    products = np.array([np.vdot(row * spectrum.window, spectrum.samples) for row in columns]) / scale
    found = np.linalg.solve(gram, products) / scale
    left = spectrum.samples - 2.0 * np.sum([(a * row).real for a, row in zip(found, columns, strict=True)], axis=0)
    # What is not explained may lie along a line as far as the others look like it.
    apart = 1.0 / np.sqrt(np.diag(np.linalg.inv(gram)).real)
    around = np.arange(-LOBE_BINS * _STEPS_PER_BIN, LOBE_BINS * _STEPS_PER_BIN + 1) / _STEPS_PER_BIN * spectrum.spacing
    rest = LineSpectrum(left, spectrum.rate, spectrum.window, spectrum.spectrum, spectrum.power_scale)
    floor = float(rest.amplitudes(main + around).max(initial=0.0))
    return [
        CloseLine(line, 2.0 * abs(complex(found[k])), floor / float(apart[k]))
        for k, line in enumerate(lines)
        if line != main
    ]


def _turning(spectrum: LineSpectrum, frequency: float) -> Complexes:
    """A line of magnitude 1 over the samples."""
    turns = np.mod(frequency / spectrum.rate * np.arange(len(spectrum.samples)), 1.0)
    return np.asarray(np.exp(2j * np.pi * turns))
