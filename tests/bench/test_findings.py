"""The grouping of cells into findings, on cells made by hand; and what holds for any cells."""

import itertools
import json
import random
from collections.abc import Mapping
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kind_echo.bench.machines import Grid, describe
from kind_echo.bench.machines.boxes import MOST_BOXES
from kind_echo.bench.plans import null_test_limits
from kind_echo.bench.sheets.findings import FACTORS, find
from kind_echo.core.causes.cause import Cause, CauseName
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import MEASURES, find_measure
from kind_echo.core.registry.readings import Reading
from kind_echo.core.verdicts.rules import not_rendered
from kind_echo.core.verdicts.symptoms import Examined, symptoms_of
from kind_echo.core.verdicts.verdict import NOT_RENDERED, Ground, JudgedReading, Verdict, VerdictName
from kind_echo.wording.figures import samples

LIMITS = null_test_limits()
FIT_MEASURES = sorted(
    {*LIMITS, "latency_error", "latency_first", "fundamental_level"}
    - {key for key, measure in MEASURES.items() if measure.unfit}
)
VALUES = {
    "host": ("Almanac", "Bittern", "Estuary"), "mode": ("in real time", "offline"), "rate": ("44.1 kHz", "96 kHz"),
    "setting": ("Hard", "Soft"), "signal": ("Tone", "Sweep"), "block": ("blocks of 128",),
}  # fmt: skip
PLACES = [dict(zip(FACTORS, values, strict=True)) for values in itertools.product(*(VALUES[f] for f in FACTORS))]
PASSED = {"identical": 1.0}


_GROUNDS: dict[VerdictName, Ground] = {
    "Pass": "identical", "Fail": "limit broken", "Changed": "changed", "No reading": "no value",
    "Waiting": "no reference",
}  # fmt: skip


def _cell(
    number: int, place: Mapping[str, str], name: VerdictName = "Pass", *broken: str, **measured: float
) -> Examined:
    unfit = any(key in MEASURES and find_measure(key).unfit for key in broken)
    found = tuple(
        JudgedReading(
            Reading(key, "all", measured.get(key, 0.0) if name == "Fail" else None, "why"), Limit(at_most=0.0)
        )
        for key in broken
        if key in MEASURES
    )
    ground = "unfit" if unfit else _GROUNDS[name]
    verdict = Verdict(name, ground, found, ink=0.5 if broken else 0.0)
    rendered = NOT_RENDERED not in broken
    return Examined(
        number, verdict if rendered else not_rendered("why"), True, rendered, measured or PASSED, (), LIMITS, place
    )  # fmt: skip


def _late(samples: float = 1.0) -> dict[str, float]:
    return {"delay": samples, "account_raw": -30.0, "account_delay": -130.0, "account_fraction": -140.0}


def _everywhere(**where: str) -> set[int]:
    return {i for i, place in enumerate(PLACES) if all(place[k] == v for k, v in where.items())}


def _run(*faults: tuple[set[int], str, tuple[str, ...], dict[str, float]]) -> list[Examined]:
    """Cells at all places; of the faults the first that holds at a place shows."""
    cells = []
    for i, place in enumerate(PLACES):
        here = next((fault for fault in faults if i in fault[0]), None)
        cells.append(_cell(i, place) if here is None else _cell(i, place, here[1], *here[2], **here[3]))  # type: ignore[arg-type]
    return cells


def test_two_faults_in_two_hosts_are_two_findings_even_where_one_hides_the_other() -> None:
    silent = _everywhere(host="Bittern", rate="44.1 kHz")
    wrong = _everywhere(setting="Soft", rate="44.1 kHz")
    residual = {"residual_rms": -50.0}
    found = find(_run((silent, "Fail", ("lead_in_excess",), residual), (wrong, "Fail", ("residual_rms",), residual)))
    assert {f.headline: (f.where, set(f.cells)) for f in found} == {
        "Silence at the start": ("in Bittern, at 44.1 kHz", silent),
        "Differs from the reference": ("at 44.1 kHz, with Soft", wrong - silent),
    }


def test_what_a_delay_explains_is_one_finding_with_it_and_other_delays_are_others() -> None:
    almanac, estuary = _everywhere(host="Almanac"), _everywhere(host="Estuary")
    found = find(_run(
        (almanac, "Fail", ("residual_rms", "delay"), _late(1.0)),
        (estuary, "Fail", ("residual_rms", "delay"), _late(-64.0)),
    ))  # fmt: skip
    assert [(f.headline, f.where) for f in found] == [
        ("1 sample late", "in Almanac"), ("64 samples early", "in Estuary")
    ]  # fmt: skip


