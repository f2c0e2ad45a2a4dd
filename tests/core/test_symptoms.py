"""What a cell shows of what broke in it, what it is put down to, and which cells speak against it. The bounds are this
product's choice.
"""

from collections.abc import Sequence
from typing import Any

import pytest

from kind_echo.core.causes.cause import Cause, CauseName
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import MEASURES, default_limits
from kind_echo.core.registry.readings import Reading
from kind_echo.core.verdicts.rules import not_rendered
from kind_echo.core.verdicts.symptoms import Examined, Symptom, judged_for, symptoms_of, together
from kind_echo.core.verdicts.verdict import NOT_RENDERED, Ground, JudgedReading, Verdict, VerdictName

LIMITS = default_limits(("integrity", "compare")) | {
    "fundamental_level": Limit(-31.0, -29.0), "latency_error": Limit(-0.5, 0.5), "latency_first": Limit(-0.5, 0.5),
}  # fmt: skip


def _cell(
    *broken: str,
    name: VerdictName = "Fail",
    ground: Ground = "limit broken",
    finished: bool = True,
    rendered: bool = True,
    causes: tuple[Cause, ...] = (),
    other: str = "the reference",
    **measured: float,
) -> Examined:
    found = tuple(JudgedReading(Reading(key, "all", measured.get(key)), LIMITS.get(key)) for key in broken)
    verdict = Verdict(name, ground, found, other)
    return Examined(0, verdict, finished, rendered, measured, causes, LIMITS, {})


def _shown(cell: Examined) -> list[str | None]:
    return [symptom.measure for symptom in symptoms_of(cell)]


def _fail(measure: str | None, **also: object) -> Symptom:
    return Symptom("Fail", "limit broken", measure, **also)  # type: ignore[arg-type]


def test_what_passes_or_is_under_way_shows_nothing() -> None:
    assert symptoms_of(_cell(name="Pass", ground="identical")) == []
    assert symptoms_of(_cell("thd", thd=-20.0, finished=False)) == []
    assert not _cell().decided  # somebody has to look unless it is said otherwise


def test_what_rests_on_no_broken_limit_names_the_measure_that_has_no_value_but_not_the_one_that_changed() -> None:
    assert _shown(_cell("gain", name="No reading", ground="no value")) == ["gain"]
    assert _shown(_cell("residual_rms", name="Changed", ground="changed", residual_rms=-130.0)) == [None]
    assert _shown(_cell(name="Waiting", ground="no reference")) == [None]
    (shown,) = symptoms_of(_cell("gain", name="No reading", ground="no value", other="Almanac 7"))
    assert (shown.other, shown.found) == ("Almanac 7", JudgedReading(Reading("gain", "all", None), LIMITS["gain"]))


def test_symptoms_of_one_kind_are_equal_whatever_their_amounts() -> None:
    found = JudgedReading(Reading("delay", "all", 3.0))
    cause: CauseName = "delay"
    told = _fail("delay", why="it crashed", found=found, amount=3.0, cause=cause, orders=(1, 2), is_new=True,
                 elsewhere=True)  # fmt: skip
    assert {told, _fail("delay")} == {told}
    assert _fail("delay") != _fail("gain")
    assert _fail("residual_rms", other="Almanac 7") != _fail("residual_rms")


def test_what_makes_a_render_unfit_comes_first_and_what_follows_from_something_after_it() -> None:
    def ranks(*keys: str | None) -> bool:
        found = [_fail(key).rank for key in keys]
        return found == sorted(found)

    assert ranks("silent", "channel_swap", "delay", None, "residual_rms")
    assert ranks("silent", "gaps", "clicks", "thd")
    assert ranks("thd", "thd_n")
    assert not ranks("thd_n", "thd")
    for key, measure in MEASURES.items():
        assert all(_fail(other).rank < _fail(key).rank for other in measure.follows)
    assert (_fail("channel_swap").rank[2], _fail("gaps").rank[2], _fail("clicks").rank[2]) == (0, 1, 2)
    assert _fail(None).rank == _fail(NOT_RENDERED).rank == (True, True, 0, 0)


