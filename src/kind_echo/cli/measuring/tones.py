"""Commands that look at lines of a spectrum."""

from contextlib import ExitStack

import click

from kind_echo.audio_io.files import AudioFile
from kind_echo.cli.measuring.numbers import NUMBER
from kind_echo.cli.measuring.output import Result, curve_documents, describe_input, output_options, parse_limits, report
from kind_echo.core.tones.alias_sweep import measure_alias_sweep
from kind_echo.core.tones.imd import measure_imd
from kind_echo.core.tones.tone import ToneOptions, measure_tone


@click.command("tone")
@click.argument("file")
@click.option("--frequency", type=NUMBER, required=True, metavar="HZ")
@click.option("--band", type=NUMBER, nargs=2, default=(20.0, 20_000.0), show_default=True, metavar="LOW HIGH",
              help="Of noise and of distortion and noise, Hz.")  # fmt: skip
@click.option("--orders", type=int, default=100, show_default=True, help="Highest order of aliases.")
@output_options
def tone_command(
    file: str, frequency: float, band: tuple[float, float], orders: int, limits: tuple[str, ...], as_json: bool
) -> None:
    """Harmonics, aliases and noise of a steady tone in FILE."""
    wanted = parse_limits(limits)
    with AudioFile(file) as audio:
        readings, curves = measure_tone(audio, ToneOptions(frequency, band, orders))
        inputs = [describe_input(file, audio)]
    given = {"frequency": frequency, "band": list(band), "orders": orders}
    report(Result("tone", inputs, given, readings, curve_documents(curves)), wanted, as_json=as_json)


@click.command("imd")
@click.argument("file")
@click.option("--tones", type=NUMBER, nargs=2, required=True, metavar="F1 F2")
@output_options
def imd_command(file: str, tones: tuple[float, float], limits: tuple[str, ...], as_json: bool) -> None:
    """What two tones in FILE make of each other."""
    wanted = parse_limits(limits)
    with AudioFile(file) as audio:
        readings, curves = measure_imd(audio, tones)
        inputs = [describe_input(file, audio)]
    report(Result("imd", inputs, {"tones": list(tones)}, readings, curve_documents(curves)), wanted, as_json=as_json)


@click.command("alias-sweep")
@click.argument("source", metavar="INPUT")
@click.argument("output")
@output_options
def alias_sweep_command(source: str, output: str, limits: tuple[str, ...], as_json: bool) -> None:
    """Worst alias of each of the stepped tones of INPUT in OUTPUT, and the map of where they land."""
    wanted = parse_limits(limits)
    with ExitStack() as stack:
        files = [stack.enter_context(AudioFile(path)) for path in (source, output)]
        readings, curves = measure_alias_sweep(files[0], files[1])
        inputs = [describe_input(f.info.name, f) for f in files]
    report(Result("alias-sweep", inputs, {}, readings, curve_documents(curves)), wanted, as_json=as_json)
