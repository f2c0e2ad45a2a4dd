"""Facts in words: every ground of a verdict has a sentence, and tables hold no formula."""

import csv
import io
from types import SimpleNamespace
from typing import get_args

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kind_echo.bench.documents import verdict_document, verdict_from
from kind_echo.core.causes.cause import Cause
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.registry.readings import Reading, silent
from kind_echo.core.verdicts.rules import Side, judge_rates, judge_samples, judge_unseen, not_rendered
from kind_echo.core.verdicts.symptoms import Symptom
from kind_echo.core.verdicts.verdict import Ground, JudgedReading, Verdict, VerdictName
from kind_echo.wording.causes import cause_text, describe, noted
from kind_echo.wording.conditions import condition_text, rates_text, resampled_text, whole_condition_text
from kind_echo.wording.figures import figure, judged_limit_text, limit_text, samples, value_text
from kind_echo.wording.tables import READING_COLUMNS, csv_text, reading_row
from kind_echo.wording.verdicts import headline, sentence, symptom_text, verdict_text, worst_text

RESIDUAL = JudgedReading(Reading("residual_rms", "all", -61.25), Limit(at_most=-120.0))


@pytest.mark.parametrize("ground", sorted(set(get_args(Ground)) - {"under way"}))
def test_every_ground_has_a_sentence_without_a_blank_left_in_it(ground: Ground) -> None:
    verdict = Verdict("Fail", ground, (RESIDUAL,), "Almanac 7", why="it crashed")
    said = sentence(verdict)
    assert said
    assert "{" not in said
    assert said[0].isupper() or ground == "not rendered"


@given(
    st.sampled_from(get_args(VerdictName)), st.sampled_from(get_args(Ground)),
    st.lists(st.tuples(st.sampled_from(["delay", "silent", "thd"]), st.none() | st.floats(-99, 99)), max_size=3),
    st.floats(0, 1), st.text(max_size=20),
)  # fmt: skip
def test_a_verdict_comes_back_from_its_document(
    name: VerdictName, ground: Ground, readings: list[tuple[str, float | None]], ink: float, why: str
) -> None:
    found = tuple(JudgedReading(Reading(key, "all", value, "why"), Limit(-1.0, 1.0)) for key, value in readings)
    verdict = Verdict(name, ground, found, "Almanac 7", ink, why)
    assert verdict_from(name, ink, verdict_document(verdict)) == verdict


@given(st.lists(st.one_of(st.text(max_size=12), st.integers(), st.none()), min_size=1, max_size=4))
def test_no_cell_of_a_table_is_a_formula_and_none_is_lost(values: list[object]) -> None:
    """OWASP, CSV Injection: text that begins with = + - @, a tab or a carriage return is taken for a formula."""
    (row,) = csv.reader(io.StringIO(csv_text([values]), newline=""))
    for cell, value in zip(row, values, strict=True):
        text = "" if value is None else str(value).replace("\r\n", "\n").replace("\r", "\n")
        assert cell in (text, f"'{text}") if isinstance(value, str) else cell == text
        if isinstance(value, str):
            assert not cell.startswith(("=", "+", "-", "@", "\t"))


def _side(number: int, sha256: str | None = "a", **changed: object) -> Side:
    usual: dict[str, object] = {
        "finished": True, "unfit": False, "rate": 48_000, "channels": 1, "dropped": False,
        "verdict": not_rendered("it crashed"), "measured": {},
    }  # fmt: skip
    return Side(id=number, sha256=sha256, **(usual | changed))  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("cell", "other", "ground"),
    [
        (_side(1, finished=False), _side(2), "under way"),
        (_side(1, None), _side(2), "not rendered"),
        (_side(1), None, "no counterpart"),
        (_side(1), _side(1), "itself"),
        (_side(1), _side(2, None), "other unfit"),
        (_side(1), _side(2, unfit=True), "other unfit"),
    ],
)
def test_what_needs_no_samples_is_settled_without_them(cell: Side, other: Side | None, ground: Ground) -> None:
    settled = judge_unseen(cell, other, "Almanac 7")
    assert settled is not None
    assert settled.ground == ground
    assert judge_unseen(_side(1), _side(2), "Almanac 7") is None


