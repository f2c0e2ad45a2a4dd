"""Commands that need no file: folding, and what right answers prove."""

import click

from kind_echo.cli.measuring.numbers import NUMBER
from kind_echo.cli.measuring.output import Result, output_options, parse_limits, report
from kind_echo.core.audio.folding import fold
from kind_echo.core.listening.blind import listening_readings
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.readings import Reading


@click.command("fold")
@click.argument("frequency", type=NUMBER)
@click.option("--rate", type=NUMBER, required=True, help="Frames per second.")
@output_options
def fold_command(frequency: float, rate: float, limits: tuple[str, ...], as_json: bool) -> None:
    """Where FREQUENCY, in Hz, appears once it is sampled."""
    wanted = parse_limits(limits)
    reading = Reading("fold_frequency", "all", fold(frequency, rate))
    report(Result("fold", [], {"frequency": frequency, "rate": rate}, [reading]), wanted, as_json=as_json)


@click.command("abx")
@click.argument("correct")
@click.argument("trials")
@click.option("--heard", type=NUMBER, default=0.7, show_default=True, help="Share right of one who hears it.")
@output_options
def abx_command(correct: str, trials: str, heard: float, limits: tuple[str, ...], as_json: bool) -> None:
    """How likely CORRECT right answers in TRIALS are by guessing; sittings pool: 7+11 of 10+15."""
    wanted = parse_limits(limits)
    right, asked = _pooled("correct", correct), _pooled("trials", trials)
    readings = listening_readings(right, asked, heard)
    options = {"correct": right, "trials": asked, "heard": heard}
    report(Result("abx", [], options, readings), wanted, as_json=as_json)


def _pooled(name: str, text: str) -> int:
    try:
        return sum(int(part) for part in text.split("+"))
    except ValueError:
        raise BadParameter(name, repr(text), "a whole number, or several joined by +") from None
