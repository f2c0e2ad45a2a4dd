"""What sittings come to: by piece, by person and over all."""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session, joinedload, selectinload

from kind_echo.bench.listening.sittings import answers_of
from kind_echo.bench.listening.tests import HIDDEN_REFERENCE, MID_ANCHOR, Method, alike, are_hidden, method_of
from kind_echo.core.listening.blind import (
    SIGNIFICANT,
    chance_whenever_looked,
    listening_readings,
    needed,
    sequential_readings,
)
from kind_echo.core.listening.rating import Grades, Mean, Screened, means, screen
from kind_echo.core.registry.errors import Conflict
from kind_echo.core.registry.numbers import number
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
        corrected: `abx_p` is a bound that holds however often somebody looked.
    """

    correct: int
    trials: int
    readings: list[Reading]
    words: str
    conclusive: bool
    corrected: bool = False


@dataclass(frozen=True)
class SittingResult:
    """One sitting in a list of results; a broken-off one is shown, and counts for nothing.

    Attributes:
        odds: of this sitting by itself, where it was to stand by itself.
        note: why there are none.
    """

    sitting: Sitting
    rights: list[bool]
    odds: Odds | None
    note: str = ""
    means: list[Mean] = field(default_factory=list)


@dataclass(frozen=True)
class Results:
    """All that a test came to, sittings of the same test made again among them.

    Attributes:
        by_person: pooled, of fixed length alone; those of whom all sittings are over that were set beforehand.
        pooled: over these people, each as often as was set beforehand; None where nothing pools.
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
    if test.kind == "abx":
        return _told_apart(test, sittings)
    results = [SittingResult(one, [], None, means=means(_grades(one))) for one in sittings]
    given = [grades for one in sittings if one.state == "done" for grades in _grades(one)]
    screened = _screened(test, given)
    return Results(results, [], None, means(given, screened), screened)


def _told_apart(test: ListeningTest, sittings: Sequence[Sitting]) -> Results:
    """What sittings come to in which two sides are told apart; how often each person sits was set beforehand."""
    most = method_of(test).sittings
    over: dict[str, list[Sitting]] = {}
    results = []
    for sitting in sittings:
        place = 0
        if sitting.state == "done":
            over.setdefault(sitting.who, []).append(sitting)
            place = len(over[sitting.who])
        results.append(_abx_result(sitting, place, most))
    # One that ended at a bound would make the sum wrong: its length was not set beforehand.
    fixed = {who: [one for one in theirs if one.trials > 0] for who, theirs in over.items()}
    whole = {who: theirs for who, theirs in fixed.items() if len(theirs) >= most}
    by_person = [(who, _pool(theirs, test, looked=len(theirs) > most)) for who, theirs in whole.items()]
    counted = [one for theirs in whole.values() for one in theirs[:most]]
    # Nobody has seen results before the day of a panel; of any other they were seen after each person.
    unseen = test.until is not None and all(one.test_id == test.id for one in counted)
    looked = len(whole) > 1 and not unseen
    if len(by_person) == 1:
        return Results(results, by_person, by_person[0][1], [], [])
    return Results(results, by_person, _pool(counted, test, looked=looked) if counted else None, [], [])


def _abx_result(sitting: Sitting, place: int, most: int) -> SittingResult:
    """What one sitting came to.

    Args:
        place: which of its person's sittings to these sides it is; 0 for one that was broken off.
        most: how many each person was to sit.
    """
    rights = [bool(answer.right) for _, answer in answers_of(sitting)]
    if place == 0:
        return SittingResult(sitting, rights, None, "broken off, does not count")
    if place > most:
        return SittingResult(sitting, rights, None, "sat again, counts in the sum alone")
    if most > 1:
        return SittingResult(sitting, rights, None, f"sitting {place} of {most}, odds after the last")
    return SittingResult(sitting, rights, _odds_of(method_of(sitting.test), sitting, rights))


def _odds_of(method: Method, sitting: Sitting, rights: Sequence[bool]) -> Odds:
    if sitting.trials:
        return fixed_odds(sum(rights), len(rights), method.heard)
    readings = sequential_readings(rights, method.heard, method.false_alarm, method.miss)
    words = next(r.why for r in readings if r.measure == "abx_ratio") or ""
    conclusive = "so far" not in words
    said = f"{words}." if conclusive else f"No conclusion: {len(rights)} answers reached neither bound."
    return Odds(sum(rights), len(rights), readings, said, conclusive)


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


def _one_in(chance: float, one: str = "sitting", many: str = "sittings") -> str:
    if chance >= 0.095:
        return f"{100 * chance:.0f} of 100 {many}"
    return f"1 {one} in {number(round(1 / chance), ',d')}"


def looked_odds(correct: int, trials: int, heard: float) -> Odds:
    """What that many right answers prove where sittings were added until somebody was content, in plain words."""
    exact = fixed_odds(correct, trials, heard)
    chance = chance_whenever_looked(correct, trials)
    found = chance <= float(SIGNIFICANT)
    words = (
        f"{'Evidence against guessing' if found else 'No conclusion'}, corrected for looking after each sitting: by "
        f"luck alone at most {_one_in(chance, 'such series', 'such series')} "
        "would ever get as far."
    )
    readings = [replace(r, value=chance, why=None) if r.measure == "abx_p" else r for r in exact.readings]
    return Odds(correct, trials, readings, words, found, corrected=True)


def _pool(sittings: Sequence[Sitting], test: ListeningTest, *, looked: bool) -> Odds:
    rights = [bool(answer.right) for one in sittings for _, answer in answers_of(one)]
    odds = looked_odds if looked else fixed_odds
    return odds(sum(rights), len(rights), method_of(test).heard)


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
