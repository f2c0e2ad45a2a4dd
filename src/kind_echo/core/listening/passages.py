"""The first note of a file, as a passage by which levels are matched."""

import numpy as np

from kind_echo.core.audio.source import PASS, Source, blocks

Seconds = tuple[float, float]

_WINDOW_SECONDS = 0.01
_BEGINS = 10 ** (-30 / 10)  # of the greatest window's power
_ENDS = 10 ** (-20 / 10)  # of the greatest since it began
_FALLEN, _RISEN = 10 ** (-6 / 10), 10 ** (6 / 10)  # a fall, and a rise after it that begins the next note
_LONGEST_SECONDS = 3.0


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
    begin = int(np.argmax(power >= _BEGINS * power.max()))
    most, least, end = power[begin], power[begin], begin + 1
    last = min(len(power), begin + round(_LONGEST_SECONDS / _WINDOW_SECONDS))
    while end < last:
        here = power[end]
        if here > most:
            most = least = here
        least = min(least, here)
        if here <= _ENDS * most or (least <= _FALLEN * most and here >= _RISEN * least):
            break
        end += 1
    return begin * window / source.rate, min(end * window, source.frames) / source.rate
