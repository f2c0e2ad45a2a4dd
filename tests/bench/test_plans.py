"""Plans as they are written: YAML there and back, sweeps, exclusions, limits and their order, revisions, templates."""

import re
from datetime import UTC, datetime
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import func, select, update

from kind_echo.bench.machines import EffectNotFound
from kind_echo.bench.plans import (
    TEMPLATES,
    Expectation,
    Law,
    PlanDocument,
    PlanNotFound,
    all_plans,
    cost_of,
    differences,
    document_of,
    expect,
    find_build,
    latest_revision,
    plan_from,
    read_yaml,
    revision_numbered,
    revisions_of,
    save_plan,
    unfold,
    write_yaml,
)
from kind_echo.bench.plans.document import BadPlan, Exclusion, PlanCase, PlanCondition, PlanLimit, Sweep, check_document
from kind_echo.bench.plans.templates import TemplateNotFound
from kind_echo.bench.runs import cells_of, start_run
from kind_echo.core.registry.measures import MEASURES
from kind_echo.database.models import Effect, Host, PlanRevision
from kind_echo.database.sessions import transaction
from kind_echo.web.runs.views import cell_pair_body
from tests.conftest import drain

NOW = datetime(2026, 11, 25, tzinfo=UTC)
WRITTEN = """
plan: Drive
effect: Skerry
note: How far it may be driven
cases:
- signal: Steady tone 997 Hz
  setting: Hard, 1×
  sweep: {parameter: drive, values: [2, 4, 8]}
  limits:
    residual_rms: {at_most: -100, because: the ceiling moves}
- signal: Bell buoy strikes
  setting: Soft, 8×
  takes: 2
conditions:
- host: Almanac
  version: '7'
  modes: [real time, offline]
  rates: [44100, 48000]
  limits:
    gain: {at_least: -0.2, at_most: 0.2, because: it dithers}
limits:
  delay: {}
exclude:
- {mode: real time, rate: 44100}
- {signal: Bell buoy strikes, mode: real time}
"""


def test_a_written_plan_is_kept_written_out_and_kept_again_without_another_revision(demo: str) -> None:
    document = read_yaml(WRITTEN)
    with transaction() as session:
        revision = save_plan(session, document, who="Nora F.", now=NOW)
        assert (revision.number, revision.made_by, revision.note) == (1, "Nora F.", "How far it may be driven")
        again = read_yaml(write_yaml(document_of(session, revision)))
        assert again == document
        assert save_plan(session, again, who="Ivo K.", now=NOW).id == revision.id


def test_sweeps_modes_and_rates_unfold_and_exclusions_leave_out(demo: str) -> None:
    with transaction() as session:
        document = read_yaml(WRITTEN)
        unfolded = unfold(session, document)
        assert [case.setting.name for case in unfolded.cases] == [
            "Hard, 1×, drive 2 dB", "Hard, 1×, drive 4 dB", "Hard, 1×, drive 8 dB", "Soft, 8×"
        ]  # fmt: skip
        assert [case.setting.values["drive"] for case in unfolded.cases] == [2, 4, 8, 6.0]
        # 4 cases × 4 conditions, less 4 at 44.1 kHz in real time, less the bells in real time at 48 kHz.
        assert (unfolded.cells, unfolded.renders) == (11, 13)
        cost = cost_of(session, document, unfolded)
        assert cost.seconds is not None
        assert cost.most_bytes > 0
        revision = save_plan(session, document, who="Nora F.", now=NOW)
        build = find_build(session, revision.plan, "2.0.3")
        run = start_run(session, revision.plan_id, build.id, who="Nora F.", now=NOW)
        assert len(cells_of(session, run.id)) == 11


