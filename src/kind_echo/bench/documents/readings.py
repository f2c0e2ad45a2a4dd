"""Readings and limits as the JSON that is kept in the database and sent out: strict, with no infinity and no NaN."""

import math
from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from kind_echo.core.levels.loudness import LoudnessCurves
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.readings import Curve, Reading
from kind_echo.core.verdicts.verdict import JudgedReading, Verdict, VerdictName

Document = dict[str, Any]

_MOST_POINTS = 2000


_INFINITE = {math.inf: "Infinity", -math.inf: "-Infinity"}


def reading_document(reading: Reading) -> Document:
    """A reading as it stands in the JSON of the command line; `at_most` and `uncertainty` only where they apply."""
    document: Document = {
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


def kept_reading(reading: Reading) -> Document:
    """A reading as it is kept: with its typed reason and both bounds, an infinite one as "-Infinity" or "Infinity"."""
    document = reading_document(reading)
    if reading.reason is not None:
        document["reason"] = reading.reason
    for side, bound in (("at_most", reading.at_most), ("at_least", reading.at_least)):
        if bound is not None:
            document[side] = _INFINITE.get(bound, bound)
    return document


def reading_from(document: Document) -> Reading:
    """The reading that was kept as this document."""
    at_most, at_least = (
        None if document.get(side) is None else float(document[side]) for side in ("at_most", "at_least")
    )
    return Reading(
        document["measure"], document["channel"], document["value"], document["why"], document.get("uncertainty"),
        at_most, document.get("reason"), at_least,
    )  # fmt: skip


def curve_documents(curves: Mapping[str, Curve], side: str) -> list[Document]:
    """Curves as they are kept, thinned to what can be drawn: points that are numbers on both axes."""
    documents = []
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
                "marks": [asdict(mark) for mark in curve.marks],
            }
        )
    return documents


def whole_curves(curves: Mapping[str, Curve]) -> Document:
    """Curves as they stand in the JSON of the command line: each point that is a number on both axes."""
    documents = {}
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


def limit_document(limit: Limit) -> Document:
    """A limit as JSON."""
    return {"at_least": limit.at_least, "at_most": limit.at_most}


def limit_from(document: Document) -> Limit:
    """The limit that a document was made of."""
    return Limit(document.get("at_least"), document.get("at_most"))


def verdict_document(verdict: Verdict) -> Document:
    """A verdict's facts as they are kept beside its name and ink."""
    found = [
        {"reading": kept_reading(one.reading)} | ({} if one.limit is None else {"limit": limit_document(one.limit)})
        for one in verdict.found
    ]
    return {"ground": verdict.ground, "other": verdict.other, "found": found} | (
        {"why": verdict.why} if verdict.why else {}
    )


def verdict_from(name: VerdictName, ink: float, document: Document) -> Verdict:
    """The verdict of that name and ink whose facts were kept as this document."""
    found = tuple(
        JudgedReading(reading_from(one["reading"]), limit_from(one["limit"]) if "limit" in one else None)
        for one in document["found"]
    )
    return Verdict(name, document["ground"], found, document["other"], ink, document.get("why", ""))
