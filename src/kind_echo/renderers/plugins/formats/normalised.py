"""Plain values of parameters that a standard keeps from 0 to 1: read from the texts that the plug-in shows for them."""

import functools
import itertools
import math
import re
from collections.abc import Callable

_NUMBER = re.compile(r"^\s*([+\-−]?(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:e[+-]?\d+)?)\s*([^\d\s].*)?$", re.IGNORECASE)
_MOST_STEPS = 128
"""With more, a parameter is taken for one that moves smoothly."""
_LOOKED_AT = 8
_HALVINGS = 40


class Scale:
    """Between 0 to 1 and what is shown: numbers in a unit, choices by name, or the bare position where neither fits.

    Attributes:
        least, greatest: in plain values; of choices 0 and their number less one; 0 and 1 where texts are no numbers.
        choices: the texts, where they are no numbers and few.
        unit: what stands behind the numbers, where the plug-in writes it there.
    """

    def __init__(self, shown: Callable[[float], str], steps: int | None = None) -> None:
        """Look at what is shown at some positions.

        Args:
            shown: the text at a position from 0 to 1.
            steps: how many values there are; None where it moves smoothly.
        """
        self._shown = functools.cache(shown)
        self.steps = steps if steps is not None and 2 <= steps <= _MOST_STEPS else None
        self.choices: tuple[str, ...] = ()
        self.unit, self.least, self.greatest = "", 0.0, 1.0
        count = self.steps or _LOOKED_AT + 1
        self._positions = [index / (count - 1) for index in range(count)]
        texts = [self._shown(position) for position in self._positions]
        read = [_number(text) for text in texts]
        self._plain: list[float] | None = None
        self._linear = False
        if all(one is not None for one in read):
            values = [value for value, _ in filter(None, read)]
            if _goes_one_way(values):
                self._plain, self.unit = values, next(unit for _, unit in filter(None, read))
                self.least, self.greatest = min(values), max(values)
                self._linear = self.steps is None and _is_linear(values, texts)
        elif self.steps is not None and len(set(texts)) == len(texts):
            self.choices, self.greatest = tuple(texts), float(len(texts) - 1)

    def plain(self, position: float) -> float:
        """The plain value at a position, with the digits that the plug-in shows of it."""
        if self.choices:
            return float(round(position * (len(self.choices) - 1)))
        if self._plain is None:
            return position
        if self._linear:
            return float(f"{self._plain[0] + position * (self._plain[-1] - self._plain[0]):.7g}")
        return self._at(position)

    def position(self, value: float) -> float:
        """Where a plain value is, from 0 to 1: of those that show it, the middle."""
        if self.choices:
            return min(1.0, max(0.0, round(value) / (len(self.choices) - 1)))
        if self._plain is None:
            return value
        if self.steps is not None:
            return min(zip(self._positions, self._plain, strict=True), key=lambda one: abs(one[1] - value))[0]
        if self._linear:
            return (value - self._plain[0]) / (self._plain[-1] - self._plain[0])
        rising = self._plain[-1] > self._plain[0]
        # The texts are rounded: many positions show one value, between these two.
        first = self._edge(lambda seen: seen < value if rising else seen > value)
        last = self._edge(lambda seen: seen <= value if rising else seen >= value)
        return (first + last) / 2

    def _edge(self, before: Callable[[float], bool]) -> float:
        low, high = 0.0, 1.0
        for _ in range(_HALVINGS):
            middle = (low + high) / 2
            low, high = (middle, high) if before(self._at(middle)) else (low, middle)
        return high

    def _at(self, position: float) -> float:
        found = _number(self._shown(position))
        return position if found is None else found[0]


def _number(text: str) -> tuple[float, str] | None:
    """The number that a text begins with, and what is behind it; of decades written with k, as in kHz, the whole."""
    if text.strip().lower().lstrip("+").replace("−", "-").split(" ")[0] in ("-inf", "-∞"):
        return -math.inf, ""
    found = _NUMBER.match(text)
    if found is None:
        return None
    value = float(found.group(1).replace("−", "-").replace(",", "."))
    unit = (found.group(2) or "").strip()
    if unit.lower().startswith("k") and (len(unit) == 1 or unit[1:].lower() == "hz"):
        return value * 1000.0, unit[1:] or ""
    return value, unit


def _goes_one_way(values: list[float]) -> bool:
    steps = [after - before for before, after in itertools.pairwise(values)]
    finite = all(map(math.isfinite, values))
    return finite and values[0] != values[-1] and (all(s >= 0 for s in steps) or all(s <= 0 for s in steps))


def _is_linear(values: list[float], texts: list[str]) -> bool:
    """Whether all lie on one line, to the last digit that is shown."""
    step = (values[-1] - values[0]) / (len(values) - 1)
    return all(
        abs(value - (values[0] + index * step)) <= 1.01 * _resolution(text)
        for index, (value, text) in enumerate(zip(values, texts, strict=True))
    )


def _resolution(text: str) -> float:
    found = re.search(r"[.,](\d+)", text)
    return float(10.0 ** -(len(found.group(1)) if found else 0))
