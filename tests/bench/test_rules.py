"""The rules of verdicts and reasons, on readings made by hand; and what they hold for any reading."""

import json
import math
from dataclasses import FrozenInstanceError, replace
from typing import Any, get_args

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kind_echo.bench.documents import (
    curve_documents,
    kept_reading,
    limit_document,
    limit_from,
    reading_document,
    reading_from,
)
from kind_echo.bench.plans import null_test_limits
from kind_echo.bench.plans.revisions import case_fingerprint
from kind_echo.core.audio.source import ArraySource
from kind_echo.core.comparison.residual import perfect_null
from kind_echo.core.comparison.takes import take_spread
from kind_echo.core.registry.limits import judge
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import MEASURES
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Curve, Reading, Reason, null, silent
from kind_echo.core.signals import all_kinds, make_request, synthesise
from kind_echo.core.systems.by_signal import measure_by_signal
from kind_echo.core.verdicts.rules import (
    FLOAT_FLOOR,
    INK_AT_LIMIT,
    Side,
    ink_of,
    judge_cell,
    judge_rates,
    judge_unseen,
)
from kind_echo.core.verdicts.verdict import Verdict, VerdictName, needs_review
from kind_echo.wording.figures import figure
from kind_echo.wording.verdicts import sentence

LIMITS = null_test_limits()
FIT = [Reading("silent", "all", 0.0), Reading("non_finite", "all", 0.0), Reading("lead_in_excess", "all", 0.0)]


def _compared(**values: float | None) -> list[Reading]:
    usual = {"identical": 0.0, "delay": 0.0, "gain": 0.0, "polarity": 1.0, "residual_rms": -150.0}
    return [Reading(key, "all", value, None if value is not None else "why") for key, value in (usual | values).items()]


def test_identical_audio_passes_and_says_so() -> None:
    verdict = judge_cell(FIT, _compared(identical=1.0), LIMITS)
    assert (verdict.name, sentence(verdict), verdict.ink) == ("Pass", "Identical to the reference", 0.0)


def test_integrity_comes_first_whatever_the_comparison_says() -> None:
    silent = [Reading("silent", "all", 1.0), *FIT[1:]]
    verdict = judge_cell(silent, _compared(identical=1.0), LIMITS)
    assert (verdict.name, sentence(verdict), verdict.unfit) == ("Fail", "Silent", True)
    assert judge_cell(silent, None, LIMITS).unfit


def test_without_a_reference_it_waits() -> None:
    assert judge_cell(FIT, None, LIMITS).name == "Waiting"


def test_within_limits_it_is_changed_only_above_the_float_floor() -> None:
    assert judge_cell(FIT, _compared(residual_rms=-130.0), LIMITS).name == "Changed"
    assert judge_cell(FIT, _compared(residual_rms=FLOAT_FLOOR - 1), LIMITS).name == "Pass"


@pytest.mark.parametrize(("excess", "ink"), [(-24.0, 0.0), (0.0, 24 / 144), (24.0, 48 / 144), (119.0, 143 / 144)])
def test_a_decibel_beyond_the_limit_is_a_144th_of_a_cell(excess: float, ink: float) -> None:
    """Common practice, no source: 144 dB is the range of 24 bits, and a cell is full at its end."""
    reading = Reading("residual_rms", "all", -120.0 + excess)
    assert ink_of(reading, Limit(at_most=-120.0)) == pytest.approx(ink)
    assert judge_cell(FIT, _compared(residual_rms=-120.0 + excess), LIMITS).ink == pytest.approx(ink)


@pytest.mark.parametrize("finished", [True, False])
@pytest.mark.parametrize("decided", [True, False])
@pytest.mark.parametrize("name", get_args(VerdictName))
def test_a_person_is_needed_where_a_finished_cell_did_not_pass_and_nothing_was_decided(
    name: str, decided: bool, finished: bool
) -> None:
    wanted = finished and not decided and name in ("Fail", "Changed", "No reading", "Waiting")
    assert needs_review(name, finished=finished, decided=decided) is wanted


