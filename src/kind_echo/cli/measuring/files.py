"""Commands that measure one file: no server, no database."""

from dataclasses import asdict
from functools import partial
from pathlib import Path

import click

from kind_echo.audio_io.codecs import CODECS, Codec, LossyCodec
from kind_echo.bench.documents import loudness_curves, whole_curves
from kind_echo.cli.measuring.inputs import open_audio, several_files
from kind_echo.cli.measuring.numbers import DECIBELS, NUMBER, Number
from kind_echo.cli.measuring.output import Result, describe_input, output_options, parse_limits
from kind_echo.cli.measuring.overlaying import file_plot_options, plot_files
from kind_echo.cli.measuring.several import TableOptions, report_files, table_options
from kind_echo.core.levels.analysis import MeasureOptions, scan_file
from kind_echo.core.levels.meters import LevelOptions
from kind_echo.core.listening.lossy import measure_lossy
from kind_echo.core.overlays.kinds import KindKey

_COLUMNS = ("rms", "true_peak", "loudness_integrated", "clipped_runs", "dc_offset")
_LOSSY_COLUMNS = ("lossy_sample_peak", "lossy_true_peak", "lossy_overs", "lossy_headroom", "lossy_edge")


@click.command("measure")
@click.argument("files", nargs=-1, required=True, metavar="FILE...")
@click.option("--mono-as-dual", is_flag=True, help="Loudness of one channel as two equal speakers: +3.01 LU.")
@click.option("--window", type=Number(0.001, 60.0), default=0.3, show_default=True,
              help="Of the sliding RMS, in seconds.")  # fmt: skip
@click.option("--gate", type=DECIBELS, default=-70.0, show_default=True, help="dBFS under which a window is silence.")
@click.option("--zero-vu", type=DECIBELS, default=-18.0, show_default=True, help="dBFS of a sine at 0 VU.")
@file_plot_options
@output_options
@table_options
def measure_command(
    files: tuple[str, ...],
    mono_as_dual: bool,
    window: float,
    gate: float,
    zero_vu: float,
    plot: Path | None,
    plot_by: KindKey,
    limits: tuple[str, ...],
    as_json: bool,
    table: TableOptions,
) -> None:
    """Integrity, levels and loudness of FILE; of several, a table."""
    wanted = parse_limits(limits)
    if plot is not None:
        plot_files(plot, several_files(files, recursive=table.recursive), plot_by)
    work = partial(_measured, MeasureOptions(LevelOptions(window, gate, zero_vu), mono_as_dual))
    report_files("measure", work, files, _COLUMNS, wanted, table, as_json=as_json)


def _measured(options: MeasureOptions, path: str) -> Result:
    with open_audio(path) as audio:
        found = scan_file(audio, options)
        inputs = [describe_input(path, audio)]
    given = {**asdict(options.levels), "mono_as_dual": options.mono_as_dual}
    return Result("measure", inputs, given, found.readings, whole_curves(loudness_curves(found.curves)))


@click.command("lossy")
@click.argument("files", nargs=-1, required=True, metavar="FILE...")
@click.option("--codec", type=click.Choice(CODECS), required=True)
@click.option("--bitrate", type=NUMBER, required=True, metavar="K", help="kbit/s, all channels together.")
@output_options
@table_options
def lossy_command(
    files: tuple[str, ...], codec: Codec, bitrate: float, limits: tuple[str, ...], as_json: bool, table: TableOptions
) -> None:
    """What encoding FILE and decoding it does to its peaks; of several, a table."""
    wanted = parse_limits(limits)
    work = partial(_encoded, codec, bitrate)
    report_files("lossy", work, files, _LOSSY_COLUMNS, wanted, table, as_json=as_json)


def _encoded(codec: Codec, bitrate: float, path: str) -> Result:
    with open_audio(path) as audio:
        encoder = LossyCodec(codec, bitrate, audio.rate, audio.channels)
        readings, curves = measure_lossy(audio, encoder)
        inputs = [describe_input(path, audio)]
    given = {"codec": codec, "bitrate": bitrate}
    return Result("lossy", inputs, given, readings, whole_curves(curves))
