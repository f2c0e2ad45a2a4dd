"""Stretches of audio made ready for ears: one band of them, a seamless loop, no click at their ends."""

import math

import numpy as np
from numpy import fft

from kind_echo.core.audio.source import Samples, Source, read_padded
from kind_echo.core.audio.transforms import fast_length
from kind_echo.core.registry.errors import BadParameter

Band = tuple[float, float]
"""Lowest and highest frequency, Hz; 0 for no lower edge, half the rate or more for no upper one."""

STOP_DB = 80.0
"""dB by which a band filter takes off what lies beyond its edges."""

CROSS_SECONDS = 0.010
"""Of the cross-fade at the ends of a loop."""

_STEEP_OCTAVES = 1 / 6  # octave from the edge of a band to where all is taken off
_MOST_TAPS = 262_145
_ZERO_SECONDS = 0.005  # within which a zero crossing is looked for


def band_taps(band: Band, rate: int) -> Samples:
    """Taps of the linear-phase filter that keeps a band, shape (taps,), odd in number.

    Flat within 0.01 dB inside, 80 dB down a sixth of an octave beyond the edges; of edges so low that this takes more
    than 262,145 taps the slope is wider.

    Source: J. F. Kaiser, Nonrecursive digital filter design using the I0-sinh window function, Proc. IEEE ISCAS 1974.
    Raises:
        BadParameter: the band holds nothing.
    """
    low, high = band
    if not 0.0 <= low < high or low >= rate / 2:
        raise BadParameter("band", f"{low:g} to {high:g} Hz", f"from a lower to a higher frequency, below {rate / 2:g}")
    edges = [edge for edge in (low, high) if 0.0 < edge < rate / 2]
    if not edges:
        return np.ones(1)
    width = min(edge * (1 - 2**-_STEEP_OCTAVES) for edge in edges)
    if high < rate / 2:
        width = min(width, rate / 2 - high)
    from scipy.signal import firwin, kaiserord  # slow to load, and few processes filter

    taps, beta = kaiserord(STOP_DB, width / (rate / 2))
    taps = min(_MOST_TAPS, taps | 1)
    # The window's edge lies in the middle of the slope: half of it is moved outwards, so that the band stays whole.
    cuts = [edge - width / 2 if edge == low else edge + width / 2 for edge in edges]
    cuts = [min(max(cut, 0.1), rate / 2 * 0.9999) for cut in cuts]
    return np.asarray(firwin(taps, cuts, window=("kaiser", beta), pass_zero=low == 0.0, fs=rate))


def band_of(source: Source, start: int, stop: int, band: Band) -> Samples:
    """Frames start to stop of what a source has in a band, without delay; zeros are taken beyond its ends."""
    taps = band_taps(band, source.rate)
    reach = len(taps) // 2
    wide = read_padded(source, start - reach, stop + reach)
    size = fast_length(len(wide) + len(taps))
    product = fft.irfft(fft.rfft(wide, size, axis=0) * fft.rfft(taps, size)[:, None], size, axis=0)
    return np.asarray(product[2 * reach : 2 * reach + stop - start])


def loop_of(source: Source, start: int, stop: int, band: Band | None = None) -> Samples:
    """Frames start to stop as a loop whose end goes over into its start: what follows the stretch fades out there.

    The cross-fade has constant power, and is no longer than a quarter of the stretch.
    """
    cross = min(round(CROSS_SECONDS * source.rate), (stop - start) // 4)

    def read(first: int, last: int) -> Samples:
        return read_padded(source, first, last) if band is None else band_of(source, first, last, band)

    both = read(start, stop + cross)
    out, after = both[: stop - start].copy(), both[stop - start :]
    if cross:
        turn = np.linspace(0.0, math.pi / 2, cross)[:, None]
        out[:cross] = out[:cross] * np.sin(turn) + after * np.cos(turn)
    return out


def nearest_crossing(source: Source, frame: int) -> int:
    """The frame nearest to one at which the sum of the channels rises through zero, within 5 ms; else that frame."""
    reach = round(_ZERO_SECONDS * source.rate)
    first = max(0, frame - reach)
    mono = source.read(first, min(source.frames, frame + reach + 1)).sum(axis=1)
    rises = np.flatnonzero((mono[:-1] <= 0.0) & (mono[1:] > 0.0)) + first + 1
    return frame if len(rises) == 0 else int(rises[np.abs(rises - frame).argmin()])