@pytest.mark.parametrize(
    ("reading", "limit", "judged"),
    [
        (Reading("thd", "all", -80.0), Limit(at_most=-80.0), "met"),
        (Reading("thd", "all", -80.0), Limit(at_least=-80.0), "met"),
        (Reading("thd", "all", None, at_most=-80.0), Limit(at_most=-80.0), "met"),
        (Reading("thd", "all", None, at_least=-80.0), Limit(at_least=-80.0), "met"),
        (Reading("thd", "all", None, at_most=-79.0), Limit(at_most=-80.0), "unknown"),
        (Reading("thd", "all", None, at_least=-81.0), Limit(at_least=-80.0), "unknown"),
        (Reading("dc_offset", "all", -0.002), Limit(at_most=0.001), "broken"),
        (Reading("thd", "all", -0.002), Limit(at_most=0.001), "met"),
    ],
)
def test_a_bound_itself_is_within_the_limit(reading: Reading, limit: Limit, judged: str) -> None:
    assert judge(reading, limit) == judged


def test_a_limit_on_what_cannot_be_read_is_no_reading() -> None:
    verdict = judge_cell(FIT, _compared(delay=None), LIMITS)
    assert (verdict.name, sentence(verdict)) == ("No reading", "Delay: why")


def test_the_worst_of_several_stands_first() -> None:
    verdict = judge_cell(FIT, _compared(gain=0.3, residual_rms=-20.0), LIMITS)
    assert verdict.name == "Fail"
    assert verdict.broken[0] == "residual_rms"
    assert sentence(verdict) == "Differs from the reference: −20.00 dBFS; Level differs: +0.300 dB"


@given(st.floats(-200, 0), st.floats(-200, 0))
def test_more_difference_is_more_ink_and_a_broken_limit_shows(first: float, second: float) -> None:
    limit = LIMITS["residual_rms"]
    inks = [ink_of(Reading("residual_rms", "all", value), limit) for value in sorted((first, second))]
    assert 0.0 <= inks[0] <= inks[1] <= 1.0
    for value, ink in zip(sorted((first, second)), inks, strict=True):
        if value > (limit.at_most or 0.0):
            assert ink >= INK_AT_LIMIT


@given(st.sampled_from(sorted(MEASURES)), st.none() | st.floats(-1e6, 1e6), st.none() | st.floats(0, 10))
def test_a_reading_comes_back_from_its_document(measure: str, value: float | None, spread: float | None) -> None:
    reading = Reading(measure, "all", value, None if value is not None else "too short", spread)
    assert reading_from(reading_document(reading)) == reading
    assert isinstance(figure(reading), str)


def test_digital_silence_keeps_its_bound_through_a_document() -> None:
    lost = silent("rms", "all")
    assert "at_most" not in reading_document(lost)
    assert reading_from(json.loads(json.dumps(kept_reading(lost), allow_nan=False))) == lost


FINITE = st.floats(-1e6, 1e6)
BOUNDS = st.none() | FINITE | st.just(math.inf) | st.just(-math.inf)
READINGS = st.builds(
    Reading, st.sampled_from(sorted(MEASURES)), st.sampled_from(["all", "1", "2"]), st.none() | FINITE,
    st.none() | st.text(max_size=40), st.none() | st.floats(0, 1e3), BOUNDS,
    st.none() | st.sampled_from(get_args(Reason)), BOUNDS,
)  # fmt: skip


@given(READINGS, st.none() | st.floats(-200, 200), st.none() | st.floats(-200, 200))
def test_keeping_a_reading_changes_nothing_of_it_nor_how_it_is_judged(
    reading: Reading, low: float | None, high: float | None
) -> None:
    kept = json.loads(json.dumps(kept_reading(reading), allow_nan=False))
    assert reading_from(kept) == reading
    assert judge(reading_from(kept), Limit(low, high)) == judge(reading, Limit(low, high))


