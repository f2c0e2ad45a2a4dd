"""The command that writes a stimulus."""

import json

import click

from kind_echo.audio_io.digests import file_digest
from kind_echo.audio_io.files import write_audio
from kind_echo.cli.measuring.numbers import DECIBELS, NUMBER
from kind_echo.core.audio.dither import to_word_length
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.signals import (
    COLORS,
    DENSITIES,
    KINDS,
    LAWS,
    PIECES,
    PLACEMENTS,
    SignalKind,
    SignalRequest,
    synthesise,
)


@click.command("signal")
@click.argument("kind", type=click.Choice(KINDS))
@click.argument("out")
@click.option("--rate", type=int, default=48_000, show_default=True, help="Frames per second.")
@click.option("--seconds", type=NUMBER, default=2.0, show_default=True, help="Without lead-in and tail.")
@click.option("--level", type=DECIBELS, default=-6.0, show_default=True, help="dBFS: the peak; of noise the AES17 RMS.")
@click.option("--channels", type=int, default=1, show_default=True)
@click.option("--placement", type=click.Choice(PLACEMENTS), default="equal", show_default=True, help="Of two channels.")
@click.option("--seed", type=int, default=1, show_default=True, help="Of strikes and noise.")
@click.option("--lead-in", type=NUMBER, default=0.0, show_default=True, help="Silence before, in seconds.")
@click.option("--tail", type=NUMBER, default=0.0, show_default=True, help="Silence after, in seconds.")
@click.option("--fade", type=NUMBER, default=0.01, show_default=True, help="Of a tone or sweep, in seconds.")
@click.option(
    "--frequency", type=NUMBER, default=997.0, show_default=True, help="Of a tone, pair, staircase or burst, Hz."
)
@click.option(
    "--coherent", is_flag=True, help="Move the tone to a prime number of cycles, so that aliases stand apart."
)
@click.option("--from", "start", type=NUMBER, default=20.0, show_default=True, help="Of a sweep, steps or band, Hz.")
@click.option("--to", "end", type=NUMBER, help="Of a sweep, in Hz; 20 kHz, or 0.45 of the rate where that is less.")
@click.option("--law", type=click.Choice(LAWS), default="exponential", show_default=True, help="Of a sweep.")
@click.option("--color", type=click.Choice(COLORS), default="white", show_default=True, help="Of noise.")
@click.option("--tempo", type=NUMBER, default=120.0, show_default=True, help="Of clicks, beats a minute.")
@click.option("--second", type=NUMBER, default=7000.0, show_default=True, help="The pair's other frequency, Hz.")
@click.option("--ratio", type=NUMBER, default=4.0, show_default=True, help="The pair's first amplitude over the other.")
@click.option("--per-octave", type=NUMBER, default=12.0, show_default=True, help="Steps an octave.")
@click.option("--step-seconds", type=NUMBER, default=0.5, show_default=True, help="Of each of the steps or stairs.")
@click.option("--lowest", type=DECIBELS, default=-60.0, show_default=True, help="First stair, dBFS.")
@click.option("--climb", type=DECIBELS, default=2.0, show_default=True, help="From one stair to the next, dB.")
@click.option("--low", type=DECIBELS, default=20.0, show_default=True, help="Low parts of a burst under its high, dB.")
@click.option("--order", type=int, default=16, show_default=True, help="Of a sequence: it repeats every 2^order − 1.")
@click.option("--piece", type=click.Choice(PIECES), default=PIECES[0], show_default=True, help="Of programme.")
@click.option("--density", type=click.Choice(DENSITIES), default=DENSITIES[0], show_default=True, help="Of programme.")
@click.option("--dither", is_flag=True, help="Triangular dither before the samples are rounded to an integer file.")
@click.option("--subtype", default="FLOAT", show_default=True, help="Word length: FLOAT, PCM_16, PCM_24, …")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def signal_command(
    kind: SignalKind,
    out: str,
    rate: int,
    subtype: str,
    dither: bool,
    as_json: bool,
    **parameters: float | int | str | None,
) -> None:
    """Write the stimulus KIND to the file OUT, its format by its ending."""
    request = SignalRequest(kind, **parameters)  # type: ignore[arg-type]  # click gives each its type
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
