"""Where the orders of a tone fold to, and which of them stand apart, can be told from what they fall on, or hide."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.folding import fold
from kind_echo.core.tones.close_lines import nearest_hertz, solve_close_lines
from kind_echo.core.tones.lines import SPREAD_DB, STANDS_OUT, LineSpectrum

Floats = NDArray[np.float64]

DEEPEST = 1e-9
"""Of the fundamental: the window's side lobes end here."""

_LOWER_ORDERS = 2  # even or odd as one that falls on another line, from which its level is no surprise


@dataclass(frozen=True)
class Line:
    """A line that arithmetic expects.

    Attributes:
        order: multiple of the fundamental.
        frequency: where it lies after folding.
        amplitude: peak amplitude of what is there.
        floor: greatest amplitude around it.
    """

    order: int
    frequency: float
    amplitude: float
    floor: float

    @property
    def found(self) -> bool:
        """Whether it stands at least 6 dB out of what is around it."""
        return self.amplitude > STANDS_OUT * self.floor and self.amplitude > 0.0

    @property
    def uncertainty(self) -> float:
        """Of its level, in dB at 95 %, by what is around it."""
        return SPREAD_DB * self.floor / self.amplitude


def folded_lines(
    spectrum: LineSpectrum, frequency: float, harmonic: list[float], orders: int
) -> tuple[list[tuple[int, float]], list[tuple[int, float]], Floats]:
    """Orders and frequencies of aliases that stand apart, of those that fall on another line, and all that is known."""
    half, known = spectrum.rate / 2, list(harmonic)
    apart: list[tuple[int, float]] = []
    clashing: list[tuple[int, float]] = []
    for order in range(2, orders + 1):
        if order * frequency < half:
            continue
        at = fold(order * frequency, spectrum.rate)
        at_end = at < spectrum.lobe or at > half - spectrum.lobe
        if at_end or any(abs(at - k) < spectrum.lobe for k in known):
            clashing.append((order, at))
            continue
        apart.append((order, at))
        known.append(at)
    return apart, clashing, np.array(known)


def close_aliases(
    spectrum: LineSpectrum,
    clashing: list[tuple[int, float]],
    standing: list[tuple[int, float]],
    harmonic: list[float],
) -> tuple[list[Line], list[Line]]:
    """Of aliases that fall on other lines, those that can be told from these, and those that may hide in them.

    What falls on an alias of a lower order is measured with that.

    Args:
        clashing, standing: orders and frequencies of aliases that fall on other lines, and of those that do not.
    """
    apart: list[Line] = []
    hidden: list[Line] = []
    half, least = spectrum.rate / 2, DEEPEST * spectrum.amplitude(harmonic[0])
    near = nearest_hertz(spectrum)
    by_harmonic: dict[float, list[tuple[int, float]]] = {}
    for order, at in clashing:
        nearest = min(harmonic, key=lambda k: abs(at - k))
        if at < spectrum.lobe or at > half - spectrum.lobe:
            height = spectrum.amplitude(at)
            hidden.append(Line(order, at, height, height))
        elif abs(at - nearest) < spectrum.lobe:
            by_harmonic.setdefault(nearest, []).append((order, at))
    for main, there in by_harmonic.items():
        solved = {one.frequency: one for one in solve_close_lines(spectrum, main, [at for _, at in there])}
        for order, at in there:
            told = solved.get(at)
            if told is not None and all(line.frequency != at for line in apart):
                line = Line(order, at, told.amplitude, max(least, told.floor))
                if line.found:
                    apart.append(line)
                else:  # it may be as loud as what the lines leave beside it
                    most = min(spectrum.amplitude(at), STANDS_OUT * line.floor)
                    hidden.append(Line(order, at, most, most))
            elif abs(at - main) < near or all(abs(at - other) >= near for other in solved):
                height = spectrum.amplitude(at)
                hidden.append(Line(order, at, height, height))
    # Aliases fall off with their order: where some of lower orders are told, one that hides is no greater.
    lower = [*(order for order, _ in standing), *(line.order for line in apart)]
    alike = {line: [n for n in lower if n < line.order and (line.order - n) % 2 == 0] for line in hidden}
    return apart, [line for line in hidden if len(alike[line]) < _LOWER_ORDERS]