def test_a_condition_goes_before_a_case_and_a_case_before_the_plan(demo: str) -> None:
    """Judged so: a gain that the case forbids and the condition allows passes; what is left unjudged is not judged."""
    document = read_yaml(WRITTEN)
    with transaction() as session:
        limits = unfold(session, document).cases[0].limits
        assert "delay" not in limits
        assert limits["residual_rms"].at_most == -100
        revision = save_plan(session, document, who="Nora F.", now=NOW)
        assert {frozenset(own) for own in revision.condition_limits.values()} == {frozenset({"gain"})}
        tight = PlanLimit(at_least=-0.01, at_most=0.01)
        loud = PlanDocument(
            plan="Loud", effect="Skerry",
            cases=[PlanCase(signal="Sine sweep", setting="Soft, 4×", limits={"gain": tight, "residual_rms": PlanLimit(),
                                                                             "delay": PlanLimit()})],
            conditions=[
                PlanCondition(host="Almanac", version="7", modes=["offline"], rates=[48_000]),
                PlanCondition(host="Estuary", version="2", modes=["offline"], rates=[48_000],
                              limits={"gain": PlanLimit(at_least=-0.2, at_most=0.2)}),
            ],
        )  # fmt: skip
        made = save_plan(session, loud, who="Nora F.", now=NOW)
        build = find_build(session, made.plan, "2.1.0-rc1")
        run = start_run(session, made.plan_id, build.id, who="Nora F.", now=NOW).id
    drain()
    with transaction() as session:
        found = {c.condition.host: (c.verdict, c.broken) for c in cells_of(session, run)}
    assert found == {"Almanac": ("Fail", ["gain"]), "Estuary": ("Changed", [])}


def test_revisions_are_never_edited_and_tell_what_changed(demo: str) -> None:
    first = read_yaml(WRITTEN)
    second = first.model_copy(update={"cases": first.cases[:1], "exclude": [], "note": "shorter"})
    with transaction() as session:
        plan_id = save_plan(session, first, who="Nora F.", now=NOW).plan_id
        assert save_plan(session, second, who="Ivo K.", now=NOW).number == 2
        assert [document_of(session, one) for one in revisions_of(session, plan_id)] == [first, second]
        assert document_of(session, revision_numbered(session, plan_id, 1)) == first
        with pytest.raises(PlanNotFound):
            revision_numbered(session, plan_id, 3)
    assert differences(first, second) == [
        "case removed: Bell buoy strikes through Soft, 8×, 2 takes",
        "exclusion removed: mode real time, rate 44100",
        "exclusion removed: signal Bell buoy strikes, mode real time",
    ]


def test_plans_of_the_demo_are_written_out_and_read_as_what_they_are(seen: str) -> None:
    """They were made without a document; what is written of them must give the same cells and the same limits."""
    with transaction() as session:
        for plan in all_plans(session):
            revision = latest_revision(session, plan.id)
            unfolded = unfold(session, read_yaml(write_yaml(document_of(session, revision))))
            assert [case.setting.name for case in unfolded.cases] == [case.setting.name for case in revision.cases]
            assert len(unfolded.conditions) == len(revision.condition_ids)
            for asked, case in zip(unfolded.cases, revision.cases, strict=True):
                assert asked.takes == case.takes
                assert {k: (v.at_least, v.at_most) for k, v in asked.limits.items()} == {
                    k: (d["at_least"], d["at_most"]) for k, d in case.limits.items()
                }


@pytest.mark.parametrize("template", TEMPLATES, ids=lambda template: template.key)
def test_every_template_fits_every_effect(seen: str, template: Any) -> None:
    with transaction() as session:
        for name in session.scalars(select(Effect.name)):
            if template.key == "bands" and name not in ("Weir", "Sedge"):
                with pytest.raises(BadPlan, match="has no outputs to choose from"):
                    plan_from(session, template.key, name)
                continue
            if template.key == "fitness" and name not in ("Lantern", "Simple Amplifier"):
                with pytest.raises(BadPlan, match="is in no host of plug-ins"):
                    plan_from(session, template.key, name)
                continue
            document = plan_from(session, template.key, name)
            assert unfold(session, document).cells > 0, name
            assert read_yaml(write_yaml(document)) == document
            revision = save_plan(session, document.model_copy(update={"plan": "Tried"}), who="Nora F.", now=NOW)
            assert revision.cases
        session.rollback()


