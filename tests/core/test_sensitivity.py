"""Faults planted into approved renders: their closed forms, the least that is noticed, what cells notice together."""

import math
from collections.abc import Callable, Mapping
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal as scipy_signal

from kind_echo.core.audio.source import ArraySource, Samples, Source
from kind_echo.core.comparison.account import STEPS
from kind_echo.core.comparison.compare import compare_as_it_is
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import default_limits
from kind_echo.core.registry.readings import Reading
from kind_echo.core.sensitivity.closing import limit_that_notices, signals_that_show
from kind_echo.core.sensitivity.fault import Fault
from kind_echo.core.sensitivity.faults import BY_KEY, FAULTS
from kind_echo.core.sensitivity.least import Least, least_noticed
from kind_echo.core.sensitivity.noticing import Approved, Noticer
from kind_echo.core.sensitivity.summary import Cell, cover, rows_of, wanted_size
from kind_echo.core.signals import make_request, synthesise
from kind_echo.core.systems.latency import LatencyOptions, measure_latency
from kind_echo.core.tones.tone import ToneOptions, measure_tone

R = 48_000
USUAL = default_limits(("integrity", "compare"))
SOUNDS: Mapping[str, Callable[[], Samples]] = {
    "pink, apart": lambda: _made(kind="noise", color="pink", level=-20, seconds=0.8, channels=2, placement="apart"),
    "tone": lambda: _made(kind="tone", frequency=997.0, seconds=0.6, lead_in=0.05, tail=0.05),
    "sweep": lambda: _made(kind="sweep", level=-9.0, seconds=0.8, channels=2),
    "clicks": lambda: _made(kind="clicks", seconds=1.0),
    "bells": lambda: _made(kind="bells", seconds=1.0, tail=0.2),
}  # fmt: skip


def _made(**asked: Any) -> Samples:
    return synthesise(make_request(**asked), R)


def _least(samples: Samples, key: str, limits: Mapping[str, Limit] = USUAL, **others: object) -> Least:
    (found,) = least_noticed(Approved(samples, R, limits, **others), [BY_KEY[key]])  # type: ignore[arg-type]
    return found


def _planted(samples: Samples, key: str, size: float) -> Samples:
    grow = BY_KEY[key].prepare(samples, R)
    assert grow is not None
    return grow(size)


def _level(samples: Samples) -> float:
    return 10 * math.log10(2 * float(np.mean(samples**2)))


# The closed forms


def test_levels_of_what_is_added_are_what_they_are_called() -> None:
    silence = np.zeros((R, 2))
    for key, expected in {"noise": -40.0, "hum": -40.0, "dc": -40.0 + 10 * math.log10(2)}.items():
        assert _level(_planted(silence, key, -40.0)) == pytest.approx(expected, abs=0.05)
    assert np.abs(_planted(silence, "click", -40.0)).max() == pytest.approx(0.01)


def test_a_delay_within_a_sample_is_that_of_a_sine() -> None:
    """A sine that is late is known in closed form; the ends are left out, where it is cut."""
    t = np.arange(R)[:, None]
    for size in (1e-6, 0.01, 0.4, 3.7):
        late = _planted(np.sin(0.3 * t), "wander", size)
        at = t - size * np.sin(2 * np.pi * 3.0 * t / R)
        assert np.abs(late - np.sin(0.3 * at))[2000:-2000].max() < 2e-4 * min(size, 1.0)


def test_a_drift_is_its_parts_per_million() -> None:
    t = np.arange(R)[:, None]
    late = _planted(np.sin(0.3 * t), "drift", 10.0)
    assert np.abs(late - np.sin(0.3 * (t - 10e-6 * (t - R / 2))))[2000:-2000].max() < 1e-4


@pytest.mark.parametrize("size", [0.01, 6.0])
def test_a_peak_has_its_height_at_its_frequency(size: float) -> None:
    """Against the response of what comes out for an impulse, by SciPy."""
    impulse = np.zeros((R, 1))
    impulse[0] = 1.0
    out = _planted(impulse, "peak_1000", size)[:, 0]
    _, response = scipy_signal.freqz(out, worN=[10.0, 1000.0, 20_000.0], fs=R)
    assert 20 * np.log10(np.abs(response)) == pytest.approx([0.0, size, 0.0], abs=0.02 * size)