@pytest.mark.parametrize(
    ("cell", "other", "ground", "name"),
    [
        (_side(1), _side(2), "identical", "Pass"),
        (_side(1), _side(2, "b", rate=44_100), "other format", "No reading"),
        (_side(1), _side(2, "b", channels=2), "other format", "No reading"),
        (_side(1), _side(2, "b", dropped=True), "audio dropped", "No reading"),
        (_side(1, dropped=True), _side(2, "b"), "audio dropped", "No reading"),
        (_side(1), _side(2, "b"), "under way", "Waiting"),
    ],
)
def test_what_was_not_compared_says_why(cell: Side, other: Side, ground: Ground, name: VerdictName) -> None:
    verdict = judge_samples(cell, other, None, {}, "Almanac 7")
    assert (verdict.ground, verdict.name) == (ground, name)
    assert verdict.broken == (("residual_rms",) if name == "No reading" else ())


@pytest.mark.parametrize(("spread", "name"), [(-90.0, "Pass"), (-120.0, "Fail")])
def test_takes_of_either_side_hold_across_as_well(spread: float, name: VerdictName) -> None:
    readings = [Reading("identical", "all", 0.0), Reading("residual_rms", "all", -88.0)]
    limits = {"residual_rms": Limit(at_most=-100.0), "thd": Limit(at_most=-300.0)}
    sides = _side(1, measured={"take_spread": -130.0}), _side(2, "b", measured={"take_spread": spread})
    for cell, other in (sides, sides[::-1]):
        assert judge_samples(cell, other, readings, limits, "Almanac 7").name == name


@pytest.mark.parametrize(
    ("mine", "theirs", "name", "said"),
    [
        (-20.0, -20.09, "Pass", "RMS, AES17: +0.09 dB against 96 kHz"),
        (-20.0, -20.2, "Changed", "RMS, AES17: +0.20 dB against 96 kHz"),
        (-26.0, -20.0, "Changed", "RMS, AES17: −6.00 dB against 96 kHz"),
        (None, -20.0, "No reading", "RMS, AES17: there is no reading on both sides"),
    ],
)
def test_two_rates_are_compared_by_a_reading(mine: float | None, theirs: float, name: str, said: str) -> None:
    sides = [_side(i, measured={} if value is None else {"rms": value}) for i, value in enumerate((mine, theirs))]
    verdict = judge_rates(*sides, find_measure("rms"), "96 kHz")  # type: ignore[arg-type, call-arg]
    assert (verdict.name, sentence(verdict)) == (name, said)
    assert verdict.ink == pytest.approx(0.0 if name != "Changed" or mine is None else abs(mine - theirs) / 12.0)


def test_a_headline_says_the_cause_first_and_the_worst_cell_adds_its_figures() -> None:
    late = Symptom("Fail", "limit broken", "delay", found=JudgedReading(Reading("delay", "all", 64.0)))
    differs = Symptom("Fail", "limit broken", "residual_rms", "Almanac 7", found=RESIDUAL, cause="noise")
    assert headline([differs, late]) == "64 samples late; Differs from Almanac 7 by noise"
    assert symptom_text(Symptom("No reading", "not rendered", why="it crashed")) == "it crashed"
    louder = Symptom("Changed", "apart", other="96 kHz", found=JudgedReading(Reading("rms", "all", 0.2)))
    assert symptom_text(louder) == "RMS, AES17 differs"  # by another amount in each of its cells
    assert worst_text(Verdict("Changed", "apart", (JudgedReading(Reading("rms", "all", 0.2)),)), [louder]) == (
        "RMS, AES17: +0.20 dB"
    )
    broken = Verdict("Fail", "limit broken", (RESIDUAL,), "Almanac 7")
    assert worst_text(broken, [differs]) == "−61.25 dBFS"
    assert worst_text(broken, [late, differs]) == "Differs from Almanac 7: −61.25 dBFS"
    assert worst_text(broken, [late]) == "Differs from Almanac 7: −61.25 dBFS"
    assert worst_text(Verdict("Fail", "limit broken", (late.found or RESIDUAL,)), [late]) == ""
    swapped = Verdict("Fail", "limit broken", (JudgedReading(Reading("channel_swap", "all", 1.0)),))
    assert worst_text(swapped, [Symptom("Fail", "limit broken", "channel_swap", found=swapped.found[0])]) == ""
    assert sentence(swapped) == "Channels swapped"
    changed = Verdict("Changed", "changed", (RESIDUAL,))
    assert symptom_text(Symptom("Changed", "changed", found=RESIDUAL)) == "Within limits, but not the same"
    assert worst_text(changed, [Symptom("Changed", "changed", found=RESIDUAL)]) == "residual −61.2 dBFS"
    assert worst_text(Verdict("No reading", "no value", (RESIDUAL,)), []) == ""
    assert worst_text(Verdict("Changed", "apart", (JudgedReading(Reading("rms", "all", 0.0)),)), []) == (
        "RMS, AES17: +0.00 dB"
    )
    folds = Symptom("Fail", "limit broken", "residual_rms", found=RESIDUAL, cause="aliasing", orders=(3, 5))
    assert symptom_text(folds) == "Aliases: orders 3 to 5"


