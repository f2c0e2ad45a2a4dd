"""Word lengths: rounding to the steps of an integer file, with or without dither."""

import numpy as np

from kind_echo.core.audio.source import Samples
from kind_echo.core.registry.errors import BadParameter


def to_word_length(samples: Samples, bits: int, *, dithered: bool, seed: int = 1) -> Samples:
    """Samples on the grid of a word length, within −1 … 1 − one step.

    Args:
        bits: 8 to 32.
        dithered: add triangular noise of two steps peak to peak before rounding, so that the error does not depend on
            the signal; its power is then a quarter of a squared step instead of a twelfth.
        seed: of the dither.
    Source:
        S. P. Lipshitz, R. A. Wannamaker, J. Vanderkooy, Quantization and dither: a theoretical survey, J. Audio Eng.
        Soc. 40 (1992).
    """
    if not 8 <= bits <= 32:
        raise BadParameter("bits", bits, "from 8 to 32")
    scale = 2.0 ** (bits - 1)
    steps = samples * scale
    if dithered:
        rng = np.random.default_rng(seed)
        steps = steps + rng.uniform(-0.5, 0.5, samples.shape) + rng.uniform(-0.5, 0.5, samples.shape)
    return np.asarray(np.clip(np.round(steps), -scale, scale - 1.0) / scale)
