"""Trends in words."""

from kind_echo.core.registry.measure import Measure


def trend_sentence(measure: Measure, case: tuple[str, str], effect: str, plan: str) -> str:
    """As "Gain, dB, of Steady tone through Copper over the builds of Towpath, Characters and curve."""
    unit = f", {measure.unit}," if measure.unit else ""
    return f"{measure.title}{unit} of {case[0]} through {case[1]} over the builds of {effect}, {plan}."
