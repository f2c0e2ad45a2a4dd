"""What a folder of references would notice of faults that are planted into it: the table, and what it says."""

import json
from collections.abc import Mapping, Sequence
from pathlib import Path

import click

from kind_echo.checks.result_cache import ResultCache
from kind_echo.checks.sensitivity import plant
from kind_echo.checks.settings import Settings
from kind_echo.cli.exits import LimitBroken, RowsFailed
from kind_echo.cli.progress import progress
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.sensitivity.closing import signals_that_show
from kind_echo.core.sensitivity.faults import FAULTS
from kind_echo.core.sensitivity.summary import USUAL_WANTED, Cell, Row, Wanted, cover, rows_of, wanted_size
from kind_echo.wording.sensitivity import (
    COLUMNS,
    by_text,
    cover_sentence,
    row_document,
    row_sentence,
    row_text,
    signals_sentence,
    size_text,
    table_rows,
)
from kind_echo.wording.tables import csv_text

_TRIED_RATE = 48_000


def read_wanted(given: Sequence[str]) -> dict[str, float]:
    """Sizes wanted as written on the command line, "gain=0.1". Raises BadParameter."""
    found = {}
    for one in given:
        key, equals, text = one.partition("=")
        try:
            size = float(text.replace("−", "-"))
        except ValueError:
            equals = ""
        if not equals:
            raise BadParameter("wanted", repr(one), "FAULT=SIZE, as gain=0.1")
        found[key] = wanted_size(key, size)
    return found


def tell_sensitivity(
    references: Path, settings: Settings, known: ResultCache, jobs: int, wanted: Mapping[str, float], output: str
) -> None:
    """Plant faults into the references of a folder, and say what is noticed.

    Args:
        wanted: by fault, over what the settings want.
        output: "json", "csv" or "" for a table.
    Raises:
        LimitBroken: a size that is wanted is not noticed. RowsFailed: a reference could not be read.
    """
    with progress("Planting", "references") as shown:
        planted = plant(references, settings, known, jobs, shown.tell)
    if known.problem:
        click.echo(f"kind-echo: what was found before could not be used: {known.problem}", err=True)
    cells = [one.cell for one in planted if one.cell is not None]
    for one in planted:
        if one.cell is None:
            click.echo(f"kind-echo: {one.name}: {one.why}", err=True)
    asked = {**settings.wanted, **wanted}
    print_sensitivity(cells, asked or USUAL_WANTED, output, "check")
    if len(cells) < len(planted):
        raise RowsFailed(len(planted) - len(cells), len(planted))
    end_by_wanted(cells, asked)


def end_by_wanted(cells: Sequence[Cell], wanted: Wanted) -> None:
    """Raises LimitBroken where a size that is wanted is not noticed."""
    if any(row.is_met is False for row in rows_of(cells, wanted)):
        raise LimitBroken


def print_sensitivity(cells: Sequence[Cell], wanted: Wanted, output: str, command: str) -> None:
    """Print what cells notice, in the form asked for."""
    rows = rows_of(cells, wanted)
    if output == "csv":
        click.echo(csv_text([COLUMNS, *table_rows(cells, FAULTS)]), nl=False)
        return
    if output == "json":
        found = cover(cells)
        document = {
            "command": command, "sensitivity": [row_document(row) for row in rows],
            "cells": [
                {"case": cell.case, "condition": cell.condition,
                 "found": [cell.found[fault.key].document() for fault in FAULTS if fault.key in cell.found]}
                for cell in cells
            ],
            "cover": {"kept": found.kept, "spare": found.spare, "seconds_saved": found.seconds_saved},
        }  # fmt: skip
        click.echo(json.dumps(document, allow_nan=False))
        return
    _print_table(rows, cells)


def _print_table(rows: Sequence[Row], cells: Sequence[Cell]) -> None:
    from rich.table import Table

    from kind_echo.cli.measuring.printing import console_for_tables

    console = console_for_tables()
    table = Table(box=None, pad_edge=False)
    for heading in ("Fault", "Noticed from", "Wanted", "By", "Not noticed by"):
        table.add_column(heading, overflow="fold")
    for row in rows:
        wanted = "" if row.wanted is None else size_text(row.fault, row.wanted)
        mark = "" if row.is_met is not False else ", missed"
        passing = f"{len(row.passing)} of {len(cells)}" if row.passing else ""
        table.add_row(row.fault.title, row_text(row), wanted + mark, by_text(row.least), passing)
    console.print(table)
    for row in rows:
        if (row.least is None or row.is_met is False) and row.states != {"fails already"}:
            shown = signals_that_show(row.fault, row.wanted, _TRIED_RATE)
            said = [row_sentence(row, len(cells)), signals_sentence([title for title, _ in shown])]
            console.print(" ".join(filter(None, said)), highlight=False)
    if cells:
        console.print(cover_sentence(cover(cells)), highlight=False)