def test_a_difference_that_the_delay_does_not_explain_stands_beside_it() -> None:
    both = {
        "delay": 1.0,
        "account_raw": -30.0,
        "account_delay": -40.0,
        "account_fraction": -45.0,
        "residual_rms": -30.0,
    }
    found = find(_run((_everywhere(host="Almanac"), "Fail", ("residual_rms", "delay"), both)))
    assert [f.headline for f in found] == ["1 sample late; Differs from the reference"]


def test_a_finding_by_aliases_names_the_orders() -> None:
    """Of all its cells; where the reference has some of them, they are not new."""
    cells = _run((_everywhere(host="Almanac"), "Fail", ("residual_rms",), {"residual_rms": -50.0}))
    tone = [cell.factors["signal"] == "Tone" for cell in cells]
    new, more = (Cause("aliasing", orders=span, is_new=True) for span in ((23, 27), (21, 25)))
    (found,) = find([cell._replace(causes=(new if on else more,)) for cell, on in zip(cells, tone, strict=True)])
    assert found.headline == "Aliases: new orders 21 to 27"
    known, one = Cause("aliasing", orders=(3, 3)), Cause("unexplained")
    (found,) = find([cell._replace(causes=(known if on else one,)) for cell, on in zip(cells, tone, strict=True)])
    assert found.headline == "Aliases: order 3, where a cause is known"
    assert Cause.of(json.loads(json.dumps(new.document()))) == new


@pytest.mark.parametrize(
    ("causes", "headline"),
    [
        (("aliasing", "aliasing"), "Differs from the reference by aliases"),
        (("aliasing", "unexplained"), "Differs from the reference by aliases, where a cause is known"),
        (("aliasing", "noise"), "Differs from the reference"),
        (("unexplained", "unexplained"), "Differs from the reference"),
    ],
)
def test_a_finding_has_the_cause_that_its_cells_share(causes: tuple[CauseName, CauseName], headline: str) -> None:
    cells = _run((_everywhere(host="Almanac"), "Fail", ("residual_rms",), {"residual_rms": -50.0}))
    tone = [cell.factors["signal"] == "Tone" for cell in cells]
    cells = [
        cell._replace(causes=(Cause(causes[0] if on else causes[1]),)) for cell, on in zip(cells, tone, strict=True)
    ]
    (found,) = find(cells)
    assert found.headline == headline


@pytest.mark.parametrize(
    ("broken", "measured", "shown"),
    [
        (("delay", "latency_error"), {"delay": 64.0, "latency_error": 64.0}, "64 samples late"),
        (("delay", "latency_first"), {"delay": 64.0, "latency_first": 64.0}, "64 samples late"),
        (("gaps", "residual_rms", "clicks"), {"gaps": 2.0, "residual_rms": -40.0, "clicks": 4.0}, "Gaps"),
        (("channel_swap", "polarity", "delay"), {"channel_swap": 1.0, "delay": 3.0}, "Channels swapped"),
        (("gain", "fundamental_level"), {"gain": -3.0, "fundamental_level": -3.05}, "3.00 dB down"),
        (("gain", "fundamental_level"), {"gain": -3.0, "fundamental_level": -3.2},
         "3.00 dB down; Level of the tone is off"),
        (("latency_error", "latency_first"), {"latency_error": 64.0, "latency_first": 65.0},
         "Later or earlier than claimed"),
    ],
)  # fmt: skip
def test_what_follows_from_another_fault_is_no_fault_by_itself(
    broken: tuple[str, ...], measured: dict[str, float], shown: str
) -> None:
    cells = [_cell(0, PLACES[0], "Fail", *broken, **measured), *(_cell(i, PLACES[i]) for i in (1, 2, 3))]
    assert "; ".join(sorted({f.headline for f in find(cells)}, key=len)) in (shown, "; ".join(shown.split("; ")))


def test_a_cell_that_fails_is_in_a_finding_though_it_was_not_kept_which_limit_broke() -> None:
    cells = [_cell(0, PLACES[0], "Fail"), *(_cell(i, PLACES[i]) for i in (1, 2, 3))]
    assert [(f.headline, f.cells, f.worst) for f in find(cells)] == [("A limit is broken", (0,), "")]


def test_the_worst_of_a_finding_is_the_cell_with_most_ink() -> None:
    cells = [
        _cell(i, PLACES[i], "Fail", "thd", thd=value)._replace(decided=False) for i, value in enumerate((-60.0, -20.0))
    ]
    inked = [cell._replace(verdict=replace(cell.verdict, ink=ink)) for cell, ink in zip(cells, (0.2, 0.6), strict=True)]
    assert [f.worst for f in find(inked)] == ["−20.00 dB"]


