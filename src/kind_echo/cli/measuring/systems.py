"""Commands that measure an effect by what went in and what came out."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import click

from kind_echo.bench.documents import whole_curves
from kind_echo.cli.measuring.inputs import STANDARD_INPUT, one_file, open_audio
from kind_echo.cli.measuring.numbers import DECIBELS, NUMBER, Number
from kind_echo.cli.measuring.output import Result, describe_input, output_options, parse_limits, plot_option
from kind_echo.cli.measuring.several import TableOptions, report_files, table_options
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.readings import Curve, Reading
from kind_echo.core.systems.dynamics import measure_dynamics
from kind_echo.core.systems.latency import LatencyOptions, measure_latency
from kind_echo.core.systems.response import ResponseOptions, measure_response
from kind_echo.core.systems.transfer import ExpectedCurve, measure_curve

Measured = tuple[list[Reading], dict[str, Curve]]


@dataclass(frozen=True)
class _Work:
    """What is done with each output: measured against the one input, with options that go to the function by name."""

    command: str
    source: str
    measure: Callable[..., Measured]
    options: Any
    given: Mapping[str, object]

    def __call__(self, output: str) -> Result:
        with open_audio(self.source) as first, open_audio(output) as second:
            readings, curves = self.measure(first, second, self.options)
            inputs = [describe_input(self.source, first), describe_input(output, second)]
        return Result(self.command, inputs, self.given, readings, whole_curves(curves))


def _report(
    work: _Work,
    outputs: tuple[str, ...],
    columns: Sequence[str],
    limits: tuple[str, ...],
    table: TableOptions,
    *,
    as_json: bool,
) -> None:
    wanted = parse_limits(limits)
    one_file(work.source)
    if STANDARD_INPUT in outputs and work.source == STANDARD_INPUT:
        raise BadParameter("FILE", "-", "given once: there is one standard input")
    if len(outputs) > 1 and work.source == STANDARD_INPUT:
        raise BadParameter("INPUT", "-", "a file where there are several outputs")
    report_files(work.command, work, outputs, columns, wanted, table, as_json=as_json)


@click.command("response")
@click.argument("source", metavar="INPUT")
@click.argument("outputs", nargs=-1, required=True, metavar="OUTPUT...")
@click.option("--band", type=NUMBER, nargs=2, metavar="LOW HIGH", help="Of flatness and phase, Hz.")
@click.option("--edge", type=Number(0.01, 60.0), default=3.0, show_default=True, help="dB under 1 kHz.")
@plot_option
@output_options
@table_options
def response_command(
    source: str,
    outputs: tuple[str, ...],
    band: tuple[float, float] | None,
    edge: float,
    limits: tuple[str, ...],
    as_json: bool,
    table: TableOptions,
) -> None:
    """Magnitude, phase and group delay from INPUT to OUTPUT; of several, a table."""
    given = {"band": list(band) if band else None, "edge": edge}
    work = _Work("response", source, measure_response, ResponseOptions(band, edge), given)
    _report(work, outputs, ("gain_1k", "edge_low", "edge_high", "flatness_error"), limits, table, as_json=as_json)


@click.command("latency")
@click.argument("source", metavar="INPUT")
@click.argument("outputs", nargs=-1, required=True, metavar="OUTPUT...")
@click.option("--reported", type=NUMBER, metavar="SAMPLES", help="What the effect or host claims.")
@click.option("--buffer", type=int, nargs=2, metavar="FRAMES PERIODS", help="For the theoretical share.")
@click.option("--max-delay", type=int, metavar="SAMPLES", help="Keep the search within this.")
@output_options
@table_options
def latency_command(
    source: str,
    outputs: tuple[str, ...],
    reported: float | None,
    buffer: tuple[int, int] | None,
    max_delay: int | None,
    limits: tuple[str, ...],
    as_json: bool,
    table: TableOptions,
) -> None:
    """How late OUTPUT is, click by click, or on any broadband signal; of several, a table."""
    given = {"reported": reported, "buffer": list(buffer) if buffer else None, "max_delay": max_delay}
    work = _Work("latency", source, measure_latency, LatencyOptions(reported, buffer, max_delay), given)
    _report(work, outputs, ("latency", "latency_jitter", "latency_missing"), limits, table, as_json=as_json)


@click.command("curve")
@click.argument("source", metavar="INPUT")
@click.argument("outputs", nargs=-1, required=True, metavar="OUTPUT...")
@click.option("--threshold", type=DECIBELS, metavar="DBFS")
@click.option("--ratio", type=NUMBER)
@click.option("--knee", type=DECIBELS, default=0.0, show_default=True, metavar="DB")
@click.option("--makeup", type=DECIBELS, default=0.0, show_default=True, metavar="DB")
@plot_option
@output_options
@table_options
def curve_command(
    source: str,
    outputs: tuple[str, ...],
    threshold: float | None,
    ratio: float | None,
    knee: float,
    makeup: float,
    limits: tuple[str, ...],
    as_json: bool,
    table: TableOptions,
) -> None:
    """Levels out for the staircase of levels in INPUT, against what is expected where it is given."""
    if (threshold is None) != (ratio is None):
        raise BadParameter("threshold", threshold, "given together with --ratio")
    expected = None if threshold is None or ratio is None else ExpectedCurve(threshold, ratio, knee, makeup)
    given = {"threshold": threshold, "ratio": ratio, "knee": knee, "makeup": makeup}
    work = _Work("curve", source, measure_curve, expected, given)
    _report(work, outputs, ("threshold_estimate", "ratio_estimate", "curve_error_worst"), limits, table,
            as_json=as_json)  # fmt: skip


@click.command("dynamics")
@click.argument("source", metavar="INPUT")
@click.argument("outputs", nargs=-1, required=True, metavar="OUTPUT...")
@click.option("--latency", type=int, metavar="SAMPLES", help="Taken off first; what the burst shows where not given.")
@plot_option
@output_options
@table_options
def dynamics_command(
    source: str,
    outputs: tuple[str, ...],
    latency: int | None,
    limits: tuple[str, ...],
    as_json: bool,
    table: TableOptions,
) -> None:
    """Attack, release, overshoot and look-ahead on a burst of tone; of several, a table."""
    work = _Work("dynamics", source, measure_dynamics, latency, {"latency": latency})
    _report(work, outputs, ("attack_time", "release_time", "overshoot"), limits, table, as_json=as_json)
