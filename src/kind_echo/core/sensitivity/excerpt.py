"""The part of a long sound that faults are planted into."""

import numpy as np

from kind_echo.core.audio.source import Samples, Source, blocks

MOST_SECONDS = 60.0
"""Of a sound that faults are planted into; of a longer one the loudest part stands for it."""

_STEP_SECONDS = 1.0


def excerpt_of(source: Source) -> tuple[Samples, bool]:
    """The loudest minute of a sound of at least one frame, to the second, and whether that is all of it."""
    most = round(MOST_SECONDS * source.rate)
    if source.frames <= most:
        return np.asarray(source.read(0, source.frames), dtype=np.float64), True
    step = round(_STEP_SECONDS * source.rate)
    energy = np.array([float((np.asarray(block, np.float64) ** 2).sum()) for _, block in blocks(source, size=step)])
    window = min(len(energy), int(MOST_SECONDS / _STEP_SECONDS))
    start = step * int(np.argmax(np.convolve(energy, np.ones(window), "valid")))
    start = min(start, source.frames - most)
    return np.asarray(source.read(start, start + most), dtype=np.float64), False
