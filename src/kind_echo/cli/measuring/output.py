"""What a command prints: a table for a person, or one JSON object for a script; and the judging of limits."""

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kind_echo.audio_io.files import AudioFile
from kind_echo.bench.documents import reading_document
from kind_echo.cli.exits import LimitBroken
from kind_echo.cli.measuring.hashing import digest_of
from kind_echo.cli.measuring.inputs import path_of
from kind_echo.cli.measuring.judging import JudgedLimit, WantedLimits
from kind_echo.core.causes.cause import Cause
from kind_echo.core.registry.documents import FileDocument, WholeCurveDocument
from kind_echo.core.registry.limits import parse_limit
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Reading
from kind_echo.wording.causes import describe

if TYPE_CHECKING:  # slow to load, and most commands compare nothing
    from kind_echo.core.comparison.places import Place

_TEAM = "kind_echo.limits"
"""Where a command's context keeps the team's limits."""

_PLOT = "kind_echo.plot"
"""Where it keeps the path of the plot."""

_PLACE = ("start", "length", "cause", "amount", "unit")


@dataclass(frozen=True)
class Result:
    """All that a command found, in the shape of its JSON; `causes` where it compares, `places` where asked for."""

    command: str
    inputs: list[FileDocument]
    options: Mapping[str, object]
    readings: list[Reading]
    curves: dict[str, WholeCurveDocument] = field(default_factory=dict)
    causes: Sequence[Cause] | None = None
    places: "Sequence[Place] | None" = None

    @property
    def path(self) -> str:
        """Of the file that the readings are of: the render, where it is compared; empty for what has no file."""
        place = 1 if self.causes is not None and len(self.inputs) > 1 else -1
        return str(self.inputs[place]["path"]) if self.inputs else ""

    @property
    def verdict(self) -> str:
        """What explains a difference, in words; empty for what compares nothing."""
        return describe(self.causes) if self.causes is not None else ""

    @property
    def answer(self) -> str:
        """What comes of a comparison, in a line; empty for what compares nothing."""
        if self.causes is None:
            return ""
        if any(cause.cause == "none" for cause in self.causes):
            return "Identical: every sample is equal."
        return f"What explains the difference: {self.verdict or 'nothing that is known'}."


