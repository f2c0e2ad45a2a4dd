"""From listening to the bodies that the API sends."""

from dataclasses import asdict
from datetime import datetime

from sqlalchemy.orm import Session

from kind_echo.bench.listening import (
    MOST_SECONDS,
    SAFE_PEAK,
    Heard,
    Listening,
    ListeningTest,
    Odds,
    Prepared,
    Results,
    Sitting,
    SittingResult,
    X,
    answers_of,
    are_hidden,
    method_of,
    open_sitting,
    outlook,
    times_sat,
    trials_of,
    under_way,
)
from kind_echo.core.registry.readings import value_of
from kind_echo.web.listening.schemas import (
    HeardSideBody,
    ListeningBody,
    MeanBody,
    NoteBody,
    OddsBody,
    PartBody,
    PersonOddsBody,
    ResultsBody,
    RunHeardBody,
    RunNoteBody,
    RunTestBody,
    ScreenedBody,
    SittingBody,
    SittingResultBody,
    SlotBody,
    TestBody,
    TestLineBody,
    TestSideBody,
    TrialBody,
)
from kind_echo.wording.tables import csv_text


def listening_body(heard: Listening) -> ListeningBody:
    """Sides as they are played."""
    return ListeningBody(
        rate=heard.rate,
        channels=heard.channels,
        frames=heard.frames,
        start=heard.start,
        stop=heard.stop,
        sides=[_side(side) for side in heard.sides],
        found=heard.found,
        most_seconds=MOST_SECONDS,
        safe_peak=SAFE_PEAK,
    )


def _side(side: Prepared) -> HeardSideBody:
    return HeardSideBody(
        spec=side.spec,
        name=side.name,
        parts=[PartBody(**asdict(part)) for part in side.parts],
        difference=side.difference,
        delay=side.delay,
        gain=side.level.gain,
        error=side.level.error,
        peak=side.level.peak,
        why="; ".join(why for why in (side.why, side.level.why) if why),
        notes=side.notes,
    )


def test_body(session: Session, test: ListeningTest, who: str, now: datetime) -> TestBody:
    """A test as one of its listeners sees it."""
    method = method_of(test)
    mine = open_sitting(session, test.id, who)
    return TestBody(
        id=test.id,
        kind=test.kind,
        name=test.name,
        note=test.note,
        made_by=test.made_by,
        made_at=test.made_at,
        until=test.until,
        closed=test.until is not None and now >= test.until,
        results_hidden=are_hidden(test, now),
        scale=method.scale,
        trials=trials_of(test),
        sittings=method.sittings,
        sat=times_sat(session, test.id, who),
        outlook=_outlook(test),
        rate=test.rate,
        channels=test.channels,
        start=test.start,
        stop=test.stop,
        by=test.options["asked"]["by"],
        band=test.options["asked"]["band"],
        sides=[
            TestSideBody(name=side["name"], hidden=side["hidden"], gain=side["gain"], error=side["error"])
            for side in test.sides
        ],
        mine=None if mine is None else mine.id,
    )


def test_line_body(test: ListeningTest, over: int, under_way: int) -> TestLineBody:
    """A test in a list."""
    return TestLineBody(
        id=test.id,
        kind=test.kind,
        name=test.name,
        made_by=test.made_by,
        made_at=test.made_at,
        until=test.until,
        sides=[side["name"] for side in test.sides if not side["hidden"]],
        sittings=over,
        under_way=under_way,
    )


def run_heard_body(heard: Heard) -> RunHeardBody:
    """What was heard of a run."""
    return RunHeardBody(
        notes=[RunNoteBody(cell_id=one.cell_id, note=NoteBody.model_validate(one.note)) for one in heard.notes],
        tests=[
            RunTestBody(
                cell_id=one.cell_id,
                test=test_line_body(one.test, one.over, one.under_way),
                results=None if one.results is None else results_body(one.results),
            )
            for one in heard.tests
        ],
    )


def _outlook(test: ListeningTest) -> str:
    method = method_of(test)
    if method.kind != "abx":
        return ""
    if method.trials:
        return outlook(method.trials * method.sittings, method.heard)
    return (
        f"As many trials as it takes: a guesser is taken for one who hears it in {100 * method.false_alarm:g} of 100 "
        f"sittings, and one who is right {10 * method.heard:g} times in 10 for a guesser in {100 * method.miss:g}."
    )


def sitting_body(session: Session, sitting: Sitting) -> SittingBody:
    """A sitting as its listener sees it: what stands behind the slots is not in it."""
    trial = under_way(session, sitting)
    slots = [] if trial is None else [SlotBody(label=s.label, address=s.secret, graded=s.graded) for s in trial.slots]
    return SittingBody(
        id=sitting.id,
        test_id=sitting.test_id,
        state=sitting.state,
        trials=sitting.trials,
        answered=len(answers_of(sitting)),
        trial=None if trial is None else TrialBody(number=trial.number, slots=slots),
    )


def results_body(found: Results) -> ResultsBody:
    """What a test came to."""
    return ResultsBody(
        sittings=[_sitting_result(one) for one in found.sittings],
        by_person=[PersonOddsBody(who=who, odds=_odds(odds)) for who, odds in found.by_person],
        pooled=None if found.pooled is None else _odds(found.pooled),
        means=[MeanBody.model_validate(mean) for mean in found.means],
        screened=[ScreenedBody.model_validate(one) for one in found.screened],
    )


def _sitting_result(one: SittingResult) -> SittingResultBody:
    sitting = one.sitting
    return SittingResultBody(
        sitting_id=sitting.id,
        test_id=sitting.test_id,
        who=sitting.who,
        begun_at=sitting.begun_at,
        ended_at=sitting.ended_at,
        state=sitting.state,
        trials=sitting.trials,
        rights=one.rights,
        odds=None if one.odds is None else _odds(one.odds),
        note=one.note,
        means=[MeanBody.model_validate(mean) for mean in one.means],
    )


def _odds(odds: Odds) -> OddsBody:
    p, low, high = (value_of(odds.readings, key) for key in ("abx_p", "abx_low", "abx_high"))
    return OddsBody(
        correct=odds.correct, trials=odds.trials, p=p, low=low, high=high, words=odds.words,
        conclusive=odds.conclusive, corrected=odds.corrected,
    )  # fmt: skip


def results_csv(found: Results) -> str:
    """Every trial that counts or was broken off, a line for each side that was answered: what was drawn, and when."""
    rows: list[tuple[object, ...]] = [
        ("sitting", "who", "state", "trial", "label", "side", "given", "right", "switches", "seconds", "at")
    ]
    for one in found.sittings:
        sitting = one.sitting
        sides = [side["name"] for side in sitting.test.sides]
        for trial, given in answers_of(sitting):
            right = "" if given.right is None else int(given.right)
            for slot in trial.slots:
                if slot["graded"]:
                    said = given.given["grades"][slot["label"]]
                elif slot["label"] == X:
                    said = sides[given.given["choice"]]
                else:
                    continue
                drawn = [trial.number, slot["label"], sides[slot["side"]], said, right]
                when = [given.switches, given.seconds, given.answered_at.isoformat()]
                rows.append((sitting.id, sitting.who, sitting.state, *drawn, *when))
    return csv_text(rows)