def test_one_symptom_in_two_places_that_share_nothing_is_two_findings() -> None:
    apart = _everywhere(host="Almanac", setting="Hard"), _everywhere(host="Estuary", setting="Soft")
    found = find(_run(*((cells, "Fail", ("clicks",), {"clicks": 3.0}) for cells in apart)))
    assert sorted(f.where for f in found) == ["in Almanac, with Hard", "in Estuary, with Soft"]


def test_the_graver_and_the_undecided_come_first() -> None:
    found = find(_run(
        (_everywhere(host="Almanac"), "Changed", (), {"residual_rms": -130.0}),
        (_everywhere(host="Bittern"), "No reading", ("gain",), {"residual_rms": -130.0}),
        (_everywhere(host="Estuary", rate="96 kHz"), "Fail", (NOT_RENDERED,), {}),
    ))  # fmt: skip
    assert [f.verdict for f in found] == ["No reading", "No reading", "Changed"]
    assert len(found[0].cells) > len(found[1].cells)


def test_no_cells_have_no_findings() -> None:
    assert find([]) == []
    assert find([_cell(0, PLACES[0])]) == []


def test_findings_come_by_verdict_then_by_what_is_undecided_then_by_cells() -> None:
    kinds: list[tuple[str, tuple[VerdictName, tuple[str, ...]]]] = [
        ("Almanac", ("Waiting", ())), ("Bittern", ("Changed", ())), ("Estuary", ("Fail", ("clicks",)))
    ]  # fmt: skip
    run = _run(*((_everywhere(host=host), *told, {"clicks": 3.0}) for host, told in kinds))
    assert [f.verdict for f in find(run)] == ["Fail", "Changed", "Waiting"]
    run = _run(*((_everywhere(host=host), *told, {"clicks": 3.0})
                 for host, told in (("Almanac", ("No reading", ("gain",))), kinds[2])))  # fmt: skip
    assert [f.verdict for f in find(run)] == ["Fail", "No reading"]
    few, many = _everywhere(host="Almanac", rate="96 kHz"), _everywhere(host="Estuary")
    run = _run((few, "Fail", ("clicks",), {"clicks": 3.0}), (many, "Fail", ("gaps",), {"gaps": 3.0}))
    assert [(f.cells, f.undecided) for f in find(run)] == [
        (tuple(sorted(many)), len(many)), (tuple(sorted(few)), len(few))
    ]  # fmt: skip
    settled = [cell._replace(decided=cell.id in many) for cell in run]
    assert [(f.headline, f.undecided) for f in find(settled)] == [("Clicks", len(few)), ("Gaps", 0)]
    done = [cell._replace(decided=True) for cell in run]
    assert [f.headline for f in find(done)] == ["Gaps", "Clicks"]


@pytest.mark.parametrize(
    ("delays", "count"),
    [
        # Apart by more than 0.2 samples, and by more than a fiftieth of the greater.
        ((1.0, 1.1875), 1), ((1.0, 1.25), 2), ((0.0, 0.1875), 1), ((0.0, 0.25), 2), ((-0.1875, 0.0), 1),
        ((-0.25, 0.0), 2), ((100.0, 102.0), 1), ((100.0, 103.0), 2), ((-102.0, -100.0), 1), ((-103.0, -100.0), 2),
        ((10.0, 10.25), 2), ((-10.25, -10.0), 2),
    ],
)  # fmt: skip
def test_amounts_that_lie_close_together_are_one_finding(delays: tuple[float, float], count: int) -> None:
    cells = [
        _cell(i, place, "Fail", "delay", delay=delays[place["host"] == "Estuary"])
        for i, place in enumerate(PLACES)
        if place["host"] != "Bittern"
    ]
    assert len(find(cells)) == count


def test_a_chain_of_amounts_is_one_finding_that_is_called_by_its_middle() -> None:
    amounts = dict(zip(VALUES["host"], (1.0, 1.125, 1.25), strict=True))
    (found,) = find([_cell(i, p, "Fail", "delay", delay=amounts[p["host"]]) for i, p in enumerate(PLACES)])
    assert (found.symptoms[0].amount, found.headline) == (1.125, "1.12 samples late")
    apart = amounts | {"Estuary": 9.0}
    first, second = find([_cell(i, p, "Fail", "delay", delay=apart[p["host"]]) for i, p in enumerate(PLACES)])
    assert {first.symptoms[0].amount, second.symptoms[0].amount} == {1.125, 9.0}


