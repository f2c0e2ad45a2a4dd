"""Pictures of many as files: lines over each other, and a measure over builds."""

from pathlib import Path

from kind_echo.bench.overlays import Drawn, NoLines
from kind_echo.bench.sheets import Line, Trend
from kind_echo.core.registry.measure import Measure
from kind_echo.plots import TrendLine, check_plot, plot_overlay, plot_trends
from kind_echo.wording.conditions import condition_text
from kind_echo.wording.overlays import KIND_WORDS, overlay_sentence
from kind_echo.wording.trends import trend_sentence


def draw_overlay(target: Path, drawn: Drawn) -> str:
    """Draw lines over each other into an SVG or PNG, its sentence below; the sentence.

    Raises:
        NoLines: no row has a line.
        BadParameter: its ending is neither, or what draws is not installed.
    """
    check_plot(target)
    if not drawn.overlay.lines:
        raise NoLines(drawn.left_out)
    sentence = overlay_sentence(drawn.overlay, drawn.given.what, drawn.given.shared)
    plot_overlay(target, drawn.overlay, KIND_WORDS[drawn.overlay.kind.key], sentence)
    return sentence


def draw_trend(target: Path, trend: Trend, measure: Measure, case: tuple[str, str]) -> str:
    """Draw a measure of a case over builds, a small plot for each condition, into an SVG or PNG; its sentence.

    Raises:
        BadParameter: its ending is neither, or what draws is not installed.
    """
    check_plot(target)
    sentence = trend_sentence(measure, case, trend.plan.effect.name, trend.plan.name)
    builds = [run.build.version for run in trend.runs]
    plot_trends(target, [_line(line) for line in trend.lines], builds, measure, sentence)
    return sentence


def _line(line: Line) -> TrendLine:
    return TrendLine(
        label=condition_text(line.condition),
        values=[None if point is None else point.value for point in line.points],
        changes=[(step.place, step.by) for step in line.changes],
        at_least=None if line.limit is None else line.limit.at_least,
        at_most=None if line.limit is None else line.limit.at_most,
    )
