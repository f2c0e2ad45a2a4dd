"""Where the harmonics of a tone fold to."""

from dataclasses import dataclass

from kind_echo.core.audio.folding import fold

_MOST_ORDER = 60
_SHOWN = 8  # aliases listed for each rate


@dataclass(frozen=True)
class Alias:
    """Where one harmonic of a tone lies above half the rate, and where it folds to, in Hz."""

    order: int
    frequency: float
    folded: float


def expected_aliases(frequency: float, rate: int) -> list[Alias]:
    """The harmonics of a tone that lie above half a rate, by order, and where they fold to; as many as are shown."""
    first = int(rate / 2 / frequency) + 1
    orders = range(max(2, first), min(_MOST_ORDER, first + _SHOWN - 1) + 1)
    return [Alias(order, order * frequency, fold(order * frequency, rate)) for order in orders]
