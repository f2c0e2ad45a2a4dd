"""Passages worth listening to: the first note, where a file is loudest or quietest, and where a band has most."""

import numpy as np

from kind_echo.core.audio.source import PASS, Samples, Source, blocks

Seconds = tuple[float, float]

_WINDOW_SECONDS = 0.01
_BEGINS_SHARE = 10 ** (-30 / 10)  # of the greatest window's power
_ENDS_SHARE = 10 ** (-20 / 10)  # of the greatest since it began
_FALLEN_RATIO, _RISEN_RATIO = 10 ** (-6 / 10), 10 ** (6 / 10)  # a fall, and a rise after it that begins the next note
_LONGEST_SECONDS = 3.0
_HOP_SECONDS = 0.1


def first_note(source: Source) -> Seconds | None:
    """Start and end, in seconds, of the first sound in a file; None for silence.

    It begins where 10 ms first come within 30 dB of the loudest 10 ms of the file, and ends where it has fallen by
    20 dB, where the next begins (a rise by 6 dB after a fall by 6), or after 3 s. Common practice, no source.
    """
    window = max(1, round(_WINDOW_SECONDS * source.rate))
    size = max(1, PASS // window) * window
    power = np.concatenate(
        [
            np.add.reduceat(np.square(block), np.arange(0, len(block), window), axis=0).max(axis=1) / window
            for _, block in blocks(source, size=size)
        ]
    )
    if not np.isfinite(power).all() or power.max() <= 0.0:
        return None
    begin = int(np.argmax(power >= _BEGINS_SHARE * power.max()))
    most, least, end = power[begin], power[begin], begin + 1
    last = min(len(power), begin + round(_LONGEST_SECONDS / _WINDOW_SECONDS))
    while end < last:
        here = power[end]
        if here > most:
            most = least = here
        least = min(least, here)
        if here <= _ENDS_SHARE * most or (least <= _FALLEN_RATIO * most and here >= _RISEN_RATIO * least):
            break
        end += 1
    return begin * window / source.rate, min(end * window, source.frames) / source.rate


def strongest(source: Source, seconds: float = 3.0, band: tuple[float, float] | None = None) -> Seconds | None:
    """Start and end, in seconds, of the stretch of greatest power, all of it or that in a band; None for silence.

    Given the difference of two sides it is where they differ most. It moves in steps of 0.1 s, and ends with the file.

    Args:
        band: lowest and highest frequency, Hz.
    """
    hop, power = _powers(source, band)
    if power is None:
        return None
    length = min(len(power), max(1, round(seconds / _HOP_SECONDS)))
    return _stretch(source, int(np.convolve(power, np.ones(length), "valid").argmax()), length, hop)


def quietest(source: Source, seconds: float = 3.0) -> Seconds | None:
    """Start and end, in seconds, of the stretch of least power that sounds throughout; None where no such is.

    No tenth of a second of it is digital silence: what is faded out or padded is not what is quiet. It moves in steps
    of 0.1 s; of a shorter file, or of one that sounds for less in a row, it is the longest stretch that sounds.
    """
    hop, power = _powers(source, None)
    if power is None:
        return None
    sounds = np.concatenate([[0], (power > 0.0).astype(np.int8), [0]])
    edges = np.flatnonzero(np.diff(sounds))
    longest = int((edges[1::2] - edges[::2]).max())
    length = min(longest, max(1, round(seconds / _HOP_SECONDS)))
    sums = np.convolve(power, np.ones(length), "valid")
    throughout = np.convolve(power > 0.0, np.ones(length), "valid") > length - 0.5
    return _stretch(source, int(np.where(throughout, sums, np.inf).argmin()), length, hop)


def _powers(source: Source, band: tuple[float, float] | None) -> tuple[int, Samples | None]:
    """Frames of a tenth of a second, and the power of each; None for silence, or where a sample is no number."""
    hop = max(16, round(_HOP_SECONDS * source.rate))
    size = max(1, PASS // hop) * hop
    parts = [_power(block, hop, source.rate, band) for _, block in blocks(source, size=size)]
    power = np.concatenate(parts) if parts else np.zeros(0)
    heard = len(power) > 0 and bool(np.isfinite(power).all()) and power.max() > 0.0
    return hop, power if heard else None


def _stretch(source: Source, first: int, length: int, hop: int) -> Seconds:
    return first * hop / source.rate, min((first + length) * hop, source.frames) / source.rate


def _power(block: Samples, hop: int, rate: int, band: tuple[float, float] | None) -> Samples:
    """Power of each hop, all channels together; the last may be shorter."""
    if band is None:
        return np.add.reduceat(np.square(block).sum(axis=1), np.arange(0, len(block), hop))
    count = -(-len(block) // hop)
    padded = np.zeros((count * hop, block.shape[1]))
    padded[: len(block)] = block
    window = np.hanning(hop)[None, :, None]
    spectrum = np.abs(np.fft.rfft(padded.reshape(count, hop, -1) * window, axis=1)) ** 2
    frequency = np.fft.rfftfreq(hop, 1 / rate)
    inside = (frequency >= band[0]) & (frequency <= band[1])
    return np.asarray(spectrum[:, inside].sum(axis=(1, 2)))
