"""Several files in one plot: what was measured of each, or the files themselves."""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import click

from kind_echo.cli.measuring.inputs import open_audio
from kind_echo.core.audio import peaks
from kind_echo.core.overlays.kinds import KINDS, Kind, KindKey
from kind_echo.core.overlays.lines import COLUMNS, law_of_curves, line_of_audio, line_of_columns, line_of_curves
from kind_echo.core.overlays.overlay import Line, lay_over
from kind_echo.core.registry.documents import WholeCurveDocument
from kind_echo.core.registry.errors import BadParameter, KindEchoError
from kind_echo.core.registry.readings import Curve
from kind_echo.plots import check_plot, plot_overlay
from kind_echo.wording.overlays import KIND_WORDS, overlay_sentence

AUDIO_KINDS: tuple[KindKey, ...] = ("spectrum", "third_octaves", "level", "waveform")
"""What any file can be drawn by."""


def file_plot_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options of commands that draw files as they are; the command is called with `plot` and `plot_by`."""
    command = click.option(
        "--plot-by", type=click.Choice(AUDIO_KINDS), default=AUDIO_KINDS[0], show_default=True,
        help="What of the files is drawn.",
    )(command)  # fmt: skip
    return click.option(
        "--plot", type=click.Path(dir_okay=False, path_type=Path), metavar="FILE", callback=_check,
        help="Draw the files over each other, as SVG or PNG.",
    )(command)  # fmt: skip


def _check(_: click.Context, __: click.Parameter, path: Path | None) -> Path | None:
    if path is not None:
        check_plot(path)
    return path


def plot_files(path: Path, files: Sequence[str], by: KindKey, *, against: bool = False) -> None:
    """Draw files over each other; of several, one that cannot be read is left out.

    Args:
        against: whether the others are held against the first.
    Raises:
        UnreadableAudio: the only one cannot be read.
        BadParameter: none of them has what is to be drawn.
    """
    found = [_line_of_file(KINDS[by], file, alone=len(files) == 1) for file in files]
    _draw(path, KINDS[by], [line for line in found if line is not None], against=against and found[0] is not None)


def plot_curves(path: Path, curves: Sequence[tuple[str, dict[str, WholeCurveDocument]]]) -> None:
    """Draw what was measured of several files over each other: the first kind of curve that any of them has.

    Args:
        curves: of each file its name, and its curves as they stand in JSON.
    Raises:
        BadParameter: nothing was measured that can be drawn.
    """
    measured = [(name, {key: _curve(one) for key, one in own.items()}) for name, own in curves]
    for kind in KINDS.values():
        if kind.measured:
            lines = [line for name, own in measured if (line := line_of_curves(kind, name, own)) is not None]
            if lines:
                _draw(path, kind, lines, law=law_of_curves(measured[0][1]) if kind.key == "transfer" else None)
                return
    raise BadParameter("plot", str(path), "asked for where something was measured that can be drawn")


def _draw(path: Path, kind: Kind, lines: Sequence[Line], *, against: bool = False, law: Line | None = None) -> None:
    if not lines:
        raise BadParameter("plot", str(path), "asked for of files that have something to draw")
    overlay = lay_over(kind, lines, 0 if against else None, law)
    plot_overlay(path, overlay, KIND_WORDS[kind.key], overlay_sentence(overlay, "file", ""))


def _line_of_file(kind: Kind, file: str, *, alone: bool) -> Line | None:
    try:
        with open_audio(file) as audio:
            if kind.key in ("level", "waveform"):
                columns = peaks.columns_of(audio, COLUMNS)
                return line_of_columns(kind, file, columns, 0.0, audio.frames / audio.rate)
            return line_of_audio(kind, file, audio)
    except (KindEchoError, OSError):  # its row in the table says why
        if alone:
            raise
        return None


def _curve(document: WholeCurveDocument) -> Curve:
    x, y = document["x"], document["y"]
    return Curve(x["unit"], y["unit"], x["values"], y["values"])
