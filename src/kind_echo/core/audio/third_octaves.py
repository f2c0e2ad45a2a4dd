"""Third-octave bands: where they lie, and the power of a spectrum in each.

Source: IEC 61260-1: exact mid-band frequencies 1000·10^(n/10) Hz, edges a twentieth of a decade to either side.
"""

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def band_centres(rate: float, lowest: int) -> Floats:
    """Mid-band frequencies, Hz, of bands that lie under half the rate.

    Args:
        lowest: number of the first: −20 is 10 Hz, 0 is 1 kHz.
    """
    top = int(np.floor(10 * np.log10(rate / 2 / 1000.0) - 0.5))
    return np.asarray(1000.0 * 10.0 ** (np.arange(lowest, top + 1) / 10))


def band_powers(power: Floats, centres: Floats, rate: float, size: int) -> Floats:
    """Power in each band, shape (…, bands), of the lines of spectra of transforms of `size` frames, shape (…, lines).

    Where an edge lies within a line, its share of that line counts.
    """
    edges = np.concatenate([[centres[0] * 10**-0.05], centres * 10**0.05])
    place = np.clip(edges * size / rate + 0.5, 0.0, size // 2 + 1.0)
    whole = np.minimum(place.astype(int), size // 2)
    summed = np.concatenate([np.zeros((*power.shape[:-1], 1)), np.cumsum(power, axis=-1)], axis=-1)
    at = summed[..., whole] + (place - whole) * power[..., whole]
    return np.asarray(np.diff(at, axis=-1))
