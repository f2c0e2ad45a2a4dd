"""What right and wrong answers of a blind listening test prove: exact binomial tails."""

from collections.abc import Iterator
from fractions import Fraction
from itertools import accumulate, takewhile

from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.readings import Reading

SIGNIFICANT = Fraction(1, 20)


def _terms(trials: int, chance: Fraction) -> Iterator[tuple[int, int]]:
    """Each number of right answers from all down to none, and its probability times chance's denominator ** trials."""
    right, wrong = chance.numerator, chance.denominator - chance.numerator
    term = right**trials
    for k in range(trials, -1, -1):
        yield k, term
        term = term * k * wrong // ((trials - k + 1) * right)


def tail(trials: int, least: int, chance: Fraction) -> Fraction:
    """P(X ≥ least) for a binomial X, exactly."""
    above = sum(term for _, term in takewhile(lambda one: one[0] >= least, _terms(trials, chance)))
    return Fraction(above, chance.denominator**trials)


def needed(trials: int) -> int | None:
    """The fewest right answers whose chance by guessing is at most 0.05; None where even all are too few."""
    counts, terms = zip(*_terms(trials, Fraction(1, 2)), strict=True)
    most = SIGNIFICANT * 2**trials
    return min((k for k, above in zip(counts, accumulate(terms), strict=True) if above <= most), default=None)


def listening_readings(correct: int, trials: int, heard: float = 0.7) -> list[Reading]:
    """abx_p, abx_needed and abx_power.

    Args:
        correct, trials: right answers and answers; sittings of one pair are added up beforehand.
        heard: share of right answers of a listener who hears it, for the power.
    Raises:
        BadParameter: counts that cannot be, or a share that is none.
    """
    if not 1 <= trials <= 10_000:
        raise BadParameter("trials", trials, "from 1 to 10000")
    if not 0 <= correct <= trials:
        raise BadParameter("correct", correct, f"from 0 to the {trials} trials")
    if not 0.5 <= heard <= 1.0:
        raise BadParameter("heard", heard, "from 0.5 to 1")
    chance = float(tail(trials, correct, Fraction(1, 2)))
    word = "evidence against guessing" if chance <= float(SIGNIFICANT) else "No conclusion"
    enough = needed(trials)
    readings = [Reading("abx_p", "all", chance, word)]
    if enough is None:
        why = f"{trials} trials are too few: even all right could be guessed"
        return [*readings, Reading("abx_needed", "all", None, why), Reading("abx_power", "all", 0.0, why)]
    power = float(tail(trials, enough, Fraction(heard).limit_denominator(10_000)))
    return [*readings, Reading("abx_needed", "all", float(enough)), Reading("abx_power", "all", power)]
