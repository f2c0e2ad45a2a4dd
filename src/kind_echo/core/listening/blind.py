"""What right and wrong answers of a blind listening test prove: exact binomial tails."""

import math
from collections.abc import Iterator, Sequence
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


def share_right(correct: int, trials: int) -> tuple[float, float]:
    """Bounds of the share of right answers that this listener gives, at 95 %.

    Source: C. Clopper, E. Pearson, The use of confidence or fiducial limits illustrated in the case of the binomial,
    Biometrika 26 (1934).
    """
    from scipy.special import betaincinv  # it takes longer to load than the command to answer

    low = 0.0 if correct == 0 else float(betaincinv(correct, trials - correct + 1, 0.025))
    high = 1.0 if correct == trials else float(betaincinv(correct + 1, trials - correct, 0.975))
    return low, high


def sequential_readings(answers: Sequence[bool], heard: float, false_alarm: float, miss: float) -> list[Reading]:
    """abx_ratio, abx_upper and abx_lower: whether a listener hears it, told as soon as the answers suffice.

    The bounds hold however often one looks. What was answered after one was reached counts for nothing.

    Args:
        answers: right or wrong, in order.
        heard: share of right answers of a listener who hears it.
        false_alarm: chance that a guesser is taken for one who hears it.
        miss: chance that one who hears it so is taken for a guesser.
    Raises:
        BadParameter: no answers, too many, or shares that are none.

    Source: A. Wald, Sequential tests of statistical hypotheses, Annals of Mathematical Statistics 16 (1945).
    """
    if not 1 <= len(answers) <= 10_000:
        raise BadParameter("answers", len(answers), "from 1 to 10000")
    if not 0.5 < heard < 1.0:
        raise BadParameter("heard", heard, "above 0.5 and below 1")
    for name, share in (("false-alarm", false_alarm), ("miss", miss)):
        if not 1e-6 <= share < 0.5:
            raise BadParameter(name, share, "from 0.000001 to below 0.5")
    upper, lower = math.log((1 - miss) / false_alarm), math.log(miss / (1 - false_alarm))
    ratio, word = 0.0, "No conclusion so far: go on"
    for number, right in enumerate(answers, start=1):
        ratio += math.log((heard if right else 1 - heard) / 0.5)
        if not lower < ratio < upper:
            verdict = "Evidence against guessing" if ratio >= upper else "No sign of hearing it"
            word = f"{verdict} after {number} answers"
            break
    bounds = [Reading("abx_upper", "all", upper), Reading("abx_lower", "all", lower)]
    return [Reading("abx_ratio", "all", ratio, word), *bounds]


def chance_whenever_looked(correct: int, trials: int) -> float:
    """A bound of the chance by guessing that holds however often somebody has looked before, and whenever they stop.

    For a guesser the likelihood of the answers, averaged over all shares right from a half to one, over that of
    guessing is a martingale that begins at 1: the chance that it ever reaches 1/p is at most p.

    Sources: J. Ville, Étude critique de la notion de collectif (1939); H. Robbins, Statistical methods related to the
    law of the iterated logarithm, Annals of Mathematical Statistics 41 (1970).
    """
    wrong = trials - correct
    beta = Fraction(math.factorial(correct) * math.factorial(wrong), math.factorial(trials + 1))
    # The integral over the upper half of a beta density is a binomial tail.
    ratio = Fraction(2) ** (trials + 1) * beta * tail(trials + 1, trials + 1 - correct, Fraction(1, 2))
    return float(min(Fraction(1), 1 / ratio))


def listening_readings(correct: int, trials: int, heard: float = 0.7) -> list[Reading]:
    """abx_p, abx_low and abx_high, abx_needed and abx_power.

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
    low, high = share_right(correct, trials)
    readings = [Reading("abx_p", "all", chance, word), Reading("abx_low", "all", low), Reading("abx_high", "all", high)]
    if enough is None:
        why = f"{trials} trials are too few: even all right could be guessed"
        return [*readings, Reading("abx_needed", "all", None, why), Reading("abx_power", "all", 0.0, why)]
    power = float(tail(trials, enough, Fraction(heard).limit_denominator(10_000)))
    return [*readings, Reading("abx_needed", "all", float(enough)), Reading("abx_power", "all", power)]
