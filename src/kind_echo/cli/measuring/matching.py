"""The command that brings files to a level."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Literal

import click

from kind_echo.audio_io.files import copy_audio
from kind_echo.cli.measuring.inputs import STANDARD_INPUT, open_audio, several_files
from kind_echo.cli.measuring.numbers import DECIBELS, NUMBER
from kind_echo.cli.measuring.output import Result, describe_input, output_options, parse_limits
from kind_echo.cli.measuring.several import TableOptions, report_files, table_options
from kind_echo.core.audio.align import AlignedSource, Alignment
from kind_echo.core.listening.match import BY, By, Passage, match_level
from kind_echo.core.registry.errors import BadParameter

_COLUMNS = ("match_gain", "match_error")
_NAMED = ("loudest", "first")


class _NamedPassage(click.Command):
    """Takes one word after --passage as well as two numbers."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        for i, word in enumerate(args[:-1]):
            if word == "--passage" and args[i + 1] in _NAMED:
                args[i] = "--passage-named"
        return super().parse_args(ctx, args)


@dataclass(frozen=True)
class _Wanted:
    """To which level, by what, and where a file goes once it is there: `out`, or its own name in `out_folder`."""

    target: float
    by: By
    passage: Passage | None
    out: str | None
    out_folder: str | None

    def path_for(self, path: str) -> str | None:
        if self.out_folder is not None:
            return str(Path(self.out_folder) / f"{'matched' if path == STANDARD_INPUT else Path(path).stem}.wav")
        return self.out


@click.command("match", cls=_NamedPassage)
@click.argument("files", nargs=-1, required=True, metavar="FILE...")
@click.option("--target", type=DECIBELS, required=True, help="In the unit of the measure.")
@click.option("--by", type=click.Choice(BY), required=True)
@click.option("--passage", type=NUMBER, nargs=2, metavar="START END | loudest | first",
              help="Seconds, the passage of greatest short-term loudness, or the first note; "
              "the whole file unless given.")  # fmt: skip
@click.option("--passage-named", type=click.Choice(_NAMED), hidden=True)
@click.option("--out", help="Write the matched file, of one; nothing is written otherwise.")
@click.option("--out-folder", metavar="FOLDER", help="Write each matched file there, under its own name, as WAV.")
@output_options
@table_options
def match_command(
    files: tuple[str, ...],
    target: float,
    by: By,
    passage: tuple[float, float] | None,
    passage_named: Literal["loudest", "first"] | None,
    out: str | None,
    out_folder: str | None,
    limits: tuple[str, ...],
    as_json: bool,
    table: TableOptions,
) -> None:
    """The gain that brings FILE to a level, and how well it does; of several, a table."""
    wanted = parse_limits(limits)
    files = tuple(several_files(files, recursive=table.recursive))
    if out is not None and (len(files) > 1 or out_folder is not None):
        raise BadParameter("out", out, "given for one file, without --out-folder")
    asked = _Wanted(target, by, passage_named or passage, out, out_folder)
    if out_folder is not None:
        _prepare(out_folder, files, asked)
    work = partial(_matched, asked)
    report_files("match", work, files, _COLUMNS, wanted, table, as_json=as_json)


def _prepare(folder: str, files: Sequence[str], asked: _Wanted) -> None:
    """Make the folder. Raises BadParameter where two files would be written as one, or one over what it is made of."""
    paths = [Path(asked.path_for(path) or "").resolve() for path in files]
    for path, given in zip(paths, files, strict=True):
        if paths.count(path) > 1:
            raise BadParameter("out-folder", folder, f"one in which {path.name} is written once")
        if path == Path(given).resolve():
            raise BadParameter("out-folder", folder, f"another than that of {given}, which would be written over")
    Path(folder).mkdir(parents=True, exist_ok=True)


def _matched(asked: _Wanted, path: str) -> Result:
    out = asked.path_for(path)
    with open_audio(path) as audio:
        found = match_level(audio, asked.target, asked.by, asked.passage)
        inputs = [describe_input(path, audio)]
        if out is not None:
            if found.factor is None:
                raise BadParameter("out", out, f"left out: {found.readings[0].why}")
            copy_audio(out, AlignedSource(audio, audio.frames, Alignment(scale=found.factor)), "FLOAT")
    passage = list(asked.passage) if isinstance(asked.passage, tuple) else asked.passage
    given = {"target": asked.target, "by": asked.by, "passage": passage, "out": out}
    return Result("match", inputs, given, found.readings)