def test_a_perfect_null_is_deep_enough_for_every_limit_and_identical_takes_spread_by_nothing() -> None:
    deep = reading_from(kept_reading(perfect_null("all")))
    assert judge(deep, Limit(at_least=300.0)) == "met"
    sounds = [ArraySource(np.ones((100, 1)), 48_000)] * 3
    spread = reading_from(kept_reading(take_spread([*sounds])))
    assert judge(spread, Limit(at_most=-120.0)) == "met"


@given(st.none() | st.floats(-100, 100), st.none() | st.floats(-100, 100))
def test_a_limit_comes_back_from_its_document(low: float | None, high: float | None) -> None:
    assert limit_from(limit_document(Limit(low, high))) == Limit(low, high)


def test_curves_are_thinned_and_hold_numbers_alone() -> None:
    curve = Curve("s", "LUFS", [float(i) for i in range(9000)], [-math.inf] * 10 + [1.0] * 8990)
    kept = curve_documents({"momentary": curve}, "render")[0]
    assert len(kept["x"]) == len(kept["y"]) <= 2500
    assert min(kept["x"]) >= 10


def test_the_fingerprint_follows_signal_and_parameters_alone() -> None:
    tone, loud = {"kind": "tone", "frequency": 997.0}, {"drive": 6.0}
    assert case_fingerprint(tone, loud) == case_fingerprint(dict(reversed(tone.items())), dict(loud))
    assert case_fingerprint(tone, loud) != case_fingerprint(tone, {"drive": 6.1})


@pytest.mark.parametrize("kind", all_kinds())
def test_every_signal_is_measured_for_what_it_is_made_for(kind: str) -> None:
    request = make_request(kind, seconds=2.0, step_seconds=0.2, second=7000.0, end=15_000.0, lead_in=0.05)
    stimulus = ArraySource(synthesise(request, 48_000), 48_000)
    readings, _ = measure_by_signal(request, stimulus, stimulus)
    families = {MEASURES[r.measure].family for r in readings}
    expected = {
        "tone": {"tone", "aliases"}, "pair": {"imd"}, "steps": {"aliases"}, "sweep": {"response", "latency"},
        "noise": {"response", "latency"}, "impulse": {"response", "latency"}, "clicks": {"latency"},
        "staircase": {"transfer"}, "burst": {"dynamics"}, "sequence": {"response", "latency"},
    }  # fmt: skip
    assert families == expected.get(kind, set())


def test_a_render_is_judged_by_its_own_readings_as_well_and_without_a_reference() -> None:
    limits = {**LIMITS, "fundamental_level": Limit(-6.1, -5.9)}
    soft = [*FIT, Reading("fundamental_level", "all", -9.0)]
    verdict = judge_cell(soft, None, limits)
    assert (verdict.name, verdict.broken) == ("Fail", ("fundamental_level",))
    assert sentence(verdict) == "Level of the tone is off: −9.00 dBFS"
    assert not verdict.unfit
    met = judge_cell([*FIT, Reading("fundamental_level", "all", -6.0)], None, limits)
    assert (met.name, sentence(met)) == ("Pass", "Within its limits; not compared, for no reference is approved yet")
    assert judge_cell(FIT, None, LIMITS).name == "Waiting"
    assert judge_cell(FIT, None, {"clipped_runs": Limit(at_most=0)}).name == "Pass"
    lost = judge_cell([*FIT, Reading("fundamental_level", "all", None, "no tone")], None, limits)
    assert (lost.name, sentence(lost)) == ("No reading", "Fundamental, level: no tone")


def test_what_never_repeats_is_held_to_the_spread_of_its_takes() -> None:
    wandering = [*FIT, Reading("take_spread", "all", -40.0)]
    assert judge_cell(wandering, _compared(residual_rms=-42.0), LIMITS).name == "Pass"
    assert judge_cell(wandering, _compared(residual_rms=-38.0), LIMITS).name == "Pass"
    assert judge_cell(wandering, _compared(residual_rms=-30.0), LIMITS).name == "Fail"
    steady = [*FIT, Reading("take_spread", "all", None, "all takes are identical", at_most=-math.inf)]
    assert judge_cell(steady, _compared(residual_rms=-42.0), LIMITS).name == "Fail"


