"""Where a frequency lands once it is sampled, and the way there: arithmetic that needs no file."""

from kind_echo.core.registry.errors import BadParameter


def fold(frequency: float, rate: float) -> float:
    """The frequency, in Hz, at which `frequency` appears at a rate: |((f + R/2) mod R) − R/2|.

    Raises:
        BadParameter: the rate is not positive or the frequency negative.
    Source: the sampling theorem; C. E. Shannon, Communication in the presence of noise, Proc. IRE 37 (1949).
    """
    if not rate > 0:
        raise BadParameter("rate", rate, "above 0 Hz")
    if not frequency >= 0:
        raise BadParameter("frequency", frequency, "0 Hz or more")
    return abs((frequency + rate / 2) % rate - rate / 2)


def fold_path(frequency: float, rate: float, orders: float) -> list[tuple[float, float]]:
    """The way that the multiples of a tone go, from order 0 up: order, and Hz, at each turn and at the end.

    It runs straight between its turns, which lie at zero and at half the rate.
    """
    turn = rate / 2 / frequency  # orders from one turn to the next
    turns = [(k * turn, k % 2 * rate / 2) for k in range(int(orders / turn) + 1)]
    return turns if turns[-1][0] == orders else [*turns, (orders, fold(orders * frequency, rate))]


def fold_line(order: int, low: float, high: float, rate: float) -> list[tuple[float, float]]:
    """Where an order lands for tones from `low` to `high` Hz: tone and line, in Hz, at the ends and at each turn."""
    half = rate / 2
    turns = range(int(order * low / half) + 1, int(order * high / half) + 1)
    between = [(k * half / order, k % 2 * half) for k in turns if low < k * half / order < high]
    return [(low, fold(order * low, rate)), *between, (high, fold(order * high, rate))]