def test_a_cubic_makes_the_third_harmonic_that_it_is_called_by() -> None:
    sine = 0.5 * np.cos(2 * np.pi * 1000 * np.arange(R) / R)[:, None]
    spectrum = np.abs(np.fft.rfft(_planted(sine, "saturation", -60.0)[:, 0]))
    assert 20 * math.log10(spectrum[3000] / (0.5 * R / 2)) == pytest.approx(-60.0, abs=0.01)


def test_the_top_octave_is_folded_down_about_a_quarter_of_the_rate() -> None:
    high = np.sin(2 * np.pi * 18_000 * np.arange(R) / R)[:, None]
    spectrum = np.abs(np.fft.rfft(_planted(high, "aliasing", -20.0)[:, 0]))
    assert 20 * math.log10(spectrum[24_000 - 18_000] / spectrum[18_000]) == pytest.approx(-20.0, abs=0.1)
    assert BY_KEY["aliasing"].prepare(_made(kind="tone", frequency=997.0, seconds=0.5), R) is None


def test_places_are_lost_repeated_and_silenced() -> None:
    x = np.arange(1.0, 1001.0)[:, None]
    assert np.array_equal(_planted(x, "delay", 3.0)[:5, 0], [0, 0, 0, 1, 2])
    assert int((_planted(x, "dropout", 7.0) == 0).sum()) == 7
    assert np.array_equal(_planted(x, "tail", 4.0)[-5:, 0], [996, 0, 0, 0, 0])
    assert np.array_equal(_planted(x, "start", 4.0)[:5, 0], [0, 0, 0, 0, 5])
    lost = _planted(x, "time_jump", 5.0)
    assert (len(lost), int((np.diff(lost[:-5, 0]) == 6).sum())) == (1000, 1)
    again = _planted(x, "repeat", 5.0)
    assert int((again != x).sum()) == 5


# What is noticed


def test_levels_that_are_noticed_follow_from_the_limit_of_the_residual() -> None:
    """A gain of g leaves g − 1 of the signal: at −20 dBFS and a limit of −120, 10⁻⁵ of it."""
    noise = SOUNDS["pink, apart"]()
    assert _least(noise, "noise").size == pytest.approx(-120.0, abs=0.6)
    assert _least(noise, "gain").size == pytest.approx(20 * math.log10(1 + 1e-5), rel=0.06)
    assert _least(noise, "channel_mix").size == pytest.approx(-100.0 + 3.0, abs=0.7)
    assert _least(noise, "gain", {**USUAL, "residual_rms": Limit(at_most=-100.0)}).size == pytest.approx(
        20 * math.log10(1 + 1e-4), rel=0.06
    )