@given(
    st.floats(-180, 0), st.floats(-1, 1), st.floats(-0.5, 0.5), st.sampled_from([-1.0, 1.0]),
    st.none() | st.floats(-150, 0),
)  # fmt: skip
def test_a_verdict_says_why_and_fails_exactly_where_a_limit_is_broken(
    residual: float, delay: float, gain: float, polarity: float, spread: float | None
) -> None:
    render = FIT if spread is None else [*FIT, Reading("take_spread", "all", spread)]
    verdict = judge_cell(render, _compared(residual_rms=residual, delay=delay, gain=gain, polarity=polarity), LIMITS)
    allowed = max(-120.0, -math.inf if spread is None else spread + 3.0)
    broken = {
        name
        for name, bad in (
            ("residual_rms", residual > allowed), ("delay", abs(delay) > 0.05), ("gain", abs(gain) > 0.05),
            ("polarity", polarity < 0),
        )
        if bad
    }  # fmt: skip
    assert set(verdict.broken) == broken
    assert (verdict.name == "Fail") == bool(broken)
    assert sentence(verdict)
    assert 0.0 <= verdict.ink <= 1.0
    if not broken and residual > FLOAT_FLOOR and spread is None:
        assert verdict.name == "Changed"


def test_the_floor_and_the_margin_of_takes_hold_at_their_own_value() -> None:
    """Half a step of 24 bits under full scale is −144.49 dB (arithmetic); one take more may lie 3 dB further apart."""
    assert pytest.approx(-144.494, abs=1e-3) == FLOAT_FLOOR
    limits = {"residual_rms": Limit(at_most=-40.0)}
    takes = [*FIT, Reading("take_spread", "all", -90.0)]
    for render, residual, reason in (
        (FIT, FLOAT_FLOOR, "rounding"), (FIT, FLOAT_FLOOR + 0.01, "changed"),
        (takes, -87.0, "takes"), (takes, -86.99, "changed"),
    ):  # fmt: skip
        assert judge_cell(render, _compared(residual_rms=residual), limits).ground == reason


def test_a_limit_of_the_team_goes_before_that_of_the_measure() -> None:
    late = [*FIT[:2], Reading("lead_in_excess", "all", 0.5)]
    broken = judge_cell(late, _compared(identical=1.0), {})
    assert (broken.name, broken.ground, broken.ink) == ("Fail", "unfit", 1.0)
    assert judge_cell(late, _compared(identical=1.0), {"lead_in_excess": Limit(at_most=1.0)}).name == "Pass"


@pytest.mark.parametrize(
    ("measure", "value", "limit", "ink"),
    [
        ("residual_rms", None, Limit(at_most=-100.0), 0.0),
        ("residual_rms", -100.0, Limit(at_most=-100.0), INK_AT_LIMIT),
        ("residual_rms", -88.0, Limit(at_most=-100.0), INK_AT_LIMIT + 12 / 144),
        ("residual_rms", -130.0, Limit(at_most=-100.0), 0.0),
        ("delay", -2.0, Limit(at_least=-1.0, at_most=10.0), INK_AT_LIMIT + 20 * math.log10(2.0) / 144),
        ("delay", 5.0, Limit(at_least=-1.0, at_most=10.0), INK_AT_LIMIT - 20 * math.log10(2.0) / 144),
        ("delay", 1.0, Limit(at_least=2.0, at_most=10.0), INK_AT_LIMIT),
        ("delay", 0.0, Limit(at_most=1.0), 0.0),
        ("delay", 0.0, Limit(at_least=1.0), 1.0),
        ("delay", 5.0, Limit(at_most=0.0), 1.0),
        ("delay", 3.0, Limit(at_least=1.0), 0.0),
    ],
)
def test_ink_counts_decibels_from_the_limit(measure: str, value: float | None, limit: Limit, ink: float) -> None:
    assert ink_of(Reading(measure, "all", value), limit) == pytest.approx(ink)


