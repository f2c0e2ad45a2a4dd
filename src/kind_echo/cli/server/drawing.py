"""Commands that draw what the bench keeps: a measure over builds, and many renders over each other."""

import json
from math import inf
from pathlib import Path
from typing import get_args

import click
from rich.table import Table
from sqlalchemy.orm import Session

from kind_echo.bench.overlays import Rows, draw_rows, rows_of_cells, rows_of_set, rows_over_builds
from kind_echo.bench.plans import find_plan
from kind_echo.bench.reports import draw_overlay, draw_trend
from kind_echo.bench.sets import find_set
from kind_echo.bench.sheets import (
    USUAL_MEASURES,
    Line,
    Trend,
    case_worth_opening,
    cases_over_builds,
    trend_of,
)
from kind_echo.cli.measuring.printing import console_for_tables
from kind_echo.cli.server.database import clear_error_without_database
from kind_echo.core.overlays.kinds import KindKey
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.measure import Measure
from kind_echo.core.registry.measures import find_measure
from kind_echo.database.models import Plan
from kind_echo.database.sessions import snapshot
from kind_echo.plots import check_plot
from kind_echo.wording.conditions import condition_text
from kind_echo.wording.figures import value_text
from kind_echo.wording.trends import trend_sentence


def _drawable(_: click.Context, __: click.Parameter, path: Path | None) -> Path | None:
    if path is not None:
        check_plot(path)
    return path


_FILE = click.Path(dir_okay=False, path_type=Path)


@click.command("trend")
@click.argument("plan")
@click.option("--measure", default=None, help="Which measure; the first of the usual ones that has readings if none.")
@click.option("--signal", default="", help="Of which case, with --setting; the one that changed last unless given.")
@click.option("--setting", default="", help="Of which case, with --signal.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
@click.option("--plot", type=_FILE, metavar="FILE", callback=_drawable, help="Draw it as SVG or PNG.")
def trend_command(plan: str, measure: str | None, signal: str, setting: str, as_json: bool, plot: Path | None) -> None:
    """A measure of PLAN over its builds, condition by condition, and where it changed.

    A build is marked with ! where the figure moved from the build before by more than it usually does.
    """
    if bool(signal) != bool(setting):
        raise BadParameter("signal, setting", signal or setting, "given both, or neither")
    with clear_error_without_database(), snapshot() as session:
        found = find_plan(session, plan)
        known = find_measure(measure or _usual(session, found))
        case = (signal, setting) if signal else case_worth_opening(session, found, known.key)
        if case is None or case not in cases_over_builds(session, found):
            raise BadParameter("case", " through ".join(case or ("none",)), "a case of the plan's newest run")
        trend = trend_of(session, found, known.key, case)
        if plot is not None:
            draw_trend(plot, trend, known, case)
        if as_json:
            click.echo(json.dumps(_trend_document(trend, known, case)))
        else:
            _print_trend(trend, known, case)


def _usual(session: Session, plan: Plan) -> str:
    """The first of the usual measures that has a reading on any build; else the first of them."""
    for key in USUAL_MEASURES:
        if any(point is not None and point.value is not None for line in trend_of(session, plan, key).lines
               for point in line.points):  # fmt: skip
            return key
    return USUAL_MEASURES[0]


def _trend_document(trend: Trend, measure: Measure, case: tuple[str, str]) -> dict[str, object]:
    return {
        "command": "trend", "effect": trend.plan.effect.name, "plan": trend.plan.name,
        "measure": measure.key, "unit": measure.unit, "signal": case[0], "setting": case[1],
        "builds": [run.build.version for run in trend.runs],
        "lines": [_line_document(line, trend) for line in trend.lines],
    }  # fmt: skip


def _line_document(line: Line, trend: Trend) -> dict[str, object]:
    return {
        "condition": condition_text(line.condition),
        "values": [None if point is None else point.value for point in line.points],
        "verdicts": [None if point is None else point.verdict for point in line.points],
        "cells": [None if point is None else point.cell_id for point in line.points],
        "changes": [{"build": trend.runs[one.place].build.version, "by": one.by} for one in line.changes],
        "at_least": None if line.limit is None else line.limit.at_least,
        "at_most": None if line.limit is None else line.limit.at_most,
    }  # fmt: skip


def _print_trend(trend: Trend, measure: Measure, case: tuple[str, str]) -> None:
    console = console_for_tables()
    console.print(trend_sentence(measure, case, trend.plan.effect.name, trend.plan.name), highlight=False)
    table = Table(box=None, pad_edge=False)
    table.add_column("Condition")
    for run in trend.runs:
        table.add_column(run.build.version, justify="right")
    for line in trend.lines:
        changed = {step.place for step in line.changes}
        values = [
            "" if point is None else ("—" if point.value is None else value_text(point.value, measure))
            + ("!" if place in changed else "")
            for place, point in enumerate(line.points)
        ]  # fmt: skip
        table.add_row(condition_text(line.condition), *values)
    console.print(table, highlight=False)


@click.command("overlay")
@click.option("--cells", default="", help="Numbers of cells, with commas between.")
@click.option("--builds", "cell", type=int, default=None, help="Number of a cell: its case on every build.")
@click.option("--set", "set_id", type=int, default=None, help="Number of a set of files; --files for some of them.")
@click.option("--files", default="", help="Numbers of files of the set, with commas between.")
@click.option("--against", type=int, default=None, help="Number of the cell or file that the others are held against.")
@click.option("--by", type=click.Choice(get_args(KindKey)), default=None, help="What is drawn; what fits unless given.")
@click.option("--from", "start", type=float, default=0.0, help="Where the passage begins, in seconds.")
@click.option("--to", "stop", type=float, default=None, help="Where it ends; all of it unless given.")
@click.option("--plot", type=_FILE, metavar="FILE", required=True, callback=_drawable, help="The SVG or PNG.")
def overlay_command(
    cells: str,
    cell: int | None,
    set_id: int | None,
    files: str,
    against: int | None,
    by: KindKey | None,
    start: float,
    stop: float | None,
    plot: Path,
) -> None:
    """Draw cells, the builds of a cell, or files of a set over each other.

    The numbers are those in the addresses of the page.
    """
    if (bool(cells), cell is not None, set_id is not None).count(True) != 1:
        raise BadParameter("what is drawn", "", "named by one of --cells, --builds and --set")
    if files and set_id is None:
        raise BadParameter("files", files, "given with --set")

    def rows(session: Session) -> Rows:
        if set_id is not None:
            return rows_of_set(session, find_set(session, set_id), _numbers("files", files), against)
        if cell is not None:
            return rows_over_builds(session, cell, against)
        return rows_of_cells(session, _numbers("cells", cells), against)

    with clear_error_without_database(), snapshot() as session:
        drawn = draw_rows(session, rows(session), by or "", (start, inf if stop is None else stop))
        sentence = draw_overlay(plot, drawn)
    click.echo(sentence)
    for one in drawn.left_out:
        click.echo(f"Left out: {one.label} {one.why}.")


def _numbers(name: str, text: str) -> list[int]:
    try:
        return [int(number) for number in text.split(",") if number.strip()]
    except ValueError:
        raise BadParameter(name, text, "whole numbers with commas between") from None
