"""Several files by one command: a row each, in parallel; one that cannot be read or compared is a row that says so."""

import json
import multiprocessing
import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial
from typing import Any

import click

from kind_echo.cli.exits import LimitBroken, RowsFailed
from kind_echo.cli.measuring.inputs import several_files
from kind_echo.cli.measuring.judging import JudgedLimit, WantedLimits
from kind_echo.cli.measuring.output import Result, document, end_by, plot_asked, report
from kind_echo.cli.progress import counted, progress
from kind_echo.core.registry.errors import BadParameter, KindEchoError
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.registry.readings import Reading, severity
from kind_echo.wording.tables import READING_COLUMNS, csv_text, reading_row


@dataclass(frozen=True)
class Row:
    """What was found of one file, or why nothing was."""

    path: str
    result: Result | None
    error: str = ""

    @property
    def note(self) -> str:
        """What explains a difference, or why nothing was found."""
        return self.error or (self.result.verdict if self.result is not None else "")

    def overall(self, key: str) -> Reading | None:
        """The reading of all channels together."""
        readings = self.result.readings if self.result is not None else []
        return next((r for r in readings if r.measure == key and r.channel == "all"), None)


@dataclass(frozen=True)
class TableOptions:
    """How rows are printed: as CSV, with which columns, by which of them sorted, and on how many processes made.

    `recursive`: whether a folder stands for the files in its folders as well.
    """

    as_csv: bool
    columns: tuple[str, ...]
    sort: str | None
    jobs: int
    recursive: bool = False

    @property
    def asked(self) -> bool:
        """Whether a table was asked for, though there may be one file alone."""
        return self.as_csv or bool(self.columns) or self.sort is not None


