"""Transfer curves and dynamics of level controls that are known in closed form, and what changed of them."""

import math
from typing import Any

import numpy as np
import pytest

from kind_echo.core.audio.source import ArraySource
from kind_echo.core.comparison.compare import compare
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.signals import make_request, synthesise
from kind_echo.core.systems.dynamics import measure_dynamics
from kind_echo.core.systems.law_change import with_changed_law
from kind_echo.core.systems.transfer import ExpectedCurve, measure_curve
from kind_echo.wording.causes import describe
from tests.core.conftest import columns, noise, overall, reading, sine

R = 48_000


def _burst(gain: Any, seconds: float = 1.0) -> tuple[ArraySource, ArraySource]:
    """Low, high and low again for twice as long, and the same with a gain in dB by time since each step."""
    t = np.arange(round(4 * seconds * R)) / R
    high = (t >= seconds) & (t < 2 * seconds)
    x = np.where(high, 0.5, 0.05) * np.sin(2 * np.pi * 1000 * t)
    return columns(x), columns(x * 10 ** (gain(t - seconds, t - 2 * seconds, high) / 20))


def _moving(attack: float, *releases: float) -> Any:
    def gain(up: Any, down: Any, high: Any) -> Any:
        fallen = -10 * (1 - np.exp(-np.maximum(up, 0) / attack))
        back = np.mean([np.exp(-np.maximum(down, 0) / one) for one in releases], axis=0)
        return np.where(high, fallen, np.where(up < 0, 0.0, fallen[np.flatnonzero(high)[-1]] * back))

    return gain


def test_what_has_not_settled_has_no_times_but_a_bound() -> None:
    """Exponentials: in 2 s a release of 6 s goes 28 % of its way, and two of 50 and 300 ms are no one exponential."""
    slow = measure_dynamics(*_burst(_moving(0.01, 6.0)))[0]
    assert reading(slow, "attack_constant").value == pytest.approx(10, rel=0.03)
    assert (reading(slow, "release_time").value, reading(slow, "release_constant").value) == (None, None)
    assert reading(slow, "release_time").at_least == pytest.approx(2000, rel=0.01)
    assert reading(measure_dynamics(*_burst(_moving(1.0, 0.1)))[0], "settled_gain_high").value is None
    twice = reading(measure_dynamics(*_burst(_moving(0.01, 0.05, 0.3)))[0], "release_constant")
    assert twice.value is None
    assert "not one exponential" in str(twice.why)


def test_look_ahead_is_not_read_out_of_noise() -> None:
    source, output = _burst(_moving(0.01, 0.1))
    noisy = columns(output.samples[:, 0] + noise(output.frames, level=10 ** (-50 / 20))[:, 0])
    assert reading(measure_dynamics(source, noisy)[0], "lookahead").value == 0.0


@pytest.mark.parametrize(
    ("law", "words"),
    [
        (lambda x: np.minimum(np.minimum(x, x / 2 - 20), x / 8 - 25.625), "no one threshold"),
        (lambda x: np.where(x < -30, -30 + (x + 30) / 2, x), "no one threshold"),
        (lambda x: np.where(x < -40, -40 + 2 * (x + 40), x), "does not fall"),
        (lambda x: np.minimum(x, -1.5 + (x + 1.5) / 20), "too few steps"),
        (lambda x: np.minimum(x, -40 + (x + 40) / 1.02), "does not fall"),
    ],
)  # fmt: skip
def test_what_one_threshold_and_ratio_do_not_fit_has_none(law: Any, words: str) -> None:
    """Laws by construction: two stages, upward, an expander, one step over the threshold, a ratio of 1.02."""
    found = measure_curve(*_through(law), None)[0]
    for key in ("threshold_estimate", "ratio_estimate", "knee_estimate"):
        assert reading(found, key).value is None
        assert words in str(reading(found, key).why)


def test_the_ratio_of_a_limiter_is_a_bound() -> None:
    found = measure_curve(*_through(lambda x: np.minimum(x, -20.0)), None)[0]
    assert reading(found, "threshold_estimate").value == pytest.approx(-20, abs=0.1)
    assert reading(found, "ratio_estimate").value is None
    assert (reading(found, "ratio_estimate").at_least or 0.0) > 50