@pytest.mark.parametrize(
    ("broken", "account", "shown"),
    [
        # What is left is under −100 dBFS, or 40 dB lower than before.
        (("delay", "residual_rms"), {"raw": -80.0, "delay": -90.0, "fraction": -100.0}, ["delay"]),
        (("delay", "residual_rms"), {"raw": -80.0, "delay": -90.0, "fraction": -99.9}, ["delay", "residual_rms"]),
        (("delay", "residual_rms"), {"raw": -30.0, "delay": -40.0, "fraction": -70.0}, ["delay"]),
        (("delay", "residual_rms"), {"raw": -30.0, "delay": -40.0, "fraction": -69.9}, ["delay", "residual_rms"]),
        (("delay", "residual_rms"), {"delay": -40.0, "fraction": -70.0}, ["residual_rms"]),
        # Taking it off lowers the residual by 3 dB, or to nothing that has a level.
        (("delay", "residual_rms"), {"raw": -80.0, "delay": -83.0, "fraction": -120.0}, ["delay"]),
        (("delay", "residual_rms"), {"raw": -80.0, "delay": -82.9, "fraction": -120.0}, ["residual_rms"]),
        (("delay", "residual_rms"), {"raw": -80.0}, ["delay"]),
        (("delay", "residual_rms"), {}, ["residual_rms"]),
        (("gain", "residual_rms"),
         {"raw": -30.0, "delay": -30.0, "polarity": -30.0, "gain": -90.0, "fraction": -120.0}, ["gain"]),
        (("gain", "residual_rms"),
         {"raw": -30.0, "delay": -30.0, "polarity": -90.0, "gain": -90.0, "fraction": -120.0}, ["residual_rms"]),
        # Off an inverted render the delay by itself lowers nothing: what both lower together counts.
        (("delay", "polarity", "residual_rms"),
         {"raw": -30.0, "delay": -30.0, "polarity": -110.0, "gain": -110.0, "fraction": -120.0}, ["delay", "polarity"]),
        (("delay", "polarity", "residual_rms"),
         {"raw": -30.0, "delay": -30.0, "polarity": -31.0, "gain": -110.0, "fraction": -120.0}, ["residual_rms"]),
        (("polarity", "residual_rms"),
         {"raw": -30.0, "delay": -30.0, "polarity": -110.0, "gain": -110.0, "fraction": -120.0}, ["polarity"]),
        # Without a difference that is too great, a delay stands whatever taking it off lowers.
        (("delay",), {"raw": -30.0, "delay": -30.0}, ["delay"]),
    ],
)  # fmt: skip
def test_a_difference_is_put_down_to_what_explains_it(
    broken: Sequence[str], account: dict[str, Any], shown: list[str]
) -> None:
    assert _shown(_cell(*broken, **{f"account_{step}": value for step, value in account.items()})) == shown


@pytest.mark.parametrize(
    ("broken", "measured", "shown"),
    [
        (("channel_swap", "delay", "residual_rms"), {}, ["channel_swap"]),
        (("gaps", "clicks"), {}, ["gaps"]),
        (("clicks", "thd"), {}, ["clicks", "thd"]),
        # A level that is off by as much as the gain is the gain's: within 0.1 dB of the middle of its limits.
        (("gain", "fundamental_level"), {"gain": -3.0, "fundamental_level": -33.0}, ["gain"]),
        (("gain", "fundamental_level"), {"gain": -3.0, "fundamental_level": -33.09}, ["gain"]),
        (("gain", "fundamental_level"), {"gain": -3.0, "fundamental_level": -32.91}, ["gain"]),
        (("gain", "fundamental_level"), {"gain": -3.0, "fundamental_level": -33.125}, ["gain", "fundamental_level"]),
        (("gain", "fundamental_level"), {"gain": -3.0, "fundamental_level": -27.0}, ["gain", "fundamental_level"]),
        (("fundamental_level",), {"gain": -3.0, "fundamental_level": -33.0}, ["fundamental_level"]),
        (("latency_error", "latency_first"), {"latency_error": 64.0, "latency_first": 65.0}, ["latency_error"]),
        (("latency_error", "latency_first"), {"latency_error": 64.0, "latency_first": 66.0},
         ["latency_error", "latency_first"]),
    ],
)  # fmt: skip
def test_a_measure_that_repeats_or_follows_another_is_no_symptom_by_itself(
    broken: Sequence[str], measured: dict[str, Any], shown: list[str]
) -> None:
    assert _shown(_cell(*broken, **measured)) == shown


def test_amounts_tell_how_far_a_reading_is_off_beyond_what_it_repeats() -> None:
    def amounts(*broken: str, **measured: Any) -> list[float | None]:
        return [symptom.amount for symptom in symptoms_of(_cell(*broken, **measured))]

    assert amounts("delay", delay=-64.0) == [-64.0]
    assert amounts("delay") == [0.0]
    assert amounts("thd", thd=-20.0) == [None]
    assert amounts("fundamental_level", fundamental_level=-33.0) == [-3.0]
    assert amounts("gain", "fundamental_level", gain=-3.0, fundamental_level=-34.0) == [-3.0, -1.0]


def test_a_difference_has_its_cause_where_one_alone_explains_it_and_names_what_it_was_compared_with() -> None:
    aliases = Cause("aliasing", orders=(23, 27), is_new=True)
    measured: dict[str, Any] = {"residual_rms": -50.0}
    (one,) = symptoms_of(_cell("residual_rms", causes=(aliases,), other="Almanac 7", **measured))
    assert (one.cause, one.orders, one.is_new, one.other) == ("aliasing", (23, 27), True, "Almanac 7")
    (two,) = symptoms_of(_cell("residual_rms", causes=(aliases, Cause("noise")), **measured))
    assert (two.cause, two.orders, two.is_new, two.elsewhere) == (None, None, False, False)
    (level,) = symptoms_of(_cell("thd", causes=(aliases,), other="Almanac 7", thd=-20.0))
    assert (level.cause, level.is_new, level.other) == (None, False, "")