def table_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options of commands that take several files; the command is called with `table`, a TableOptions."""

    def with_table(
        *, as_csv: bool, columns: str | None, sort: str | None, jobs: int | None, recursive: bool, **rest: Any
    ) -> None:
        keys = tuple(part.strip() for part in columns.split(",") if part.strip()) if columns else ()
        for key in (*keys, *([sort] if sort else [])):
            find_measure(key)
        if as_csv and rest.get("as_json"):
            raise BadParameter("csv", as_csv, "without --json")
        command(table=TableOptions(as_csv, keys, sort, jobs or os.cpu_count() or 1, recursive), **rest)

    with_table.__doc__, with_table.__name__ = command.__doc__, command.__name__
    with_table.__click_params__ = getattr(command, "__click_params__", [])  # type: ignore[attr-defined]
    options = (
        click.option("--recursive", is_flag=True, help="Of a folder, take the files in its folders as well."),
        click.option("--jobs", type=click.IntRange(1, 1000), help="Processes that share several files; one a core."),
        click.option("--sort", metavar="KEY", help="Worst of this measure first; files without a reading come last."),
        click.option("--columns", metavar="KEY,KEY", help="Of several files: these measures, a line a file."),
        click.option("--csv", "as_csv", is_flag=True, help="Print CSV: a line a reading, or a file with --columns."),
    )
    made: Callable[..., Any] = with_table
    for option in options:
        made = option(made)
    return made


def rows_of(measure: Callable[[str], Result], paths: Sequence[str], jobs: int) -> Iterator[Row]:
    """What `measure` finds of each file, in the order given; it must be a function that can be sent to a process."""
    work = partial(_row, measure)
    if min(jobs, len(paths)) == 1:
        yield from map(work, paths)
        return
    # A fork would take the threads of this process along, halfway through what they do.
    context = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(min(jobs, len(paths)), mp_context=context) as pool:
        yield from pool.map(work, paths)


def _row(measure: Callable[[str], Result], path: str) -> Row:
    try:
        return Row(path, measure(path))
    except (KindEchoError, OSError) as error:
        return Row(path, None, " ".join(str(error).split()))


def report_files(
    command: str,
    work: Callable[[str], Result],
    given: Sequence[str],
    usual: Sequence[str],
    limits: WantedLimits,
    table: TableOptions,
    *,
    as_json: bool,
) -> None:
    """Measure the files that are meant, and print the one result, or a row for each.

    Args:
        work: what is done with a file, by its path; a function that can be sent to a process.
        given: files, folders and patterns.
        usual: the columns of the table where none were chosen.
    Raises:
        As `report` and `report_rows`.
    """
    files = several_files(given, recursive=table.recursive)
    if len(files) == 1 and list(given) == files and not table.asked:
        with progress(f"Measuring {files[0]}"):
            result = work(files[0])
        report(result, limits, as_json=as_json)
        return
    rows = list(counted(rows_of(work, files, table.jobs), "Measuring", "files", len(files)))
    plot = plot_asked()
    if plot is not None:
        from kind_echo.cli.measuring.overlaying import plot_curves

        plot_curves(plot, [(row.path, row.result.curves) for row in rows if row.result is not None])
    report_rows(command, rows, usual, limits, table, as_json=as_json)


def report_rows(
    command: str,
    rows: Sequence[Row],
    usual: Sequence[str],
    limits: WantedLimits,
    table: TableOptions,
    *,
    as_json: bool,
    quiet: bool = False,
) -> None:
    """Print rows, then judge each of them by the limits.

    Args:
        usual: the columns of the table where none were chosen.
        quiet: print of each the answer alone.

    Raises:
        RowsFailed: a file could not be read or compared.
        LimitBroken: a limit does not hold in a row; standard error says which, and in which.
    """
    listed = _sorted(rows, table.sort, dict(limits.given)) if table.sort else list(rows)
    judged = {
        row.path: [] if row.result is None else limits.judge(command, row.result.readings, row.path) for row in rows
    }
    if as_json:
        shown = [_document(command, row, judged[row.path]) for row in listed]
        click.echo(json.dumps({"command": command, "rows": shown}, allow_nan=False))
    elif table.as_csv:
        click.echo(_csv(listed, table.columns), nl=False)
    elif quiet:
        for row in listed:
            click.echo(f"{row.path}: {row.error or (row.result.answer if row.result is not None else '')}")
    else:
        _print_table(listed, table.columns or tuple(usual))
    broken = 0
    for row in listed:
        try:
            end_by(judged[row.path], row.path)
        except LimitBroken:
            broken += 1
    failed = sum(row.result is None for row in rows)
    if failed:
        raise RowsFailed(failed, len(rows))
    if broken:
        raise LimitBroken


def _sorted(rows: Sequence[Row], key: str, limits: Mapping[str, Limit]) -> list[Row]:
    """Worst first: farthest beyond what bounds the measure, from above unless it is bounded from below alone."""
    limit = limits.get(key) or find_measure(key).limit
    upwards = limit is not None and limit.at_most is None and limit.at_least is not None
    both = limit is not None and limit.at_most is not None and limit.at_least is not None

    def place(row: Row) -> tuple[bool, int, float]:
        reading = row.overall(key)
        if reading is None or severity(reading)[0] == 0:
            return True, 0, 0.0
        kind, value = severity(reading)
        return False, -kind, -abs(value) if both else value if upwards else -value

    return sorted(rows, key=place)


def _document(command: str, row: Row, judged: Sequence[JudgedLimit]) -> dict[str, object]:
    if row.result is None:
        return {"command": command, "inputs": [{"path": row.path}], "error": row.error}
    return document(row.result, judged)


def _csv(rows: Sequence[Row], columns: Sequence[str]) -> str:
    if columns:
        lines: list[Sequence[object]] = [("path", *columns, "why")]
        for row in rows:
            found = [row.overall(key) for key in columns]
            lines.append((row.path, *(None if one is None else one.value for one in found), row.note))
        return csv_text(lines)
    lines = [READING_COLUMNS]
    for row in rows:
        if row.result is None:
            lines.append((row.path, *[None] * (len(READING_COLUMNS) - 2), row.error))
        else:
            lines += [reading_row(row.path, reading) for reading in row.result.readings]
    return csv_text(lines)


def _print_table(rows: Sequence[Row], columns: Sequence[str]) -> None:
    from rich.table import Table

    from kind_echo.cli.measuring.printing import console_for_tables
    from kind_echo.wording.figures import figure

    table = Table(box=None, pad_edge=False)
    table.add_column("File", overflow="fold")
    for key in columns:
        table.add_column(find_measure(key).title, justify="right")
    table.add_column("Note", style="dim", overflow="fold")
    for row in rows:
        found = [row.overall(key) for key in columns]
        figures = ["" if one is None else "—" if one.value is None else figure(one) for one in found]
        table.add_row(row.path, *figures, row.note)
    console_for_tables().print(table)