@pytest.mark.parametrize(
    ("name", "finished", "text"),
    [("Pass", True, "Pass"), ("Waiting", True, "No reference yet"), ("Waiting", False, "Under way"),
     ("Fail", False, "Under way")],
)  # fmt: skip
def test_a_verdict_in_words_is_that_of_what_is_finished(name: VerdictName, finished: bool, text: str) -> None:
    assert verdict_text(name, finished=finished) == text
    assert verdict_text(name) == (text if finished else verdict_text(name, finished=True))


@pytest.mark.parametrize(
    ("key", "value", "text"),
    [("delay", 3.0, "+3.000"), ("polarity", -1.0, "−1"), ("polarity", 1.0, "+1"), ("silent", 1.0, "yes"),
     ("gaps", 3.0, "3"), ("thd", -80.0, "−80.00"), ("dc_offset", 0.25, "+0.250000"), ("gain", -0.0001, "0.000")],
)  # fmt: skip
def test_values_have_a_sign_where_either_direction_means_something(key: str, value: float, text: str) -> None:
    assert value_text(value, find_measure(key)) == text


def test_a_line_of_a_table_has_a_bound_where_it_is_finite_and_nothing_for_what_is_not_there() -> None:
    full = Reading("thd", "2", None, "a bound", 0.5, -90.0)
    assert reading_row("a.wav", full) == ("a.wav", "thd", "2", None, "dB", -90.0, 0.5, "a bound")
    assert reading_row("a.wav", silent("rms", "all"))[5] is None
    assert len(reading_row("a.wav", full)) == len(READING_COLUMNS)


def test_conditions_and_rates_in_words() -> None:
    condition = SimpleNamespace(hosting="", host="Almanac", host_version="7", mode="offline", rate=44_100)
    assert condition_text(condition) == "Almanac 7, offline, 44.1 kHz"
    whole = SimpleNamespace(**vars(condition), block_size=512, channels=1, word_length="float32")
    assert whole_condition_text(whole) == "Almanac 7, offline, 44.1 kHz, blocks of 512, 1 channel, float32"
    whole.channels, whole.hosting = 2, "reports its time"
    assert whole_condition_text(whole) == (
        "Almanac 7, offline, reports its time, 44.1 kHz, blocks of 512, 2 channels, float32"
    )
    assert resampled_text([96_000, 44_100], -130.4) == (
        "resampled from 96 and 44.1 kHz, which by itself leaves −130 dB of a level"
    )


