"""The registry of measures: each is declared once, and every screen, table and output reads it from here."""

from collections.abc import Iterable

from kind_echo.core.registry.declared import DECLARED
from kind_echo.core.registry.errors import Conflict, UnknownMeasure
from kind_echo.core.registry.measure import Family, Limit, Measure

MEASURES: dict[str, Measure] = {measure.key: measure for measure in DECLARED}


class MeasureDeclared(Conflict):
    """A measure is added under a key that another has."""

    def __init__(self, key: str) -> None:
        self.key = key
        super().__init__(f"There is a measure {key} already.")


def declare(measure: Measure) -> None:
    """Add a measure from outside the package. Raises MeasureDeclared."""
    if measure.key in MEASURES:
        raise MeasureDeclared(measure.key)
    MEASURES[measure.key] = measure


def find_measure(key: str) -> Measure:
    """The measure of that key. Raises UnknownMeasure."""
    try:
        return MEASURES[key]
    except KeyError:
        raise UnknownMeasure(key) from None


def default_limits(families: Iterable[Family]) -> dict[str, Limit]:
    """The default bounds of all measures of the given families that have any."""
    wanted = set(families)
    return {m.key: m.limit for m in MEASURES.values() if m.limit is not None and m.family in wanted}
