"""Commands that look at lines of a spectrum."""

from contextlib import ExitStack
from functools import partial

import click

from kind_echo.bench.documents import whole_curves
from kind_echo.cli.measuring.inputs import one_file, open_audio
from kind_echo.cli.measuring.numbers import NUMBER
from kind_echo.cli.measuring.output import Result, describe_input, output_options, parse_limits, plot_option, report
from kind_echo.cli.measuring.several import TableOptions, report_files, table_options
from kind_echo.cli.progress import progress
from kind_echo.core.tones.alias_sweep import measure_alias_sweep
from kind_echo.core.tones.imd import measure_imd
from kind_echo.core.tones.tone import ToneOptions, measure_tone

_TONE_COLUMNS = ("fundamental_frequency", "fundamental_level", "thd", "noise_floor", "alias_worst_level")
_IMD_COLUMNS = ("imd_smpte", "imd_difference")


@click.command("tone")
@click.argument("files", nargs=-1, required=True, metavar="FILE...")
@click.option("--frequency", type=NUMBER, metavar="HZ", help="Of the tone; the strongest line unless given.")
@click.option("--band", type=NUMBER, nargs=2, default=(20.0, 20_000.0), show_default=True, metavar="LOW HIGH",
              help="Of noise and of distortion and noise, Hz.")  # fmt: skip
@click.option("--orders", type=int, default=100, show_default=True, help="Highest order of aliases.")
@plot_option
@output_options
@table_options
def tone_command(
    files: tuple[str, ...],
    frequency: float | None,
    band: tuple[float, float],
    orders: int,
    limits: tuple[str, ...],
    as_json: bool,
    table: TableOptions,
) -> None:
    """Harmonics, aliases and noise of a steady tone in FILE; of several, a table."""
    wanted = parse_limits(limits)
    work = partial(_tone, ToneOptions(frequency, band, orders))
    report_files("tone", work, files, _TONE_COLUMNS, wanted, table, as_json=as_json)


def _tone(options: ToneOptions, path: str) -> Result:
    with open_audio(path) as audio:
        readings, curves = measure_tone(audio, options)
        inputs = [describe_input(path, audio)]
    given = {"frequency": options.frequency, "band": list(options.band), "orders": options.orders}
    return Result("tone", inputs, given, readings, whole_curves(curves))


@click.command("imd")
@click.argument("files", nargs=-1, required=True, metavar="FILE...")
@click.option("--tones", type=NUMBER, nargs=2, required=True, metavar="F1 F2")
@output_options
@table_options
def imd_command(
    files: tuple[str, ...], tones: tuple[float, float], limits: tuple[str, ...], as_json: bool, table: TableOptions
) -> None:
    """What two tones in FILE make of each other; of several, a table."""
    wanted = parse_limits(limits)
    report_files("imd", partial(_imd, tones), files, _IMD_COLUMNS, wanted, table, as_json=as_json)


def _imd(tones: tuple[float, float], path: str) -> Result:
    with open_audio(path) as audio:
        readings, curves = measure_imd(audio, tones)
        inputs = [describe_input(path, audio)]
    return Result("imd", inputs, {"tones": list(tones)}, readings, whole_curves(curves))


@click.command("alias-sweep")
@click.argument("source", metavar="INPUT")
@click.argument("output")
@plot_option
@output_options
def alias_sweep_command(source: str, output: str, limits: tuple[str, ...], as_json: bool) -> None:
    """Worst alias of each of the stepped tones of INPUT in OUTPUT, and the map of where they land."""
    wanted = parse_limits(limits)
    with ExitStack() as stack, progress(f"Measuring {output}"):
        paths = [one_file(path) for path in (source, output)]
        files = [stack.enter_context(open_audio(path)) for path in paths]
        readings, curves = measure_alias_sweep(files[0], files[1])
        inputs = [describe_input(path, file) for path, file in zip(paths, files, strict=True)]
    report(Result("alias-sweep", inputs, {}, readings, whole_curves(curves)), wanted, as_json=as_json)