@pytest.mark.parametrize(
    ("cause", "text"),
    [
        (Cause("delay", amount=-2.5), "2.50 samples early"), (Cause("delay", amount=64.0), "64 samples late"),
        (Cause("drift", amount=12.34), "a clock 12.3 ppm slow"), (Cause("drift", amount=-3.0), "a clock 3.0 ppm fast"),
        (Cause("channel_gain", "1", -0.3), "0.30 dB down in channel 1"), (Cause("none"), "identical"),
        (Cause("dc", amount=-0.01), "an offset of −0.01000"), (Cause("gap", amount=1.0), "1 gap"),
        (Cause("click", amount=3.0), "3 clicks"),
        (Cause("quantisation", amount=16.0), "rounding to shorter words, of 16 bits"),
        (Cause("noise", amount=-90.04), "noise at −90.0 dBFS"), (Cause("unexplained", why="too short"), "too short"),
        (Cause("filter", amount=3.0, why="a bell"), "a change of linear filtering (a bell)"),
        (Cause("filter", amount=3.0), "a change of linear filtering"), (Cause("clipping", amount=9.0), "clipped"),
        (Cause("length", amount=5.0, why="5 frames longer"), "5 frames longer"),
        (Cause("polarity"), "polarity inverted"),
        (Cause("length", amount=5.0), "length"),
        (Cause("gap", amount=1.0, why="10.0 ms at 6.250 s", start=6.25, length=0.01), "1 gap, 10.0 ms at 6.250 s"),
        (Cause("delay", amount=-15.0, why="or 48 more"), "15 samples early, or 48 more"),
        (Cause("polarity", why="or half a period late"), "polarity inverted, or half a period late"),
        (Cause("time_jump", amount=512.0, why="512 samples repeated", start=5.0),
         "from 5.000 s on 512 samples late: 512 samples repeated"),
        (Cause("time_jump", amount=64.0, why="64 samples twice", start=5.0, length=0.002),
         "at 5.000 s for 2.0 ms 64 samples twice"),
        (Cause("gain_motion", "2", -3.0, why="steps"), "a level that steps in channel 2"),
        (Cause("wander", amount=2.8, why="1 Hz"), "a delay that wanders by ±2.80 samples (1 Hz)"),
        (Cause("channel_mix", amount=-6.0, why="a fold to mono"), "a fold to mono"),
        (Cause("echo", amount=-12.0, why="250.0 ms late"), "an echo at −12.0 dB, 250.0 ms late"),
        (Cause("added_tone", amount=-80.0, why="50.00 Hz"), "an added tone of 50.00 Hz at −80.0 dBFS"),
        (Cause("aliasing", amount=-58.0, unit="dBFS", why="orders 23 to 27 fold"),
         "aliasing at −58.0 dBFS (orders 23 to 27 fold)"),
        (Cause("non_linear", amount=-60.0, unit="dBFS", why="order 2"), "new harmonics at −60.0 dBFS (order 2)"),
        (Cause("filter", amount=3.0, why="a bell", start=2.0), "a change of linear filtering (a bell) from 2.000 s on"),
        (Cause("noise", amount=-90.0, start=1.0, length=0.5), "noise at −90.0 dBFS from 1.000 to 1.500 s"),
    ],
)  # fmt: skip
def test_causes_in_words(cause: Cause, text: str) -> None:
    assert cause_text(cause) == text
    assert describe([cause, cause]) == f"{text}, {text}"


def test_the_least_that_is_left_is_noted_with_the_causes() -> None:
    readings = [Reading("account_remainder", name, -60.0) for name in ("all", "1")] + [Reading("gain", "all", 0.0)]
    assert [r.why for r in noted(readings, [Cause("polarity")])] == ["polarity inverted", None, None]


def test_limits_causes_and_rates_in_words() -> None:
    assert [limit_text(Limit(*ends)) for ends in ((-1.0, 1.0), (None, -80.0), (1.0, None), (None, None))] == [
        "−1 … 1", "≤ −80", "≥ 1", ""
    ]  # fmt: skip
    peak = Reading("true_peak", "all", -2.316)
    assert judged_limit_text(peak, Limit(at_most=-3.0), "broken") == "True peak −2.32 dBTP, limit ≤ −3.00: broken"
    assert figure(Reading("true_peak", "all", None, "too short")) == "too short"
    assert cause_text(Cause("gain", "2", 0.3)) == "0.30 dB up in channel 2"
    assert cause_text(Cause("channel_missing", "2", None)) == "channel 2 is silent"
    assert rates_text([44_100, 48_000, 96_000]) == "44.1, 48 and 96 kHz"
    assert samples(1.0) == "1 sample"