def _through(law: Any) -> tuple[ArraySource, ArraySource]:
    """The usual staircase, and what a law of levels makes of it."""
    x = synthesise(make_request("staircase", frequency=1000, level=0), R)[:, 0]
    steps = np.repeat(np.arange(-60, 0.1, 2.0), R // 2)[: len(x)]
    x = x[: len(steps)]
    return columns(x), columns(x * 10 ** ((law(steps) - steps) / 20))


def test_the_textbook_compressor() -> None:
    """In −10 dB, threshold −20 dB, 5:1, hard knee: out −18 dB (arithmetic). Knee: equation 4 of Giannoulis et al."""
    curve = ExpectedCurve(-20, 5)
    np.testing.assert_allclose(curve.level(np.array([-10.0, -30.0])), [-18.0, -30.0])
    soft = ExpectedCurve(-20, 4, knee=10)
    assert soft.level(np.array([-20.0]))[0] == pytest.approx(-20 - 0.75 * 25 / 20)


@pytest.mark.parametrize(("threshold", "ratio", "knee", "makeup"), [(-20, 4, 0, 0), (-30, 2, 6, 3), (-15, 10, 12, -2)])
def test_curve_and_its_estimates(threshold: float, ratio: float, knee: float, makeup: float) -> None:
    stairs = synthesise(make_request("staircase", frequency=1000, level=0), R)
    level = np.repeat(np.arange(-60, 0.1, 2.0), R // 2)
    expected = ExpectedCurve(threshold, ratio, knee, makeup)
    out = stairs * (10 ** ((expected.level(level) - level) / 20))[:, None]
    late = np.concatenate([np.zeros((200, 1)), out])[: len(out)]
    found = overall(measure_curve(ArraySource(stairs, R), ArraySource(late, R), expected)[0])
    assert abs(found["curve_error_worst"]) < 0.05
    assert found["threshold_estimate"] == pytest.approx(threshold, abs=0.5)
    assert found["ratio_estimate"] == pytest.approx(ratio, rel=0.03)
    assert found["knee_estimate"] == pytest.approx(knee, abs=2)
    assert found["gain_below_threshold"] == pytest.approx(0, abs=0.05)
    assert found["engages"] == 1


@pytest.mark.parametrize("late", [0, 700, 1900])
def test_a_late_output_that_breaks_off_bends_no_curve(late: int) -> None:
    stairs = synthesise(make_request("staircase", frequency=1000, level=0), 22_050)
    out = np.concatenate([np.zeros((late, 1)), stairs])[: len(stairs)]
    found = overall(measure_curve(ArraySource(stairs, 22_050), ArraySource(out, 22_050), ExpectedCurve(0, 4))[0])
    assert found["curve_error_worst"] == pytest.approx(0.0, abs=0.01)


def test_a_curve_that_does_not_engage_and_one_that_hides_a_gain() -> None:
    stairs = synthesise(make_request("staircase", frequency=1000, level=0), R)
    found = measure_curve(ArraySource(stairs, R), ArraySource(stairs * 10 ** (0.7 / 20), R), ExpectedCurve(-20, 4))[0]
    assert overall(found)["gain_below_threshold"] == pytest.approx(0.7, abs=0.01)
    assert overall(found)["engages"] == 0
    assert reading(found, "curve_error_worst").value == pytest.approx(15.7, abs=0.05)
    assert "at an input of 0.0 dBFS" in str(reading(found, "curve_error_worst").why)
    with pytest.raises(BadParameter, match="staircase"):
        measure_curve(columns(noise(R)[:, 0]), columns(noise(R)[:, 0]))


def test_the_readings_of_a_curve_in_noise_lie_within_what_is_stated() -> None:
    """Draws of white noise 60 dB below full scale: 95 in 100 readings are to lie within; 80 of 100 surely do."""
    x = synthesise(make_request("staircase", frequency=1000, level=0), R)
    steps = np.repeat(np.arange(-60, 0.1, 2.0), R // 2)[: len(x)]
    real, expected = ExpectedCurve(-25.3, 4.2, 6, 2), ExpectedCurve(-25, 4, 6, 2)
    y = x[: len(steps)] * 10 ** ((real.level(steps) - steps) / 20)[:, np.newaxis]
    source = ArraySource(x[: len(steps)], R)
    truth = overall(measure_curve(source, ArraySource(y, R), expected)[0])
    held = []
    for seed in range(6):
        noisy = ArraySource(y + noise(len(y), seed=seed, level=1e-3), R)
        for one in measure_curve(source, noisy, expected)[0]:
            if one.channel == "all" and one.uncertainty is not None:
                held.append(abs((one.value or 0.0) - (truth[one.measure] or 0.0)) <= one.uncertainty)
    assert len(held) == 6 * 6
    assert np.mean(held) > 0.8


def _compressed(attack: float, release: float, ahead: int = 0) -> tuple[Any, Any]:
    """A gain that goes to −10 dB and back exponentially, in decibels, sample by sample."""
    burst = synthesise(make_request("burst", frequency=1000, seconds=4, level=-6), R)
    frames = len(burst)
    target = np.zeros(frames)
    target[frames // 4 - ahead : frames // 2] = -10.0
    gain, state = np.empty(frames), 0.0
    for i in range(frames):
        share = math.exp(-1 / ((attack if target[i] < state else release) * R))
        state = share * state + (1 - share) * target[i]
        gain[i] = state
    return ArraySource(burst, R), ArraySource(burst * (10 ** (gain / 20))[:, None], R)


@pytest.mark.parametrize(("attack", "release"), [(0.003, 0.05), (0.02, 0.2), (0.1, 0.15)])
def test_time_constants_come_back(attack: float, release: float) -> None:
    """Exponentials by construction: 1 dB from settled after ln 10 time constants of a 10 dB fall."""
    found = overall(measure_dynamics(*_compressed(attack, release))[0])
    assert found["attack_constant"] == pytest.approx(1000 * attack, rel=0.03, abs=1.0)
    assert found["release_constant"] == pytest.approx(1000 * release, rel=0.03, abs=1.0)
    assert found["attack_time"] == pytest.approx(1000 * attack * math.log(10), rel=0.03, abs=1.0)
    assert found["release_time"] == pytest.approx(1000 * release * math.log(10), rel=0.03, abs=1.0)
    assert found["settled_gain_high"] == pytest.approx(-10, abs=0.02)
    assert found["settled_gain_low"] == pytest.approx(0, abs=0.01)
    assert found["overshoot"] == pytest.approx(0, abs=0.05)
    assert found["lookahead"] == pytest.approx(0, abs=1.0)


@pytest.mark.parametrize(("attack", "release"), [(0.0004, 0.01), (0.001, 0.02), (0.005, 0.05)])
@pytest.mark.parametrize("level", [None, -80, -60])
def test_time_constants_lie_within_what_is_stated(attack: float, release: float, level: float | None) -> None:
    """Exponentials by construction, in noise, which errs by more than the ± of 95 % in few draws."""
    source, clean = _burst(_moving(attack, release), 0.3)
    outside = 0
    for draw in range(1 if level is None else 4):
        added = 0.0 if level is None else 10 ** (level / 20) * noise(clean.frames, seed=draw)
        found = measure_dynamics(source, columns((clean.samples + added)[:, 0]))[0]
        for key, truth in (("attack_constant", attack), ("release_constant", release)):
            one = reading(found, key)
            assert one.value is not None
            assert one.uncertainty is not None
            outside += abs(one.value - 1000 * truth) > one.uncertainty
    assert outside <= (0 if level is None else 1)


@pytest.mark.parametrize("late", [1, 24, 48, 300, 5000, -24])
def test_a_late_render_of_a_burst_has_the_same_times(late: int) -> None:
    """Cut to the input's length, as a host writes it, so that the end of the release is not in the file."""
    burst, out = _compressed(0.003, 0.05)
    rendered = out.read(0, out.frames)
    moved = np.concatenate([np.zeros((max(0, late), 1)), rendered[max(0, -late) :]])[: len(rendered)]
    found, _ = measure_dynamics(burst, ArraySource(moved, R))
    assert overall(found) == pytest.approx(overall(measure_dynamics(burst, out)[0]), rel=0.01, abs=0.1)
    assert "of delay are taken off" in str(reading(found, "overshoot").why)


def test_a_render_of_a_burst_that_ends_early() -> None:
    burst, out = _compressed(0.003, 0.05)
    upto = measure_dynamics(burst, ArraySource(out.read(0, R * 5 // 2), R))[0]
    assert overall(upto)["release_time"] == pytest.approx(115.1, abs=1.0)
    ended = measure_dynamics(burst, ArraySource(out.read(0, 2 * R), R))[0]
    assert overall(ended)["attack_constant"] == pytest.approx(3.0, abs=0.1)
    assert "ends before the gain can settle" in str(reading(ended, "release_time").why)
    short = measure_dynamics(burst, ArraySource(out.read(0, R), R))[0]
    assert "ends before the burst does" in str(reading(short, "attack_time").why)


def test_look_ahead_and_an_effect_that_does_nothing() -> None:
    ahead = overall(measure_dynamics(*_compressed(0.004, 0.05, ahead=240))[0])
    assert ahead["lookahead"] == pytest.approx(5.0, abs=1.0)
    burst, _ = _compressed(0.01, 0.1)
    idle = measure_dynamics(burst, burst)[0]
    assert reading(idle, "attack_time").value is None
    assert "does not fall" in str(reading(idle, "attack_time").why)
    with pytest.raises(BadParameter, match="burst"):
        measure_dynamics(columns(sine(1000, -6, 1)), columns(sine(1000, -6, 1)))


def _staircase(law: ExpectedCurve, late: int = 0) -> tuple[ArraySource, ArraySource]:
    stairs = synthesise(make_request("staircase", frequency=1000, level=0), R)
    level = np.repeat(np.arange(-60, 0.1, 2.0), R // 2)
    out = stairs * (10 ** ((law.level(level) - level) / 20))[:, None]
    return ArraySource(stairs, R), ArraySource(np.concatenate([np.zeros((late, 1)), out])[: len(out)], R)


@pytest.mark.parametrize(("law", "words"), [
    (ExpectedCurve(-19.5, 4), "threshold −20.0 → −19.5 dB"),
    (ExpectedCurve(-20, 3.8), "ratio 4.00 → 3.80"),
    (ExpectedCurve(-20, 4, 6), "knee 0.0 → 6.0 dB"),
    (ExpectedCurve(-20, 4, 0, 1), None),
])  # fmt: skip
def test_a_staircase_tells_the_law_that_changed(law: ExpectedCurve, words: str | None) -> None:
    """Laws by construction; make-up alone is a gain, and no law."""
    source, was = _staircase(ExpectedCurve(-20, 4))
    _, now = _staircase(law)
    found = with_changed_law(compare(was, now), source, was, now)
    assert describe(found.causes) == ("1.00 dB up" if words is None else f"a gain that follows the level, {words}")


def test_a_burst_tells_attack_and_release_that_changed_and_no_law_where_none_did() -> None:
    source, was = _burst(_moving(0.005, 0.1))
    _, now = _burst(_moving(0.008, 0.14))
    found = with_changed_law(compare(was, now), source, was, now)
    assert [cause.cause for cause in found.causes] == ["level_control"]
    assert found.causes[0].why == "attack 5 → 8 ms, release 100 → 140 ms"
    for other in (was.samples * 0.966, was.samples + 1e-3 * noise(was.frames), np.tanh(was.samples)):
        alike = columns(other[:, 0])
        usual = compare(was, alike)
        assert with_changed_law(usual, source, was, alike).causes == usual.causes
    assert with_changed_law(compare(was, now), was, was, now).causes[0].why != found.causes[0].why


def test_a_knee_that_no_step_lies_in_is_known_no_better_than_the_gap() -> None:
    """By arithmetic: with steps 0.5 dB to the one side and 1.5 to the other, any knee up to 1 dB gives the same."""
    found = measure_curve(*_staircase(ExpectedCurve(-19.5, 4)))[0]
    knee = reading(found, "knee_estimate")
    assert knee.value is not None
    assert knee.uncertainty is not None
    assert knee.value - knee.uncertainty <= 0.0 < 1.0 <= knee.value + knee.uncertainty
