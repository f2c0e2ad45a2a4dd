"""Parameters that move, and plain values of parameters that a standard keeps from 0 to 1."""

import math
from types import SimpleNamespace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kind_echo.renderers.plugins.formats.normalised import Scale
from kind_echo.renderers.plugins.model import HostFailed, PluginAbout, PluginParameter, distinct_names
from kind_echo.renderers.plugins.motion import RAMP_FRAMES, Motion, changes_within, motions

GAIN = PluginParameter("7", "Gain", -60.0, 12.0, 0.0, False, "0.0 dB", "Gain of it")
ABOUT = PluginAbout("x", "X", "1", (), (1,), (1,), (1,), (GAIN,), True)
INSTANCE: Any = SimpleNamespace(id="x", about=lambda: ABOUT, read=lambda parameter, text: None)


def test_a_course_is_stepped_or_on_lines() -> None:
    stepped = Motion("7", (100, 200), (1.0, 3.0), ramp=False)
    assert [stepped.value(frame) for frame in (0, 99, 100, 150, 200, 999)] == [1.0, 1.0, 1.0, 1.0, 3.0, 3.0]
    ramp = Motion("7", (100, 200), (1.0, 3.0), ramp=True)
    assert [ramp.value(frame) for frame in (0, 100, 150, 200, 999)] == [1.0, 1.0, 2.0, 3.0, 3.0]


@given(
    st.lists(st.integers(0, 3000), min_size=1, max_size=6, unique=True), st.integers(1, 700), st.booleans(),
    st.booleans(),
)  # fmt: skip
def test_whatever_the_blocks_the_same_is_told(frames: list[int], block: int, ramp: bool, exact: bool) -> None:
    """At their frames, changes do not depend on how they are cut into blocks; each block ends at the course's value."""
    course = Motion("7", tuple(sorted(frames)), tuple(float(i) for i in range(len(frames))), ramp)
    end = 4000
    told: dict[int, float] = {}
    for at in range(0, end, block):
        for change in changes_within([course], at, at + block, exact=exact):
            assert 0 <= change.frame < block
            told[at + change.frame] = change.value
    assert 0 in told
    assert all(value == course.value(frame) for frame, value in told.items())
    if exact:
        whole = {c.frame: c.value for c in changes_within([course], 0, end, exact=True)}
        assert {frame: value for frame, value in told.items() if frame < end} == whole
        last = max(frame for frame in told if frame < end)
        assert ramp or told[last] == course.value(end)


def test_a_ramp_is_told_every_few_frames() -> None:
    course = Motion("7", (0, 10 * RAMP_FRAMES), (0.0, 1.0), ramp=True)
    frames = [change.frame for change in changes_within([course], 0, 20 * RAMP_FRAMES, exact=True)]
    assert frames == list(range(0, 11 * RAMP_FRAMES, RAMP_FRAMES))


@pytest.mark.parametrize(("value", "says"), [
    ({"at": [0.0, 0.0], "values": [1.0, 2.0]}, "go up from 0"),
    ({"at": [-1.0], "values": [1.0]}, "go up from 0"),
    ({"at": [0.0], "values": [1.0, 2.0]}, "as many values"),
    ({"at": [], "values": []}, "as many values"),
    ({"at": [0.0], "values": [1.0], "curve": 1}, "as many values"),
    ({"at": [0.0], "values": [99.0]}, "Gain is from -60 to 12, and not 99"),
    ("loud", "does not know what Gain 'loud' is"),
])  # fmt: skip
def test_what_is_no_course_is_refused(value: Any, says: str) -> None:
    with pytest.raises(HostFailed) as refused:
        motions(INSTANCE, {"Gain": value}, 48_000)
    assert says in str(refused.value)


def test_a_parameter_goes_by_its_name_or_its_title() -> None:
    (one,) = motions(INSTANCE, {"Gain of it": "-6"}, 48_000)
    assert (one.key, one.values) == ("7", (-6.0,))
    with pytest.raises(HostFailed, match="has no parameter Drive, but Gain"):
        motions(INSTANCE, {"Drive": 1.0}, 48_000)
    assert distinct_names(["Gain", "Gain", "Mix"], ["A", "B", ""]) == ["A/Gain", "B/Gain", "Mix"]
    assert distinct_names(["Gain", "Gain"], ["", ""]) == ["Gain 1", "Gain 2"]


@given(st.floats(-100, 100), st.floats(0.5, 200), st.floats(0, 1))
def test_a_linear_scale_is_exact_though_its_texts_are_rounded(least: float, span: float, position: float) -> None:
    least, span = round(least, 2), round(span, 2)
    scale = Scale(lambda at: f"{least + at * span:.2f} dB")
    assert scale.least == pytest.approx(least, abs=0.005)
    assert scale.unit == "dB"
    assert scale.position(scale.plain(position)) == pytest.approx(position, abs=1e-3 / span + 1e-5)


@given(st.floats(20, 20_000))
def test_a_curved_scale_is_found_by_its_texts(value: float) -> None:
    """20 Hz to 20 kHz by octaves, shown as Hz below 1 kHz and as kHz above."""

    def shown(at: float) -> str:
        hertz = 20.0 * 1000.0**at
        return f"{hertz:.1f} Hz" if hertz < 1000 else f"{hertz / 1000:.2f} kHz"

    scale = Scale(shown)
    assert (scale.least, round(scale.greatest)) == (20.0, 20_000)
    at = scale.position(value)
    assert 20.0 * 1000.0**at == pytest.approx(value, rel=0.006)


def test_steps_choices_and_what_is_no_number() -> None:
    modes = Scale(lambda at: ("Off", "Soft", "Hard")[round(at * 2)], steps=3)
    assert (modes.choices, modes.plain(0.5), modes.position(2.0)) == (("Off", "Soft", "Hard"), 1.0, 1.0)
    ratios = Scale(lambda at: f"{(1, 2, 4, 20)[round(at * 3)]} : 1", steps=4)
    assert (ratios.choices, ratios.least, ratios.greatest) == ((), 1.0, 20.0)
    assert ratios.position(4.0) == pytest.approx(2 / 3)
    bare = Scale(lambda at: "low" if at < 0.5 else "high")
    assert (bare.least, bare.greatest, bare.plain(0.25), bare.position(0.25)) == (0.0, 1.0, 0.25, 0.25)
    from_nothing = Scale(lambda at: "-inf dB" if at == 0 else f"{20 * math.log10(at):.1f} dB")
    assert (from_nothing.least, from_nothing.plain(0.5)) == (0.0, 0.5)  # without an end there is no plain scale
