"""Moving means, maxima and polynomials, and the analytic signal.

SciPy has them too, and takes longer to load than a short file to be compared: `benchmarks.compare_files`.
"""

from typing import TypeVar, cast

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.transforms import fast_length

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]
Samples = TypeVar("Samples", Floats, Complexes)


def moving_mean(values: Floats, width: int) -> Floats:
    """Mean of `width` values around each, with zeros beyond the ends; an even number begins one earlier.

    Args:
        values: shape (frames,), as what is returned.
    """
    before = width // 2
    total = np.concatenate([np.zeros(before + 1), np.cumsum(values), np.full(width - before - 1, values.sum())])
    return np.asarray((total[width:] - total[:-width]) / width)


def is_highest(values: Floats, half: int) -> NDArray[np.bool_]:
    """Whether each value is the greatest, or as great as any, of those up to `half` to either side; shape (frames,)."""
    wide = np.pad(values, half, constant_values=-np.inf)
    count = len(values)
    highest = np.full(count, -np.inf)
    for k in range(2 * half + 1):
        np.maximum(highest, wide[k : k + count], out=highest)
    return np.asarray(values == highest)


def smoothed(values: Samples, weights: Floats) -> Samples:
    """A moving sum by weights, an odd number of them; beyond the ends the values go on, turned about the last.

    Args:
        values: shape (frames,), more than half as many as there are weights.
    Returns:
        Of the shape of the values, and complex where they are.
    """
    half = len(weights) // 2
    longer = np.pad(values, half, mode="reflect", reflect_type="odd")
    size = fast_length(len(longer))
    whole = fft.ifft(fft.fft(longer, size) * fft.fft(weights, size))[2 * half : len(longer)]
    return cast(Samples, whole if np.iscomplexobj(values) else whole.real)


def cubic_weights(width: int) -> Floats:
    """Weights of the value, in the middle of an odd number of samples, of the cubic that fits them best.

    Source: A. Savitzky and M. J. E. Golay, Analytical Chemistry 36 (1964).
    """
    powers = np.vander(np.linspace(-1.0, 1.0, width), 4, increasing=True)
    return np.asarray(np.linalg.pinv(powers)[0])


def analytic(signal: Floats) -> Complexes:
    """The signal, shape (frames, …), with its Hilbert transform as the imaginary part; it goes on periodically.

    Source: A. V. Oppenheim and R. W. Schafer, Discrete-Time Signal Processing, chapter on the Hilbert transform.
    """
    size = len(signal)
    spectrum = fft.fft(signal, axis=0)
    spectrum[1 : (size + 1) // 2] *= 2.0
    spectrum[size // 2 + 1 :] = 0.0
    return np.asarray(fft.ifft(spectrum, axis=0))