def test_what_shows_wherever_it_is_judged_in_a_wider_finding_belongs_to_it() -> None:
    """No limit holds for the distortion but where it is broken."""
    here = _everywhere(host="Almanac", signal="Tone")
    cells = _run(
        (here, "Fail", ("clicks", "thd"), {"clicks": 3.0, "thd": -20.0}),
        (_everywhere(host="Almanac"), "Fail", ("clicks",), {"clicks": 3.0}),
    )
    (found,) = find(cells)
    assert (found.headline, found.where) == ("Clicks; Harmonic distortion", "in Almanac")


def test_a_finding_has_a_short_key_a_place_and_the_worst_cell_of_those_that_are_as_bad() -> None:
    cells = [_cell(i, place, "Fail", "thd", thd=-60.0 + i) for i, place in enumerate(PLACES)]
    (found,) = find(cells)
    assert (len(found.key), found.where, found.worst) == (12, "everywhere", "−60.00 dB")
    assert found.key != find(cells[1:])[0].key
    other = [*cells[1:], _cell(0, PLACES[0], residual_rms=-130.0)]  # of which the distortion is not known
    assert [f.where for f in find(other)] == ["wherever it can be measured"]


def test_two_cells_alike_in_every_factor_do_not_contradict_each_other() -> None:
    cells = [_cell(0, PLACES[0], "Fail", "clicks", clicks=2.0), _cell(1, PLACES[0]), _cell(2, PLACES[-1])]
    assert [f.cells for f in find(cells)] == [(0,)]


@pytest.mark.parametrize(
    ("count", "said"),
    [(1.0, "1 sample"), (64.004, "64 samples"), (0.5, "0.50 samples"), (2.96, "2.96 samples"), (2.997, "3 samples")],
)
def test_samples_in_words(count: float, said: str) -> None:
    assert samples(count) == said


marks = st.lists(st.sampled_from(["pass", "fail", "unknown"]), min_size=len(PLACES), max_size=len(PLACES))


@settings(max_examples=60)
@given(marks)
def test_boxes_hold_every_positive_cell_once_and_no_negative_one(marked: list[str]) -> None:
    grid = Grid.of(PLACES, FACTORS)
    positive, negative = np.array([m == "fail" for m in marked]), np.array([m == "pass" for m in marked])
    boxes = describe(grid, positive, negative)
    members = [i for box in boxes for i in box.members]
    assert sorted(members) == list(np.flatnonzero(positive))
    assert len(boxes) <= MOST_BOXES
    for box in boxes if len(boxes) > 1 else []:
        inside = [i for i, place in enumerate(PLACES) if all(place[k] in v for k, v in box.values.items())]
        assert not negative[inside].any()


@settings(max_examples=60)
@given(st.fixed_dictionaries({k: st.sets(st.sampled_from(v), min_size=1) for k, v in VALUES.items()}))
def test_a_fault_of_some_values_is_one_box_that_names_the_factors_that_count(
    wrong: dict[str, set[str]],
) -> None:
    grid = Grid.of(PLACES, FACTORS)
    positive = np.array([all(place[k] in v for k, v in wrong.items()) for place in PLACES])
    (box,) = describe(grid, positive, ~positive)
    assert {k: set(v) for k, v in box.values.items()} == {k: v for k, v in wrong.items() if len(v) < len(VALUES[k])}


@settings(max_examples=30)
@given(marks, st.integers())
def test_findings_do_not_depend_on_the_order_of_the_cells_and_miss_none(marked: list[str], seed: int) -> None:
    kinds = {"pass": ("Pass", ()), "fail": ("Fail", ("residual_rms",)), "unknown": ("Fail", ("silent",))}
    cells = [
        _cell(i, place, kinds[mark][0], *kinds[mark][1], residual_rms=-50.0)  # type: ignore[arg-type]
        for i, (place, mark) in enumerate(zip(PLACES, marked, strict=True))
    ]
    found = find(cells)
    assert {n for f in found for n in f.cells} == {i for i, mark in enumerate(marked) if mark != "pass"}
    assert find(cells) == found
    shuffled = random.Random(seed).sample(cells, len(cells))
    assert {n for f in find(shuffled) for n in f.cells} == {n for f in found for n in f.cells}


@given(
    st.sets(st.sampled_from(FIT_MEASURES), min_size=1, max_size=6),
    st.dictionaries(st.sampled_from(["account_raw", "account_delay", "account_polarity", "account_gain",
                                     "account_fraction"]), st.floats(-150, 0)),
    st.floats(-100, 100),
)  # fmt: skip
def test_whatever_breaks_a_cell_that_fails_shows_something(
    broken: set[str], account: dict[str, float], value: float
) -> None:
    """No measure may be put down to another that is put down to it."""
    cell = _cell(0, PLACES[0], "Fail", *sorted(broken), **dict.fromkeys(broken, value), **account)
    assert symptoms_of(cell)