def output_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options that every analysis has."""
    command = click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")(command)
    command = click.option(
        "--limits", "team_limits", metavar="FILE", expose_value=False, callback=_read_team_limits,
        help="The team's file of limits, of which those on what this command measures hold.",
    )(command)  # fmt: skip
    return click.option(
        "--limit", "limits", multiple=True, metavar="MEASURE<=NUMBER", help="Exit with 1 when broken; may be repeated."
    )(command)


def describe_input(path: str, audio: AudioFile) -> FileDocument:
    """A file as it stands under "inputs"."""
    return {
        "path": path,
        "rate": audio.rate,
        "channels": audio.channels,
        "frames": audio.frames,
        "subtype": audio.info.subtype,
        "sha256": digest_of(str(path_of(path))),
    }


def plot_option(command: Callable[..., Any]) -> Callable[..., Any]:
    """The option of commands whose result can be drawn."""
    return click.option(
        "--plot", "plot", type=click.Path(dir_okay=False, path_type=Path), metavar="FILE", expose_value=False,
        callback=_check_plot, help="Draw what was measured, of several files over each other, as SVG or PNG.",
    )(command)  # fmt: skip


def _check_plot(context: click.Context, _: click.Parameter, path: Path | None) -> None:
    if path is not None:
        from kind_echo.plots import check_plot

        check_plot(path)
        context.meta[_PLOT] = path


def plot_asked() -> Path | None:
    """Where the plot goes that was asked for; None for none."""
    path: Path | None = click.get_current_context().meta.get(_PLOT)
    return path


def _read_team_limits(context: click.Context, _: click.Parameter, path: str | None) -> None:
    if path is not None:
        from kind_echo.checks.settings import read_settings

        context.meta[_TEAM] = read_settings(Path(path))


def parse_limits(texts: Sequence[str]) -> WantedLimits:
    """Limits as given, before anything is measured. Raises BadParameter, UnknownMeasure."""
    return WantedLimits([parse_limit(text) for text in texts], click.get_current_context().meta.get(_TEAM))


def report(result: Result, limits: WantedLimits, *, as_json: bool, quiet: bool = False) -> None:
    """Judge a result by limits, each on the reading of all channels, and print it; its answer alone where quiet.

    Raises:
        LimitBroken: one does not hold, or stands on a reading that is not there and has no bound; standard error says
            which.
        BadParameter: a limit names a measure that this command does not give.
    """
    judged = limits.judge(result.command, result.readings, result.path)
    path = plot_asked()
    if path is not None and result.causes is None:  # of a pair the sides are drawn, not curves
        from kind_echo.plots import plot_measured

        plot_measured(path, result.curves, result.path)
    if as_json:
        click.echo(json.dumps(document(result, judged), allow_nan=False))
    elif quiet:
        click.echo(result.answer)
    else:
        _print_table(result, judged)
    end_by(judged)


def end_by(judged: Sequence[JudgedLimit], path: str = "") -> None:
    """Say on standard error which limits are broken. Raises LimitBroken where one is."""
    broken = [one for one in judged if not one.holds]
    for one in broken:
        click.echo(f"kind-echo: {f'{path}: ' if path else ''}{one.words}", err=True)
    if broken:
        raise LimitBroken


def document(result: Result, judged: Sequence[JudgedLimit] = ()) -> dict[str, object]:
    """A result as one JSON object, with what came of limits where there were any."""
    shown: dict[str, object] = {
        "command": result.command,
        "inputs": result.inputs,
        "options": result.options,
        "readings": [reading_document(r) for r in result.readings],
        "curves": result.curves,
    }
    if result.causes is not None:
        shown |= {"causes": [cause.document() for cause in result.causes], "verdict": result.verdict}
    if judged:
        shown["limits"] = [one.document for one in judged]
    if result.places is not None:
        shown["places"] = [{key: getattr(place, key) for key in _PLACE} for place in result.places]
    return shown


def _print_table(result: Result, judged: Sequence[JudgedLimit]) -> None:
    from rich.table import Table

    from kind_echo.cli.measuring.printing import console_for_tables

    channels = max((given["channels"] for given in result.inputs), default=1)
    names = ["all"] if channels == 1 else ["all", *(str(c + 1) for c in range(channels))]
    table = Table(box=None, pad_edge=False)
    table.add_column("Measure")
    for name in names:
        table.add_column("all channels" if name == "all" and channels > 1 else "" if name == "all" else f"ch {name}",
                         justify="right")  # fmt: skip
    table.add_column("Note", style="dim")
    by_measure: dict[str, dict[str, Reading]] = {}
    for reading in result.readings:
        by_measure.setdefault(reading.measure, {})[reading.channel] = reading
    for key, found in by_measure.items():
        overall = found["all"]
        cells = [_cell(found.get(name)) for name in names]
        spread = f"± {overall.uncertainty:.2g}" if overall.uncertainty is not None and overall.value is not None else ""
        note = "; ".join(part for part in (spread, overall.why) if part)
        table.add_row(find_measure(key).title, *cells, note)
    console = console_for_tables()
    for line in (*([result.answer] if result.answer else []), *(one.words for one in judged)):
        console.print(line, highlight=False)
    for given in result.inputs:
        console.print(
            f"{given['path']}: {given['rate']} Hz, {given['channels']} ch, {given['frames']} frames", style="dim"
        )
    console.print(table)
    for place in result.places or ():
        amount = f"{number(place.amount, '.1f')} {place.unit}"
        console.print(f"{place.start:10.3f} s  {1000 * place.length:8.0f} ms  {amount:>12}  {place.reason}")


def _cell(reading: Reading | None) -> str:
    from kind_echo.wording.figures import figure

    if reading is None:
        return ""
    return "—" if reading.value is None else figure(reading)
