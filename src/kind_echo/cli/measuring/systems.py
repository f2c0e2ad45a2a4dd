"""Commands that measure an effect by what went in and what came out."""

from collections.abc import Callable
from contextlib import ExitStack
from typing import Any

import click

from kind_echo.audio_io.files import AudioFile
from kind_echo.cli.measuring.numbers import DECIBELS, NUMBER, Number
from kind_echo.cli.measuring.output import Result, curve_documents, describe_input, output_options, parse_limits, report
from kind_echo.core.audio.source import Source
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.readings import Curve, Reading
from kind_echo.core.systems.dynamics import measure_dynamics
from kind_echo.core.systems.latency import LatencyOptions, measure_latency
from kind_echo.core.systems.response import ResponseOptions, measure_response
from kind_echo.core.systems.transfer import ExpectedCurve, measure_curve

Measured = tuple[list[Reading], dict[str, Curve]]


def _measured(
    command: str,
    paths: tuple[str, str],
    measure: Callable[[Source, Source], Measured],
    given: dict[str, Any],
    limits: tuple[str, ...],
    *,
    as_json: bool,
) -> None:
    wanted = parse_limits(limits)
    with ExitStack() as stack:
        files = [stack.enter_context(AudioFile(path)) for path in paths]
        readings, curves = measure(files[0], files[1])
        inputs = [describe_input(f.info.name, f) for f in files]
    report(Result(command, inputs, given, readings, curve_documents(curves)), wanted, as_json=as_json)


@click.command("response")
@click.argument("source", metavar="INPUT")
@click.argument("output")
@click.option("--band", type=NUMBER, nargs=2, metavar="LOW HIGH", help="Of flatness and phase, Hz.")
@click.option("--edge", type=Number(0.01, 60.0), default=3.0, show_default=True, help="dB under 1 kHz.")
@output_options
def response_command(
    source: str, output: str, band: tuple[float, float] | None, edge: float, limits: tuple[str, ...], as_json: bool
) -> None:
    """Magnitude, phase and group delay from INPUT to OUTPUT."""
    options = ResponseOptions(band, edge)
    given = {"band": list(band) if band else None, "edge": edge}
    _measured("response", (source, output), lambda a, b: measure_response(a, b, options), given, limits,
              as_json=as_json)  # fmt: skip


@click.command("latency")
@click.argument("source", metavar="INPUT")
@click.argument("output")
@click.option("--reported", type=NUMBER, metavar="SAMPLES", help="What the effect or host claims.")
@click.option("--buffer", type=int, nargs=2, metavar="FRAMES PERIODS", help="For the theoretical share.")
@click.option("--max-delay", type=int, metavar="SAMPLES", help="Keep the search within this.")
@output_options
def latency_command(
    source: str,
    output: str,
    reported: float | None,
    buffer: tuple[int, int] | None,
    max_delay: int | None,
    limits: tuple[str, ...],
    as_json: bool,
) -> None:
    """How late OUTPUT is, click by click, or on any broadband signal."""
    options = LatencyOptions(reported, buffer, max_delay)
    given = {"reported": reported, "buffer": list(buffer) if buffer else None, "max_delay": max_delay}
    _measured("latency", (source, output), lambda a, b: measure_latency(a, b, options), given, limits,
              as_json=as_json)  # fmt: skip


@click.command("curve")
@click.argument("source", metavar="INPUT")
@click.argument("output")
@click.option("--threshold", type=DECIBELS, metavar="DBFS")
@click.option("--ratio", type=NUMBER)
@click.option("--knee", type=DECIBELS, default=0.0, show_default=True, metavar="DB")
@click.option("--makeup", type=DECIBELS, default=0.0, show_default=True, metavar="DB")
@output_options
def curve_command(
    source: str,
    output: str,
    threshold: float | None,
    ratio: float | None,
    knee: float,
    makeup: float,
    limits: tuple[str, ...],
    as_json: bool,
) -> None:
    """Levels out for the staircase of levels in INPUT, against what is expected where it is given."""
    if (threshold is None) != (ratio is None):
        raise BadParameter("threshold", threshold, "given together with --ratio")
    expected = None if threshold is None or ratio is None else ExpectedCurve(threshold, ratio, knee, makeup)
    given = {"threshold": threshold, "ratio": ratio, "knee": knee, "makeup": makeup}
    _measured("curve", (source, output), lambda a, b: measure_curve(a, b, expected), given, limits, as_json=as_json)


@click.command("dynamics")
@click.argument("source", metavar="INPUT")
@click.argument("output")
@click.option("--latency", type=int, metavar="SAMPLES", help="Taken off first; what the burst shows where not given.")
@output_options
def dynamics_command(source: str, output: str, latency: int | None, limits: tuple[str, ...], as_json: bool) -> None:
    """Attack, release, overshoot and look-ahead on a burst of tone."""
    _measured("dynamics", (source, output), lambda a, b: measure_dynamics(a, b, latency), {"latency": latency}, limits,
              as_json=as_json)  # fmt: skip
