"""Readings and limits as the JSON that is kept in the database and sent out: strict, with no infinity and no NaN."""

import math
from collections.abc import Mapping

from kind_echo.core.levels.loudness import LoudnessCurves
from kind_echo.core.registry.documents import CurveDocument, LimitDocument, ReadingDocument, WholeCurveDocument
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.readings import Curve, Reading
from kind_echo.core.verdicts.documents import JudgedDocument, VerdictDocument
from kind_echo.core.verdicts.verdict import JudgedReading, Verdict, VerdictName

_MOST_POINTS = 2000


_INFINITE = {math.inf: "Infinity", -math.inf: "-Infinity"}


def reading_document(reading: Reading) -> ReadingDocument:
    """A reading as it stands in the JSON of the command line; `at_most` and `uncertainty` only where they apply."""
    document: ReadingDocument = {
        "measure": reading.measure,
        "channel": reading.channel,
        "value": reading.value,
        "unit": reading.unit,
        "why": reading.why,
    }
    if reading.uncertainty is not None:
        document["uncertainty"] = reading.uncertainty
    if reading.at_most is not None and math.isfinite(reading.at_most):
        document["at_most"] = reading.at_most
    return document


def kept_reading(reading: Reading) -> ReadingDocument:
    """A reading as it is kept: with its typed reason and both bounds, an infinite one as "-Infinity" or "Infinity"."""
    document = reading_document(reading)
    if reading.reason is not None:
        document["reason"] = reading.reason
    if reading.at_most is not None:
        document["at_most"] = _INFINITE.get(reading.at_most, reading.at_most)
    if reading.at_least is not None:
        document["at_least"] = _INFINITE.get(reading.at_least, reading.at_least)
    return document


def reading_from(document: ReadingDocument) -> Reading:
    """The reading that was kept as this document."""
    at_most, at_least = (None if bound is None else float(bound)
                         for bound in (document.get("at_most"), document.get("at_least")))  # fmt: skip
    return Reading(
        document["measure"], document["channel"], document["value"], document["why"], document.get("uncertainty"),
        at_most, document.get("reason"), at_least,
    )  # fmt: skip


def curve_documents(curves: Mapping[str, Curve], side: str) -> list[CurveDocument]:
    """Curves as they are kept, thinned to what can be drawn: points that are numbers on both axes."""
    documents: list[CurveDocument] = []
    for name, curve in curves.items():
        points = [(x, y) for x, y in zip(curve.x, curve.y, strict=True) if math.isfinite(x) and math.isfinite(y)]
        points = points[:: max(1, len(points) // _MOST_POINTS)]
        documents.append(
            {
                "name": name,
                "side": side,
                "x_unit": curve.x_unit,
                "y_unit": curve.y_unit,
                "x": [round(x, 6) for x, _ in points],
                "y": [round(y, 4) for _, y in points],
                "marks": [{"x": mark.x, "text": mark.text} for mark in curve.marks],
            }
        )
    return documents


def whole_curves(curves: Mapping[str, Curve]) -> dict[str, WholeCurveDocument]:
    """Curves as they stand in the JSON of the command line: each point that is a number on both axes."""
    documents: dict[str, WholeCurveDocument] = {}
    for name, curve in curves.items():
        points = [(x, y) for x, y in zip(curve.x, curve.y, strict=True) if math.isfinite(x) and math.isfinite(y)]
        documents[name] = {
            "x": {"unit": curve.x_unit, "values": [x for x, _ in points]},
            "y": {"unit": curve.y_unit, "values": [y for _, y in points]},
        }
    return documents


def loudness_curves(found: LoudnessCurves | None) -> dict[str, Curve]:
    """Momentary and short-term loudness over time; none for a file that has no loudness."""
    if found is None:
        return {}
    return {
        "momentary": Curve("s", "LUFS", found.momentary_time.tolist(), found.momentary.tolist()),
        "short": Curve("s", "LUFS", found.short_time.tolist(), found.short.tolist()),
    }


def limit_document(limit: Limit) -> LimitDocument:
    """A limit as JSON."""
    return {"at_least": limit.at_least, "at_most": limit.at_most}


def limit_from(document: LimitDocument) -> Limit:
    """The limit that a document was made of."""
    return Limit(document.get("at_least"), document.get("at_most"))


def verdict_document(verdict: Verdict) -> VerdictDocument:
    """A verdict's facts as they are kept beside its name and ink."""
    document: VerdictDocument = {
        "ground": verdict.ground, "other": verdict.other, "found": [_judged_document(one) for one in verdict.found]
    }  # fmt: skip
    if verdict.why:
        document["why"] = verdict.why
    return document


def _judged_document(judged: JudgedReading) -> JudgedDocument:
    document: JudgedDocument = {"reading": kept_reading(judged.reading)}
    if judged.limit is not None:
        document["limit"] = limit_document(judged.limit)
    return document


def verdict_from(name: VerdictName, ink: float, document: VerdictDocument) -> Verdict:
    """The verdict of that name and ink whose facts were kept as this document."""
    found = tuple(
        JudgedReading(reading_from(one["reading"]), limit_from(one["limit"]) if "limit" in one else None)
        for one in document["found"]
    )
    return Verdict(name, document["ground"], found, document["other"], ink, document.get("why", ""))