def test_the_bands_of_a_splitter_add_up_to_what_went_in_and_two_of_them_do_not(demo: str) -> None:
    """Three complementary bands of linear phase sum to the delayed input: the sum null of the trade."""
    with transaction() as session:
        document = plan_from(session, "bands", "Weir")
        where = PlanCondition(host="Almanac", version="7", modes=["offline"], rates=[48_000])
        document = document.model_copy(update={"conditions": [where], "plan": "Bands"})
        two = document.cases[0].model_copy(
            update={"sweep": Sweep(parameter="output", values=["low", "middle"], summed=True)}
        )
        document = document.model_copy(update={"cases": [*document.cases, two]})
        assert unfold(session, document).renders == 3 + 3 + 2
        plan = save_plan(session, document, who="Nora F.", now=NOW).plan_id
        assert document_of(session, latest_revision(session, plan)) == document
        build = find_build(session, latest_revision(session, plan).plan, "1.0")
        run = start_run(session, plan, build.id, who="Nora F.", now=NOW).id
    drain()
    with transaction() as session:
        sweep, bells, missing = cells_of(session, run)
        assert sweep.case.setting.name.endswith("output low + middle + high")
        for cell in (sweep, bells):
            assert (cell.verdict, cell.reference, cell.why) == ("Pass", None, cell.why), cell.why
            assert cell.measured["residual_rms"] < -100
        assert missing.verdict == "Fail"
        assert "residual_rms" in missing.broken
        assert missing.measured["residual_rms"] > -60
        assert "Differs from its signal: " in missing.why
        pair = cell_pair_body(session, missing)
        assert pair.reference is not None
        assert (pair.reference.name, pair.reference.detail) == ("Exponential sweep", "the signal itself")
    with transaction() as session:
        again = start_run(session, plan, build.id, who="Nora F.", now=NOW).id
    drain()
    with transaction() as session:
        cells = cells_of(session, again)
        assert [cell.reused for cell in cells] == [True, True, True]
        assert [cell.verdict for cell in cells] == ["Pass", "Pass", "Fail"]


def test_a_template_or_effect_that_is_not_there_is_refused(seen: str) -> None:
    with transaction() as session, pytest.raises(TemplateNotFound):
        plan_from(session, "nothing", "Skerry")
    with transaction() as session, pytest.raises(EffectNotFound):
        plan_from(session, "null", "Nothing")


def test_a_template_that_no_host_fits_says_so(seen: str) -> None:
    with transaction() as session:
        session.execute(update(Host).values(modes=[]))
        with pytest.raises(BadPlan, match="no host in which a known machine has Skerry renders as Null"):
            plan_from(session, "null", "Skerry")
        session.rollback()


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"effect": "Nothing"}, "there is no effect Nothing"),
        ({"cases": [{"signal": "Hum", "setting": "Idle"}]}, "cases.1: there is no signal Hum"),
        ({"cases": [{"signal": "Sine sweep", "setting": "X"}]}, "Skerry has no setting X"),
        ({"cases": [{"signal": "Sine sweep", "setting": "Idle"}] * 2}, "is there twice"),
        ({"cases": [{"signal": "Sine sweep", "setting": "Idle", "sweep": {"parameter": "x", "values": [1]}}]},
         "Skerry has no parameter x"),
        ({"cases": [{"signal": "Sine sweep", "setting": "Idle", "sweep": {"parameter": "drive", "values": [900]}}]},
         "drive cannot be 900"),
        ({"conditions": [{"host": "X", "version": "1", "modes": ["offline"], "rates": [48000]}]},
         "there is no host X 1"),
        ({"conditions": [{"host": "Bittern", "version": "5", "modes": ["real time"], "rates": [48000]}]},
         "Bittern 5 does not render real time"),
        ({"exclude": [{"host": "Almanac"}]}, "nothing is left to render"),
        ({"signals": {"Sine sweep": {"kind": "tone"}}}, "there is another signal of that name"),
        ({"signals": {"Hum": {"kind": "hum"}}}, "signals.Hum"),
        ({"settings": {"Idle": {"drive": 3.0}}}, "another setting of that name"),
        ({"settings": {"Odd": {"colour": 3.0}}}, "Skerry has no parameter colour"),
    ],
)  # fmt: skip
def test_what_a_plan_cannot_have_is_said_with_its_place_and_nothing_is_kept(
    seen: str, change: dict[str, Any], words: str
) -> None:
    document = check_document(read_yaml(WRITTEN).model_dump() | {"plan": "Bad"} | change)
    with transaction() as session:
        before = session.scalar(select(func.count()).select_from(PlanRevision))
    with pytest.raises(BadPlan, match=words), transaction() as session:
        save_plan(session, document, who="Nora F.", now=NOW)
    with transaction() as session:
        assert session.scalar(select(func.count()).select_from(PlanRevision)) == before


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("plan: [", "line 1"),
        ("just words", "no parts"),
        ("plan: X", "effect: Field required"),
        (WRITTEN + "colour: red", "colour: Extra inputs"),
        (WRITTEN.replace("gain:", "grain:"), "there is no measure grain"),
        (WRITTEN.replace("- {mode: real time, rate: 44100}", "- {}"), "exclude.1: an exclusion must name something"),
        (WRITTEN.replace("[44100, 48000]", "[44]"), "conditions.1.rates.1: Input should be greater"),
        (
            WRITTEN.replace("at_most: -100", "at_most: .inf"),
            "limits.residual_rms.at_most: Input should be a finite number",
        ),
        (WRITTEN.replace("[2, 4, 8]", "[2, .nan]"), "values.2.float: Input should be a finite number"),
        ("!!python/object/apply:os.system ['true']", "could not determine a constructor"),
        (WRITTEN.replace("How far it may be driven", "9" * 5000), "a value cannot be read"),
        (WRITTEN.replace("How far it may be driven", "2026-13-45"), "a value cannot be read: month must be in 1..12"),
        ("a: &a [x]\nb: *a", "line 2: an alias is not taken"),
        ("plan: " + "[" * 100_000, "line 1: it is nested deeper than any plan is"),
        ("[" + "1," * 300_000, "line 1: it has more than 200000 parts"),
        (
            WRITTEN.replace("[44100, 48000]", "[44100]")
            .replace("[2, 4, 8]", str(list(range(200))))
            .replace(
                "conditions:",
                "conditions:\n- {host: X, version: Y, modes: [offline], rates: [48000],"
                f" blocks: {list(range(1, 201))}}}",
            ),
            "cells, and 20000 are the most",
        ),
        (WRITTEN.partition("exclude:")[0] + "exclude: [" + "{}, " * 50 + "]", "and 30 more"),
    ],
)
def test_what_is_no_plan_is_refused_with_its_place(text: str, words: str) -> None:
    with pytest.raises(BadPlan) as caught:
        read_yaml(text)
    assert words in str(caught.value)