def test_without_a_residual_the_other_limits_are_all_there_is() -> None:
    noise = SOUNDS["pink, apart"]()[: R // 2]
    loose = {key: limit for key, limit in USUAL.items() if key != "residual_rms"}
    gain = _least(noise, "gain", loose)
    assert gain.size == pytest.approx(0.05, rel=0.06)
    assert gain.by == "gain"
    late = _least(noise, "fraction", loose)
    assert late.size == pytest.approx(0.05, rel=0.06)
    assert late.by == "delay"
    assert _least(noise, "polarity", loose).by == "polarity"
    assert _least(noise, "channel_swap", loose).by == "channel_swap"
    assert _least(noise, "noise", {"gain": Limit(-0.05, 0.05)}).state == "noticed"
    assert _least(noise, "noise", {"gaps": Limit(at_most=0)}).state == "passes"


def test_blind_spots_are_said() -> None:
    tone = SOUNDS["tone"]()
    assert _least(tone, "channel_swap").state == "not there"
    both = np.repeat(tone, 2, axis=1)
    assert _least(both, "channel_swap").state == "no change"
    assert _least(both, "channel_polarity").state == "noticed"
    assert _least(tone, "aliasing").state == "not there"
    assert _least(tone, "claim").state == "passes"
    assert _least(np.zeros((R, 1)), "gain").state == "fails already"
    offset = {**USUAL, "dc_offset": Limit(at_most=0.001)}
    assert _least(tone + 0.01, "gain", offset).state == "noticed"  # by the limits that it does keep


def test_an_effect_that_is_never_the_same_is_held_to_its_takes() -> None:
    noise = SOUNDS["pink, apart"]()
    assert _least(noise, "noise", take_spread=-70.0).size == pytest.approx(-67.0, abs=0.6)


def test_what_the_signal_tells_is_judged_too() -> None:
    clicks = SOUNDS["clicks"]()

    def late(render: Source, claim: float) -> list[Reading]:
        return measure_latency(ArraySource(clicks, R), render, LatencyOptions(claim))[0]

    found = _least(clicks, "claim", {**USUAL, "latency_error": Limit(-2.5, 2.5)}, own=late)
    assert (found.size, found.by) == (3.0, "latency_error")
    tone = SOUNDS["tone"]()

    def measured(render: Source, _: float) -> list[Reading]:
        return measure_tone(render, ToneOptions(997.0))[0]

    limits = {"fundamental_level": Limit(-6.2, -5.8)}
    found = _least(tone, "gain", limits, own=measured)
    assert found.size == pytest.approx(0.2, rel=0.06)
    assert found.by == "fundamental_level"


def test_limits_of_what_is_not_measured_judge_nothing() -> None:
    """Of the loudest part of a long file nothing is measured beside its signal."""
    tone = SOUNDS["tone"]()
    limits = {"fundamental_level": Limit(-6.2, -5.8), "gaps": Limit(at_most=0)}
    assert _least(tone, "gain", limits).state == "passes"
    assert _least(tone, "claim", {"latency_error": Limit(-0.5, 0.5)}).state == "passes"


def test_what_is_compared_with_its_signal_is_judged_by_what_it_is_held_to() -> None:
    noise = SOUNDS["pink, apart"]()
    limits = {"gain": Limit(-1.0, 1.0)}
    found = _least(0.9 * noise, "gain", limits, against=noise)
    assert found.size == pytest.approx(1.0 - 20 * math.log10(0.9), rel=0.06)
    assert found.by == "gain"


@pytest.mark.parametrize(
    ("key", "size"),
    [("gain", 3.0), ("click", -20.0), ("peak_1000", 12.0), ("delay", 100.0), ("dropout", 400.0), ("clipping", 6.0),
     ("drift", 100.0), ("rounding", -60.0), ("polarity", 1.0), ("repeat", 1000.0)],
)  # fmt: skip
@pytest.mark.parametrize("sound", ["pink, apart", "sweep", "bells"])
def test_without_its_account_a_comparison_reads_the_same(sound: str, key: str, size: float) -> None:
    """What is left out of it is the account alone, and no reading hangs on that."""
    samples = SOUNDS[sound]()
    x, y = ArraySource(samples, R), ArraySource(_planted(samples, key, size), R)
    whole = [one for one in compare_as_it_is(x, y).readings if one.measure not in STEPS]
    assert compare_as_it_is(x, y, account=False).readings == whole


@pytest.mark.parametrize("sound", SOUNDS)
def test_the_short_cut_says_what_a_run_would(sound: str) -> None:
    """Faults of drawn kinds and sizes, most near what is just noticed; `benchmarks.sensitivity` draws more of them."""
    samples = SOUNDS[sound]()
    noticer = Noticer(Approved(samples, R, USUAL))
    least = {one.fault: one for one in least_noticed(Approved(samples, R, USUAL))}
    drawn = np.random.default_rng(len(sound))
    tried = 0
    while tried < 12:
        fault = FAULTS[int(drawn.integers(len(FAULTS)))]
        grow = fault.prepare(samples, R)
        if grow is None or fault.of_claim:
            continue
        size = _drawn(fault, least[fault.key], drawn)
        changed = grow(size)
        moved = 0.0 if fault.moves is None else fault.moves(size, len(samples))
        quick, full = noticer.notices(changed, moved), noticer.in_full(changed)
        assert (quick is None) == (full is None), (fault.key, size, quick, full)
        tried += 1


def _drawn(fault: Fault, least: Least, drawn: np.random.Generator) -> float:
    near = least.size if least.size is not None else fault.most
    factor = drawn.uniform(-12.0, 12.0) * (1 if drawn.random() < 0.7 else 3)
    return float(np.clip(fault.scaled(near, factor), fault.least, fault.most))


@settings(max_examples=10, deadline=None)
@given(st.sampled_from(["gain", "noise", "click", "dropout", "dc", "saturation"]), st.floats(-120.0, -60.0),
       st.floats(0.0, 30.0))  # fmt: skip
def test_a_finer_limit_never_notices_less(key: str, limit: float, finer: float) -> None:
    sound = SOUNDS["bells"]()[: R // 2]
    loose, fine = (_least(sound, key, {"residual_rms": Limit(at_most=one)}) for one in (limit, limit - finer))
    if loose.state == "noticed":
        assert fine.size is not None
        assert loose.size is not None
        assert BY_KEY[key].as_fine(fine.size, loose.size)


# What cells notice together


def _cell(case: str, condition: str, **sizes: float) -> Cell:
    found = {key: Least(key, "noticed", size, "residual_rms") for key, size in sizes.items()}
    return Cell(case, condition, 2.0, {fault.key: found.get(fault.key, Least(fault.key, "passes")) for fault in FAULTS})


_SIZES = st.dictionaries(st.sampled_from(["gain", "drift", "wander"]), st.floats(1e-4, 10.0))


@given(st.lists(_SIZES, min_size=1, max_size=5), _SIZES)
def test_a_cell_more_never_notices_less(cells: list[dict[str, float]], more: dict[str, float]) -> None:
    listed = [_cell(str(i), "here", **sizes) for i, sizes in enumerate(cells)]
    before = {row.fault.key: row for row in rows_of(listed)}
    for row in rows_of([*listed, _cell("more", "here", **more)]):
        was = before[row.fault.key].least
        if was is not None:
            assert row.least is not None
            assert row.least.size is not None
            assert was.size is not None
            assert row.least.size <= was.size


@given(st.lists(_SIZES, min_size=1, max_size=5))
def test_the_cases_that_are_kept_notice_what_all_do(cells: list[dict[str, float]]) -> None:
    listed = [_cell(str(i % 3), f"{i // 3}", **sizes) for i, sizes in enumerate(cells)]
    found = cover(listed)
    assert not set(found.kept) & set(found.spare)
    for condition in {cell.condition for cell in listed}:
        here = [cell for cell in listed if cell.condition == condition]
        kept = {row.fault.key: row for row in rows_of([cell for cell in here if cell.case in found.kept])}
        for row in rows_of(here):
            if row.least is not None:
                own = kept[row.fault.key].least
                assert own is not None
                assert own.size is not None
                assert row.least.size is not None
                assert row.fault.as_fine(own.size, row.least.size)


def test_what_nobody_notices_stands_first_and_what_is_wanted_is_judged() -> None:
    rows = rows_of(
        [_cell("one", "here", gain=0.2, noise=-90.0, delay=1.0)], {"gain": 0.1, "delay": 1.0, "noise": -100.0}
    )
    assert rows[0].least is None
    told = {row.fault.key: row.is_met for row in rows}
    assert (told["gain"], told["delay"], told["noise"], told["drift"]) == (False, True, False, None)
    for key, size in (("gian", 1.0), ("gain", 0.0), ("gain", True), ("delay", 1e9)):
        with pytest.raises(BadParameter):
            wanted_size(key, size)


def test_a_gap_is_closed_by_a_signal_that_was_tried_and_by_a_limit_over_the_takes() -> None:
    shown = [title for title, _ in signals_that_show(BY_KEY["channel_swap"], None, R)]
    assert shown == ["Pink noise, two channels apart"]
    noise = SOUNDS["pink, apart"]()
    limit = limit_that_notices(Approved(noise, R, {}), BY_KEY["gain"], 0.1)
    assert limit is not None
    assert limit.at_most == pytest.approx(-20 + 20 * math.log10(10 ** (0.1 / 20) - 1) - 1, abs=0.1)
    fine = _least(noise, "gain", {"residual_rms": limit})
    assert fine.size is not None
    assert fine.size <= 0.1
    assert limit_that_notices(Approved(noise, R, {}, take_spread=-50.0), BY_KEY["gain"], 0.1) is None


@pytest.mark.parametrize(
    "samples",
    [np.full((1, 1), 0.5), np.full((2, 1), 0.5), np.full((2000, 1), 0.25),
     0.1 * np.random.default_rng(3).standard_normal((50, 2))],
    ids=["one frame", "two frames", "constant", "fifty frames"],
)  # fmt: skip
def test_what_is_short_or_constant_is_planted_too(samples: Samples) -> None:
    """What is next to the same as its reference correlates by a little more than 1, once sums are rounded."""
    found = {one.fault: one for one in least_noticed(Approved(samples, R, USUAL))}
    assert found["polarity"].state == "noticed"
    assert found["gain"].state == "noticed"
