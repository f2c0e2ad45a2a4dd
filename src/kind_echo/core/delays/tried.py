"""A lag that is tried: how well both sounds agree there, block by block and channel by channel."""

from dataclasses import dataclass

from kind_echo.core.audio.source import Source
from kind_echo.core.delays.phases import NEAR, Fine, fine_delay, read_blocks

SHORT = 1 << 12  # frames under which a file is judged as a whole
_LEAST_OVERLAP_SHARE = 0.1  # of the shorter file
SOUNDS = 1e-6  # of the power of the loudest block


@dataclass(frozen=True)
class Tried:
    """A lag that was looked at, and what all channels together say of it."""

    lag: int
    together: Fine


def look(reference: Source, render: Source, lag: int, reach: int) -> Tried | None:
    """What blocks all over the file say of a lag; None where too little of the two lies over each other."""
    lo, hi = max(0, -lag), min(reference.frames, render.frames - lag)
    if hi - lo < max(8, _LEAST_OVERLAP_SHARE * min(reference.frames, render.frames)):
        return None
    together = fine_delay(read_blocks(reference, render, lag, (lo, hi)), near(lag, reach), whole_file=True)
    return None if together is None else Tried(lag, together)


def of_each(reference: Source, render: Source, tried: Tried, reach: int) -> list[Fine | None]:
    """What each channel says of a lag by itself; None for one that is silent."""
    if reference.channels == 1:
        return [tried.together]
    within = max(0, -tried.lag), min(reference.frames, render.frames - tried.lag)
    sets = read_blocks(reference, render, tried.lag, within)
    return [fine_delay([one], near(tried.lag, reach), whole_file=True) for one in sets]


def near(lag: int, reach: int) -> int:
    """Samples around a lag within which a finer one is looked for."""
    return max(1, min(NEAR, reach - abs(lag)) if reach < abs(lag) + NEAR else NEAR)