names = st.text(st.characters(codec="utf-8", categories=("L", "N", "P", "Zs")), min_size=1, max_size=20)
limits = st.dictionaries(
    st.sampled_from(sorted(MEASURES)),
    st.builds(PlanLimit, at_least=st.none() | st.floats(-200, 0), at_most=st.none() | st.floats(0, 200), because=names),
    max_size=2,
)
documents = st.builds(
    PlanDocument,
    plan=names, effect=names, note=names,
    cases=st.lists(
        st.builds(
            PlanCase, signal=names, setting=names, takes=st.integers(1, 9), limits=limits, measures=st.none(),
            sweep=st.none()
            | st.builds(Sweep, parameter=names, values=st.lists(st.floats(-9, 9) | names, min_size=1),
                        summed=st.booleans()),
            against=st.sampled_from(["reference", "signal"]),
        ),
        min_size=1, max_size=3,
    ),
    conditions=st.lists(
        st.builds(
            PlanCondition, host=names, version=names, modes=st.just(["offline"]), channels=st.integers(1, 2),
            rates=st.lists(st.sampled_from([8000, 44_100, 192_000]), min_size=1), blocks=st.lists(st.integers(1, 4096)),
            word_length=st.sampled_from(["FLOAT", "PCM_16"]), limits=limits,
        ),
        min_size=1, max_size=3,
    ),
    limits=limits, signals=st.just({}), settings=st.just({}),
    exclude=st.lists(st.builds(Exclusion, host=names), max_size=2),
)  # fmt: skip


@given(documents)
def test_any_plan_comes_back_from_its_yaml(document: PlanDocument) -> None:
    assert read_yaml(write_yaml(document)) == document
    assert differences(document, document) == []


def test_a_setting_out_of_its_bounds_is_refused_when_the_plan_is_kept(demo: str) -> None:
    with transaction() as session:
        before = session.scalar(select(func.count()).select_from(PlanRevision))
        for values, words in (
            ({"drive": 1e6}, "settings.Too hard: drive cannot be 1e+06: it must be a number from"),
            ({"shape": "purple"}, "settings.Too hard: shape cannot be purple: it must be one of"),
            ({"drive": "loud"}, "settings.Too hard: drive cannot be loud: it must be a number from"),
        ):
            document = read_yaml(WRITTEN)
            document.settings["Too hard"] = values  # type: ignore[assignment]
            document.cases.append(document.cases[0].model_copy(update={"setting": "Too hard", "sweep": None}))
            with pytest.raises(BadPlan, match=re.escape(words)):
                save_plan(session, document, who="Nora F.", now=NOW)
        assert session.scalar(select(func.count()).select_from(PlanRevision)) == before


