"""What sittings come to: by piece, by person and over all."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session, joinedload, selectinload

from kind_echo.bench.listening.sittings import answers_of
from kind_echo.bench.listening.tests import HIDDEN_REFERENCE, MID_ANCHOR, alike, are_hidden, method_of
from kind_echo.core.listening.blind import SIGNIFICANT, listening_readings, needed, sequential_readings
from kind_echo.core.listening.rating import Grades, Mean, Screened, means, screen
from kind_echo.core.registry.errors import Conflict
from kind_echo.core.registry.readings import Reading, value_of
from kind_echo.database.models import ListeningTest, Sitting, Trial


class ResultsHidden(Conflict):
    """Results are asked for before the day until which they are hidden."""

    def __init__(self, until: datetime) -> None:
        super().__init__(f"Results are hidden from everybody until {until:%Y-%m-%d %H:%M} UTC.")


@dataclass(frozen=True)
class Odds:
    """What right answers prove.

    Attributes:
        readings: of the registry: p, bounds of the share that is right, and for a sequential sitting its ratio.
        words: the conclusion, in a sentence.
        conclusive: there is evidence, for or against.
    """

    correct: int
    trials: int
    readings: list[Reading]
    words: str
    conclusive: bool


@dataclass(frozen=True)
class SittingResult:
    """One sitting in a list of results; a broken-off one is shown, and counts for nothing."""

    sitting: Sitting
    rights: list[bool]
    odds: Odds | None
    means: list[Mean] = field(default_factory=list)


@dataclass(frozen=True)
class Results:
    """All that a test came to, sittings of the same test made again among them.

    Attributes:
        by_person: pooled, of fixed length alone.
        pooled: over all people; None where nothing pools.
        screened: listeners whose grades do not count, with the rule.
    """

    sittings: list[SittingResult]
    by_person: list[tuple[str, Odds]]
    pooled: Odds | None
    means: list[Mean]
    screened: list[Screened]


def results_of(session: Session, test: ListeningTest, now: datetime) -> Results:
    """What a test came to. Raises ResultsHidden before its day."""
    if are_hidden(test, now):
        assert test.until is not None
        raise ResultsHidden(test.until)
    query = (
        select(Sitting)
        .where(Sitting.test_id.in_(alike(session, test)), Sitting.state != "open")
        .order_by(Sitting.id)
        .options(joinedload(Sitting.test), selectinload(Sitting.drawn).selectinload(Trial.answer))
    )
    # Of a test that was made again, and is hidden still, nothing is shown here either.
    sittings = [one for one in session.scalars(query) if not are_hidden(one.test, now)]
    results = [sitting_result(one) for one in sittings]
    if test.kind == "abx":
        # Lengths were set beforehand; one that ended at a bound, or was broken off, would make the sum wrong.
        pools = [one for one in results if one.sitting.state == "done" and one.sitting.trials > 0]
        by_person = [(who, _pool([one for one in pools if one.sitting.who == who], test))
                     for who in dict.fromkeys(one.sitting.who for one in pools)]  # fmt: skip
        return Results(results, by_person, _pool(pools, test) if pools else None, [], [])
    given = [grades for one in sittings if one.state == "done" for grades in _grades(one)]
    screened = _screened(test, given)
    return Results(results, [], None, means(given, screened), screened)


def sitting_result(sitting: Sitting) -> SittingResult:
    """What one sitting came to; it must be over."""
    rights = [bool(answer.right) for _, answer in answers_of(sitting)]
    method = method_of(sitting.test)
    if method.kind != "abx":
        return SittingResult(sitting, [], None, means(_grades(sitting)))
    if sitting.state != "done":
        return SittingResult(sitting, rights, None)
    if sitting.trials:
        return SittingResult(sitting, rights, fixed_odds(sum(rights), len(rights), method.heard))
    readings = sequential_readings(rights, method.heard, method.false_alarm, method.miss)
    words = next(r.why for r in readings if r.measure == "abx_ratio") or ""
    conclusive = "so far" not in words
    said = f"{words}." if conclusive else f"No conclusion: {len(rights)} answers reached neither bound."
    return SittingResult(sitting, rights, Odds(sum(rights), len(rights), readings, said, conclusive))


def fixed_odds(correct: int, trials: int, heard: float) -> Odds:
    """What that many right answers of so many prove, in plain words."""
    readings = listening_readings(correct, trials, heard)
    chance = value_of(readings, "abx_p")
    assert chance is not None
    if chance <= float(SIGNIFICANT):
        words = f"Evidence against guessing: by luck alone {_one_in(chance)} would get as many right."
    else:
        words = f"No conclusion: by luck alone {_one_in(chance)} would get as many right."
    return Odds(correct, trials, readings, words, chance <= float(SIGNIFICANT))


def outlook(trials: int, heard: float) -> str:
    """What a number of trials can show, in plain words, before anybody sits down."""
    enough = needed(trials)
    if enough is None:
        return f"{trials} trials are too few: even all right could be guessed."
    power = value_of(listening_readings(trials, trials, heard), "abx_power") or 0.0
    return (
        f"{trials} trials: {enough} right are needed; someone who hears it {10 * heard:g} times in 10 reaches that in "
        f"{100 * power:.0f} of 100 sittings."
    )


def _one_in(chance: float) -> str:
    if chance >= 0.095:
        return f"{100 * chance:.0f} of 100 sittings"
    return f"1 sitting in {round(1 / chance):,}".replace(",", "\u202f")


def _pool(results: Sequence[SittingResult], test: ListeningTest) -> Odds:
    rights = [right for one in results for right in one.rights]
    return fixed_odds(sum(rights), len(rights), method_of(test).heard)


def _grades(sitting: Sitting) -> list[Grades]:
    """The grades of each trial, by the names of the sides that stood behind the letters."""
    sides = sitting.test.sides
    found = []
    for trial, answer in answers_of(sitting):
        behind = {slot["label"]: sides[slot["side"]]["name"] for slot in trial.slots if slot["graded"]}
        found.append(Grades(sitting.who, {behind[label]: float(g) for label, g in answer.given["grades"].items()}))
    return found


def _screened(test: ListeningTest, given: Sequence[Grades]) -> list[Screened]:
    method = method_of(test)
    if method.scale is None:
        return []
    return screen(method.scale, given, HIDDEN_REFERENCE, MID_ANCHOR if method.scale == "BS.1534" else None)
