"""Whether two channels stand in each other's place, where a filter may have come in as well."""

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source
from kind_echo.core.delays.phases import read_spectra
from kind_echo.core.delays.spectra import Blocks
from kind_echo.core.levels.integrity import channel_swap
from kind_echo.core.registry.readings import Reading, for_channels, value_of

Floats = NDArray[np.float64]

_EXACT_CORRELATION = 0.999  # correlation coefficient
_COHERES_MORE_SHARE = 0.05  # crosswise, of the power, than straight


def find_swap(
    reference: Source, render: Source, shift: int, cross: Floats, powers: tuple[Floats, Floats]
) -> list[Reading]:
    """The reading `channel_swap`.

    Of a pair of channels that are swapped, each coheres with the other more than with itself. Where a sound repeats, a
    delay or a filter may make the waveforms alike crosswise, yet a filter explains the straight pairs as well.

    Args:
        shift: frames by which the render is later.
        cross, powers: as `channel_swap` takes them.
    """
    found = channel_swap(cross, powers)
    if reference.channels != 2 or value_of(found, "channel_swap") != 1.0:
        return found
    lo, hi = max(0, -shift), min(reference.frames, render.frames - shift)
    x, y = read_spectra(reference, render, shift, (lo, hi))
    straight = min(_coherent(Blocks.of(x[0], y[0])), _coherent(Blocks.of(x[1], y[1])))
    crosswise = min(_coherent(Blocks.of(x[0], y[1])), _coherent(Blocks.of(x[1], y[0])))
    if crosswise > straight + _COHERES_MORE_SHARE or _is_exact(cross, powers):
        return found
    return for_channels("channel_swap", [0.0, 0.0], 0.0)


def _coherent(blocks: Blocks) -> float:
    """The share of the power that a filter could explain."""
    if blocks.cross is None:
        return 0.0
    same, both = blocks.cross.coherent
    return same / both


def _is_exact(cross: Floats, powers: tuple[Floats, Floats]) -> bool:
    """Whether each channel is the other but for its level."""
    scale = np.sqrt(np.outer(*powers))
    return bool(min(abs(cross[0, 1]) / scale[0, 1], abs(cross[1, 0]) / scale[1, 0]) > _EXACT_CORRELATION)