def test_a_plan_from_a_template_has_as_many_channels_as_the_plug_in_takes(demo: str) -> None:
    """A plug-in of two inputs and two outputs renders no signal of one channel: every cell of it would fail."""
    with transaction() as session:
        effect = session.scalars(select(Effect).where(Effect.name == "Skerry")).one()
        effect.channels = [2]
        document = plan_from(session, "null", "Skerry")
        assert {one.channels for one in document.conditions} == {2}
        unfold(session, document)
        wrong = document.model_copy(update={"conditions": [one.model_copy(update={"channels": 1})
                                                           for one in document.conditions]})  # fmt: skip
        with pytest.raises(BadPlan, match=r"conditions\.1: Skerry takes 2 channels, not 1"):
            unfold(session, wrong)
        effect.channels = [6]
        with pytest.raises(BadPlan, match="takes 6 channels, and a plan renders 2 at the most"):
            plan_from(session, "null", "Skerry")
        session.rollback()


def _late_host(**others: Any) -> PlanDocument:
    tone = {"kind": "tone", "frequency": 997.0, "level": -6.0, "seconds": 1.0}
    stairs = {"kind": "staircase", "frequency": 997.0}
    names = ("Tone of it", "Stairs of it", "Bell buoy strikes")
    return check_document({
        "plan": "Expected", "effect": "Skerry", "signals": {"Tone of it": tone, "Stairs of it": stairs},
        "cases": [{"signal": one, "setting": "Soft, 8×"} for one in names],
        "conditions": [{"host": "Almanac", "version": "7", "modes": ["real time"], "rates": [48_000]} | others],
    })  # fmt: skip


def test_a_host_takes_a_latency_off_or_keeps_time_only_where_it_can(demo: str) -> None:
    document = _late_host(hosting=["by the clock", "latency off"])
    with transaction() as session:
        with pytest.raises(BadPlan, match="Almanac 7 cannot do this: latency off, by the clock"):
            unfold(session, document)
        host = session.scalars(select(Host).filter_by(name="Almanac", version="7")).one()
        host.hosting = ["latency off", "by the clock"]
        session.flush()
        revision = save_plan(session, document, who="Nora F.", now=NOW)
        plain = save_plan(session, _late_host(), who="Nora F.", now=NOW)
        assert revision.condition_ids != plain.condition_ids  # another condition than without
        assert read_yaml(write_yaml(document)) == document
        assert differences(_late_host(), document)[0] == (
            "condition added: Almanac 7, real time, latency off, by the clock, 48 kHz"
        )
        session.rollback()
    with pytest.raises(BadPlan, match="real time alone"):
        _late_host(modes=["real time", "offline"], hosting=["by the clock"])


def test_what_is_expected_of_a_setting_is_judged_in_every_plan(demo: str) -> None:
    unity = Expectation(law=Law(threshold=0, ratio=1), within=0.2, latency=64)
    with transaction() as session:
        first = save_plan(session, _late_host(), who="Nora F.", now=NOW)
        setting = first.cases[0].setting
        expect(session, setting.id, unity, who="Nora F.", now=NOW)
        second = save_plan(session, _late_host(), who="Nora F.", now=NOW)
        assert second.id != first.id
        assert save_plan(session, _late_host(), who="Nora F.", now=NOW).id == second.id
        tone, stairs, bells = second.cases
        within = {"at_least": -0.2, "at_most": 0.2}
        assert (tone.limits["law_error_tone"], stairs.limits["curve_error_worst"]) == (within, within)
        assert [case.limits["latency_told"] for case in second.cases] == [{"at_least": 64, "at_most": 64}] * 3
        assert tone.expected == stairs.expected == {"threshold": 0, "ratio": 1, "knee": 0, "makeup": 0}
        assert (bells.expected, "law_error_tone" in bells.limits) == (None, False)
        # What a plan says itself goes before.
        own = _late_host()
        own.cases[0].limits["law_error_tone"] = PlanLimit(at_most=3.0)
        assert save_plan(session, own, who="Nora F.", now=NOW).cases[0].limits["law_error_tone"]["at_most"] == 3.0
        expect(session, setting.id, None, who="Nora F.", now=NOW)
        assert save_plan(session, _late_host(), who="Nora F.", now=NOW).cases[0].expected is None
        session.rollback()
    with pytest.raises(ValueError, match="nothing is expected"):
        Expectation()
