"""Verdicts and what cells show, in words."""

from collections.abc import Sequence

from kind_echo.core.registry.measures import find_measure
from kind_echo.core.registry.numbers import number
from kind_echo.core.verdicts.symptoms import Symptom
from kind_echo.core.verdicts.verdict import THE_REFERENCE, Ground, JudgedReading, Verdict, VerdictName
from kind_echo.wording.causes import differs_by
from kind_echo.wording.figures import figure, late_or_early, up_or_down

_SENTENCES: dict[Ground, str] = {
    "no reference": "No reference is approved yet",
    "not compared": "Within its limits; not compared, for no reference is approved yet",
    "identical": "Identical to {other}",
    "null": "The difference is digital silence",
    "rounding": "Nothing above the rounding of a float file",
    "takes": "No further from {other} than its takes are from each other: residual {residual} dBFS",
    "changed": "Within limits, but not the same: residual {residual} dBFS",
    "itself": "It is {other} itself, that the others are compared with",
    "no counterpart": "There is nothing of {other} to compare it with",
    "other unfit": "{other} has no render here that is fit to be compared",
    "other format": "{other} has another rate or number of channels, so that samples cannot be compared",
    "audio dropped": "The audio of {other} or of this build was dropped before they were compared",
    "under way": "",
}


def sentence(verdict: Verdict) -> str:
    """A verdict's reason in a line. Empty while nothing is known."""
    found, other = verdict.found, verdict.other
    if verdict.ground == "unfit":
        return _beyond(found[0], other)
    if verdict.ground == "limit broken":
        # Of cells of the first versions it was not kept which limit broke.
        return "; ".join(_beyond(one, other) for one in found) or "A limit is broken"
    if verdict.ground in ("no value", "nothing measured"):
        return f"{_title(found[0])}: {found[0].reading.why or 'nothing was measured'}"
    if verdict.ground == "one side only":
        return f"{_title(found[0])}: there is no reading on both sides"
    if verdict.ground in ("alike", "apart"):
        return f"{_title(found[0])}: {_difference(found[0])} against {other}"
    if verdict.ground == "not rendered":
        return verdict.why
    return _SENTENCES[verdict.ground].format(other=other, residual=_residual(found))


def verdict_text(name: VerdictName, *, finished: bool = True) -> str:
    """A verdict as it is shown; of a cell that is under way, that it is."""
    if not finished:
        return "Under way"
    return "No reference yet" if name == "Waiting" else name


def symptom_text(symptom: Symptom) -> str:
    """What a cell shows, without figures that differ from cell to cell but for those that tell causes apart."""
    if symptom.ground == "not rendered":
        return symptom.why
    if symptom.ground == "apart" and symptom.found is not None:
        return f"{_title(symptom.found)} differs"
    if symptom.found is None or symptom.ground not in ("unfit", "limit broken", "changed"):
        return sentence(Verdict(symptom.verdict, symptom.ground, tuple(filter(None, [symptom.found])), symptom.other))
    if symptom.ground == "changed":
        return "Within limits, but not the same"
    measure, value = symptom.found.reading.of, symptom.found.reading.value
    if _tells_amount(symptom) and value is not None:
        return late_or_early(value) if measure.unit == "samples" else up_or_down(value)
    if symptom.cause == "aliasing" and symptom.orders is not None:
        return _aliases(symptom, symptom.orders)
    by = differs_by(symptom.cause) if symptom.cause is not None else ""
    by = f" by {by}{_known(symptom)}" if by else ""
    return called(measure.key, symptom.other or THE_REFERENCE) + by


def _aliases(symptom: Symptom, orders: tuple[int, int]) -> str:
    """What differs by aliases alone, with the orders of the tone that fold."""
    first, last = orders
    span = f"order {first}" if first == last else f"orders {first} to {last}"
    other = symptom.other or THE_REFERENCE
    against = "" if other == THE_REFERENCE else f", against {other}"
    return f"Aliases: {'new ' if symptom.is_new else ''}{span}{against}{_known(symptom)}"


def _known(symptom: Symptom) -> str:
    return ", where a cause is known" if symptom.elsewhere else ""


def headline(symptoms: Sequence[Symptom]) -> str:
    """What cells show together, the cause first."""
    ordered = sorted((symptom.rank, symptom_text(symptom)) for symptom in symptoms)
    return "; ".join(dict.fromkeys(text for _, text in ordered))


def worst_text(verdict: Verdict, symptoms: Sequence[Symptom]) -> str:
    """The figures of the worst cell of a finding, without what its headline has said already."""
    told = {symptom.measure for symptom in symptoms if _tells_amount(symptom)}
    first = next((found for found in verdict.found if found.reading.measure not in told), None)
    if first is None or first.reading.value is None:
        return ""
    if verdict.ground in ("changed", "takes"):
        return f"residual {_residual(verdict.found)} dBFS"
    if verdict.ground not in ("unfit", "limit broken", "apart"):
        return ""
    text = figure(first.reading) if verdict.ground != "apart" else _difference(first)
    if [symptom.measure for symptom in symptoms] != [first.reading.measure]:
        return f"{called(first.reading.measure, verdict.other)}: {text}"
    return "" if first.reading.of.drawing in ("flag", "sign") else text


def called(measure: str, other: str = THE_REFERENCE) -> str:
    """How a reading beyond its limit is called; `other` is what the render was compared with."""
    return find_measure(measure).said.format(other=other)


def _tells_amount(symptom: Symptom) -> bool:
    """Whether what a cell shows is called by its amount: a delay, a gain."""
    if symptom.found is None or symptom.ground != "limit broken" or symptom.found.reading.value is None:
        return False
    measure = symptom.found.reading.of
    return measure.undone is not None and measure.signed


def _beyond(one: JudgedReading, other: str) -> str:
    measure = one.reading.of
    name = called(measure.key, other)
    return name if measure.drawing in ("flag", "sign") else f"{name}: {figure(one.reading)}"


def _title(one: JudgedReading) -> str:
    return one.reading.of.title


def _residual(found: Sequence[JudgedReading]) -> str:
    value = found[0].reading.value if found else None
    return "" if value is None else number(value, ".1f")


def _difference(one: JudgedReading) -> str:
    """The difference of two levels has no full scale in its unit."""
    unit = one.reading.of.unit.removesuffix("FS").removesuffix("TP")
    return f"{number(one.reading.value or 0.0, '+.2f')} {unit}"