def _side(number: int, **other: Any) -> Side:
    own = Verdict("Changed", "changed", ink=0.5)
    usual = {"finished": True, "unfit": False, "sha256": f"{number}", "rate": 48_000, "channels": 2, "dropped": False}
    return Side(id=number, verdict=own, measured={}, **(usual | other))  # type: ignore[arg-type]


def test_a_cell_beside_another_that_needs_no_samples() -> None:
    assert judge_unseen(_side(1), _side(2), "2.0.3") is None
    for cell, other, reason, ink in (
        (_side(1, finished=False), _side(2), "under way", 0.0), (_side(1, unfit=True), _side(2), "changed", 1.0),
        (_side(1, sha256=None), _side(2), "changed", 0.0), (_side(1), None, "no counterpart", 0.0),
        (_side(1), _side(1), "itself", 0.0), (_side(1), _side(2, unfit=True), "other unfit", 0.0),
    ):  # fmt: skip
        verdict = judge_unseen(cell, other, "2.0.3")
        assert verdict is not None
        assert (verdict.ground, verdict.ink) == (reason, ink)
    with pytest.raises(FrozenInstanceError):
        _side(1).rate = 44_100  # type: ignore[misc]


@pytest.mark.parametrize(
    ("mine", "theirs", "reason", "ink"),
    [(0.1, 0.0, "alike", 0.0), (0.2, 0.0, "apart", 0.2 / 12), (1.0, 7.0, "apart", 0.5), (30.0, 0.0, "apart", 1.0)],
)
def test_readings_at_two_rates_are_apart_from_a_tenth_on(mine: float, theirs: float, reason: str, ink: float) -> None:
    gain = MEASURES["gain_1k"]
    cell, other = (replace(_side(k), measured={"gain_1k": value}) for k, value in enumerate((mine, theirs)))
    verdict = judge_rates(cell, other, gain, "44.1 kHz")
    assert verdict.ground == reason
    assert verdict.ink == pytest.approx(ink)
    assert judge_rates(_side(1), other, gain, "44.1 kHz").ground == "one side only"


@pytest.mark.parametrize("why", ["the alignment leaves no overlap", "no delay was found", "why"])
def test_what_was_not_compared_does_not_pass(why: str) -> None:
    """Limits may leave the residual out, as those of a band sum do: then nothing has judged that there is none."""
    limits = {"channel_swap": LIMITS["channel_swap"]} if "channel_swap" in LIMITS else {}
    readings = [Reading("identical", "all", 0.0), Reading("residual_rms", "all", None, why)]
    verdict = judge_cell(FIT, readings, limits)
    assert (verdict.name, verdict.broken) == ("No reading", ("residual_rms",))
    assert why in sentence(verdict)
    assert judge_cell(FIT, readings[:1], limits).name == "No reading"


def test_a_residual_that_is_digital_silence_passes() -> None:
    readings = [Reading("identical", "all", 0.0), null("residual_rms", "all")]
    assert judge_cell(FIT, readings, {}).name == "Pass"


def test_names_keep_their_hyphens() -> None:
    limits = {"residual_rms": Limit(at_most=-40.0)}
    verdict = judge_cell(FIT, _compared(residual_rms=-90.0), limits, "Skerry 2.1.0-rc2")
    assert sentence(verdict) == "Within limits, but not the same: residual −90.0 dBFS"
    spread = [*FIT, Reading("take_spread", "all", -89.0)]
    verdict = judge_cell(spread, _compared(residual_rms=-90.0), limits, "Skerry 2.1.0-rc2")
    assert sentence(verdict) == (
        "No further from Skerry 2.1.0-rc2 than its takes are from each other: residual −90.0 dBFS"
    )


@pytest.mark.parametrize(
    ("value", "form", "text"),
    [
        (-0.0, ".2f", "0.00"),
        (-0.001, "+.2f", "+0.00"),
        (-1234567.0, ",.0f", "−1\u2009234\u2009567"),
        (1e-7, "g", "1e−07"),
    ],
)
def test_numbers_have_a_real_minus_sign_and_no_negative_zero(value: float, form: str, text: str) -> None:
    assert number(value, form) == text
