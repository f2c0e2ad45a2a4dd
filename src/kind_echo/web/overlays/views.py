"""Lines over each other as they are sent."""

import math

import numpy as np

from kind_echo.bench.overlays import Drawn
from kind_echo.core.overlays.overlay import Floats, Line
from kind_echo.web.overlays.schemas import ChoiceBody, LeftOutLineBody, OverlayBody, OverlayLineBody, PointsBody
from kind_echo.wording.overlays import KIND_WORDS, farthest_text

_DIGITS = 6  # of a place or a value: more than a picture shows


def overlay_body(drawn: Drawn) -> OverlayBody:
    """Rows over each other, and what they show in words."""
    overlay = drawn.overlay
    kind, words = overlay.kind, KIND_WORDS[overlay.kind.key]
    lines = [
        OverlayLineBody(
            number=row.number, label=row.label, difference=None if apart is None else _points(apart),
            **_points(line).model_dump(),
        )
        for row, line, apart in zip(drawn.rows, overlay.lines, overlay.differences, strict=True)
    ]  # fmt: skip
    return OverlayBody(
        shared=drawn.given.shared,
        finding=farthest_text(overlay),
        kind=kind.key,
        kinds=[ChoiceBody(key=key, title=KIND_WORDS[key].title) for key in drawn.kinds],
        join=kind.join,
        x_unit=kind.x_unit,
        y_unit=kind.y_unit,
        x_title=words.x,
        y_title=words.y,
        least=kind.least,
        difference_unit=kind.difference_unit,
        together=overlay.together,
        what=drawn.given.what,
        over_time=overlay.over_time,
        reference=None if overlay.reference is None else drawn.rows[overlay.reference].number,
        rows=[ChoiceBody(key=str(row.number), title=row.label) for row in drawn.given.rows],
        lines=lines,
        law=None if overlay.law is None else _points(overlay.law),
        left_out=[LeftOutLineBody(label=one.label, why=one.why) for one in drawn.left_out],
        passage=list(drawn.passage),
        seconds=drawn.whole,
    )


def _points(line: Line) -> PointsBody:
    values = [None if math.isnan(value) else value for value in _rounded(line.y)]
    return PointsBody(x=_rounded(line.x), y=values, low=None if line.low is None else _rounded(line.low))


def _rounded(values: Floats) -> list[float]:
    rounded: list[float] = np.round(values, _DIGITS).tolist()
    return rounded