def test_a_symptom_of_several_cells_has_the_cause_that_all_of_them_share() -> None:
    def whole(*told: tuple[CauseName | None, tuple[int, int] | None, bool]) -> Symptom:
        return together([_fail("residual_rms", cause=cause, orders=orders, is_new=new) for cause, orders, new in told])

    new = whole(("aliasing", (5, 9), True), ("aliasing", (3, 7), True))
    assert (new.cause, new.orders, new.is_new, new.elsewhere) == ("aliasing", (3, 9), True, False)
    some = whole(("unexplained", None, False), ("aliasing", (5, 9), True))
    assert (some.cause, some.orders, some.is_new, some.elsewhere) == ("aliasing", (5, 9), True, True)
    assert whole(("aliasing", None, True), ("aliasing", (3, 7), False)).is_new is False
    assert whole(("aliasing", None, True), ("noise", None, True)).cause is None
    assert whole(("unexplained", None, False)).cause is None
    none = whole((None, None, False), ("unexplained", None, False))
    assert (none.cause, none.elsewhere) == (None, False)


@pytest.mark.parametrize(
    ("symptom", "cell", "speaks"),
    [
        (_fail("thd"), _cell(name="Pass", ground="identical", thd=-90.0, finished=False), False),
        (Symptom("Fail", "unfit", "silent"), _cell(name="Pass", ground="identical"), True),
        (Symptom("Fail", "unfit", "silent"), _cell("silent", ground="unfit", silent=1.0), False),
        (Symptom("Fail", "unfit", "silent"), _cell(name="Fail", ground="not rendered", rendered=False), False),
        (Symptom("Fail", "not rendered", NOT_RENDERED), _cell("silent", ground="unfit", silent=1.0), True),
        (Symptom("Fail", "not rendered", NOT_RENDERED), _cell(ground="not rendered", rendered=False), False),
        (_fail("thd"), _cell(ground="not rendered", rendered=False, thd=-90.0), False),
        (_fail("thd"), _cell("silent", ground="unfit", silent=1.0, thd=-90.0), False),
        # What rests on no limit is spoken against by what passes, or rests on as little.
        (Symptom("Changed", "changed"), _cell(name="Pass", ground="identical"), True),
        (Symptom("Changed", "changed"), _cell(name="Changed", ground="changed"), True),
        (Symptom("Changed", "changed"), _cell("thd", thd=-20.0), False),
        (Symptom("No reading", "no value", "gain"), _cell(name="Pass", ground="identical", gain=0.0), True),
        (Symptom("No reading", "no value", "gain"), _cell(name="Waiting", ground="no reference", gain=0.0), False),
        (Symptom("Fail", "limit broken"), _cell("gain", gain=-3.0), True),
        # A broken limit is spoken against where it holds, and the cell was measured and judged by it.
        (_fail("gain"), _cell(name="Pass", ground="null", gain=0.0), True),
        (_fail("gain"), _cell("clicks", clicks=3.0, gain=0.0), True),
        (_fail("gain"), _cell(name="Pass", ground="null"), False),
        (_fail("gain"), _cell(name="Pass", ground="identical", identical=1.0), True),
        (_fail("gain"), _cell(name="Pass", ground="identical", identical=0.0), False),
        (_fail("thd"), _cell(name="Pass", ground="null", thd=-90.0), False),  # no limit holds for it
        (_fail("gain"), _cell(name="No reading", ground="no value", gain=0.0), False),
        (_fail("gain"), _cell(name="Waiting", ground="no reference", gain=0.0), False),
        (_fail("gain"), _cell(name="Changed", ground="changed", gain=0.0), False),
        # So does a cell in which it is broken by itself, and was grouped elsewhere; not where it follows.
        (_fail("gain"), _cell("gain", gain=-3.0), True),
        (_fail("gain"), _cell("channel_swap", "gain", channel_swap=1.0, gain=-3.0), False),
    ],
)  # fmt: skip
def test_a_cell_speaks_against_a_symptom_only_where_it_could_have_shown_it(
    symptom: Symptom, cell: Examined, speaks: bool
) -> None:
    assert judged_for(cell, symptom) is speaks


def test_what_was_not_rendered_says_what_came_of_it() -> None:
    verdict = not_rendered("it crashed")
    (shown,) = symptoms_of(Examined(0, verdict, True, False, {}, (), LIMITS, {}))
    assert (shown.ground, shown.why) == ("not rendered", "it crashed")
