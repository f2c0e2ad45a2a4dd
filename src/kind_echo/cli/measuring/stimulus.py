"""The command that writes a stimulus."""

import json
from collections.abc import Callable
from typing import Any, TypeVar

import click

from kind_echo.audio_io.digests import file_digest
from kind_echo.audio_io.files import write_audio
from kind_echo.cli.measuring.numbers import DECIBELS, NUMBER
from kind_echo.core.audio.dither import to_word_length
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.signals import Parameter, all_kinds, every_parameter, make_request, synthesise
from kind_echo.core.signals.request import Default

_FLAGS = {"start": "--from", "end": "--to"}  # where the name of the field is not the word that is typed
_Command = TypeVar("_Command", bound=Callable[..., Any])


def _option(name: str, parameter: Parameter, default: Default) -> Callable[[_Command], _Command]:
    flags = (_FLAGS.get(name, f"--{name.replace('_', '-')}"), name)
    if isinstance(default, bool):
        return click.option(*flags, is_flag=True, help=parameter.help)
    kind: click.ParamType[Any] = NUMBER
    if parameter.choices:
        kind = click.Choice(parameter.choices)
    elif parameter.whole:
        kind = click.INT
    elif parameter.unit.startswith("dB"):
        kind = DECIBELS
    return click.option(*flags, type=kind, default=default, show_default=default is not None, help=parameter.help)


def _signal_options(command: _Command) -> _Command:
    """An option for each parameter that some kind of signal has."""
    for name, (parameter, default) in reversed(every_parameter().items()):
        command = _option(name, parameter, default)(command)
    return command


@click.command("signal")
@click.argument("kind", type=click.Choice(tuple(all_kinds())))
@click.argument("out")
@click.option("--rate", type=int, default=48_000, show_default=True, help="Frames per second.")
@_signal_options
@click.option("--dither", is_flag=True, help="Triangular dither before the samples are rounded to an integer file.")
@click.option("--subtype", default="FLOAT", show_default=True, help="Word length: FLOAT, PCM_16, PCM_24, …")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def signal_command(
    kind: str,
    out: str,
    rate: int,
    subtype: str,
    dither: bool,
    as_json: bool,
    **parameters: float | int | str | None,
) -> None:
    """Write the stimulus KIND to the file OUT, its format by its ending."""
    request = make_request(kind, **parameters)
    samples = synthesise(request, rate)
    if dither:
        if not subtype.startswith("PCM_"):
            raise BadParameter("subtype", subtype, "an integer word length where there is dither, PCM_16 or PCM_24")
        samples = to_word_length(samples, int(subtype.removeprefix("PCM_")), dithered=True, seed=request.seed)
    write_audio(out, samples, rate, subtype)
    frames, channels = samples.shape
    if as_json:
        file = {"path": out, "rate": rate, "channels": channels, "frames": frames, "subtype": subtype,
                "sha256": file_digest(out)}  # fmt: skip
        options = {"kind": kind, "rate": rate, "dither": dither, **parameters}
        document = {"command": "signal", "inputs": [file], "options": options, "readings": [], "curves": {}}
        click.echo(json.dumps(document))
    else:
        click.echo(f"{out}: {kind}, {rate} Hz, {channels} ch, {frames} frames, {parameters['level']:g} dBFS")
