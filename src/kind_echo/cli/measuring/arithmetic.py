"""Commands that need no file: folding, and what right answers prove."""

import click

from kind_echo.cli.measuring.numbers import NUMBER
from kind_echo.cli.measuring.output import Result, output_options, parse_limits, report
from kind_echo.core.audio.folding import fold
from kind_echo.core.listening.blind import listening_readings, sequential_readings
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


class _WithAnswers(click.Command):
    """Takes words of + and - alone, which look like options, for answers in order."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        answers = "".join(word for word in args if word and not word.strip("+-"))
        rest = [word for word in args if not word or word.strip("+-")]
        return super().parse_args(ctx, [*rest, f"--answers={answers}"] if answers else rest)


@click.command("abx", cls=_WithAnswers)
@click.argument("counts", nargs=-1, metavar="[CORRECT TRIALS]...")
@click.option("--heard", type=NUMBER, default=0.7, show_default=True, help="Share right of one who hears it.")
@click.option("--sequential", is_flag=True, help="Judge answers as they come: + right, - wrong, by Wald's bounds.")
@click.option("--false-alarm", type=NUMBER, default=0.05, show_default=True,
              help="With --sequential: chance that a guesser is believed.")  # fmt: skip
@click.option("--miss", type=NUMBER, default=0.05, show_default=True,
              help="With --sequential: chance that one who hears it is not.")  # fmt: skip
@click.option("--answers", default="", hidden=True)
@output_options
def abx_command(
    counts: tuple[str, ...],
    heard: float,
    sequential: bool,
    false_alarm: float,
    miss: float,
    answers: str,
    limits: tuple[str, ...],
    as_json: bool,
) -> None:
    """How likely CORRECT right answers in TRIALS are by guessing; several sittings pool."""
    wanted = parse_limits(limits)
    if sequential != bool(answers) or (sequential and counts):
        raise BadParameter("sequential", sequential, "given together with answers alone, such as ++-+")
    if sequential:
        readings = sequential_readings([one == "+" for one in answers], heard, false_alarm, miss)
        options = {"answers": answers, "heard": heard, "false_alarm": false_alarm, "miss": miss}
        report(Result("abx", [], options, readings), wanted, as_json=as_json)
        return
    if not counts or len(counts) % 2:
        raise BadParameter("CORRECT TRIALS", " ".join(counts), "pairs of right answers and trials")
    sittings = [
        (_pooled("correct", right), _pooled("trials", of)) for right, of in zip(counts[::2], counts[1::2], strict=True)
    ]
    for right, of in sittings:
        if not 0 <= right <= of:
            raise BadParameter("correct", right, f"from 0 to the {of} trials")
    correct, trials = (sum(part) for part in zip(*sittings, strict=True))
    found = {"correct": correct, "trials": trials, "heard": heard}
    report(Result("abx", [], found, listening_readings(correct, trials, heard)), wanted, as_json=as_json)


def _pooled(name: str, text: str) -> int:
    try:
        return sum(int(part) for part in text.split("+"))
    except ValueError:
        raise BadParameter(name, repr(text), "a whole number, or several joined by +") from None
