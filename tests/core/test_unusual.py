"""Causes that hold in time, between channels and on test signals. Truth by construction: a known change is planted.

The changes stand in tests/support/unusual.py and tests/support/on_signals.py; docs/accuracy.md has the whole tables.
"""

import re

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy import signal

from kind_echo.core.audio.source import ArraySource
from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.excerpts import is_sweep
from kind_echo.core.comparison.compare import compare
from kind_echo.core.comparison.pair import Comparison
from kind_echo.core.comparison.places import find_places
from kind_echo.wording.causes import cause_text, describe
from tests.support.material import PIECES, load
from tests.support.on_signals import ON_SIGNALS, SIGNALS, OnSignal
from tests.support.planted import Change, Planted, both, butter, peaking, scaled
from tests.support.unusual import (
    UNUSUAL,
    echoing,
    from_half_way,
    hissing,
    humming,
    lost,
    mixed,
    repeated,
    stepped,
    swapped,
    swinging,
    wandering,
)

Floats = NDArray[np.float64]

RATE = 48_000
SOUNDS = {piece.name: piece for piece in PIECES}


def found_after(sound: str, change: Change) -> Comparison:
    x = load(SOUNDS[sound], RATE)[: 4 * RATE]
    return compare(ArraySource(x, RATE), ArraySource(np.ascontiguousarray(change(x, RATE)), RATE))


def only(found: Comparison, name: str) -> Cause:
    (cause,) = found.causes
    assert cause.cause == name, describe(found.causes)
    return cause


@pytest.mark.parametrize("planted", [c for c in UNUSUAL if c.causes], ids=lambda planted: planted.name)
def test_an_unusual_cause_is_named_and_no_other(planted: Planted) -> None:
    found = after(*planted.sides(load(SOUNDS["arcade music"], RATE)[: 4 * RATE], RATE))
    said = {cause.cause for cause in found.causes} - {"unexplained"}
    assert planted.causes <= said, describe(found.causes)
    assert said <= planted.causes | planted.rest, describe(found.causes)


@pytest.mark.parametrize("sound", ["guitar", "piano", "woman's voice"])
@pytest.mark.parametrize(
    ("of_reference", "of_render"), [(-70.0, -70.0), (-30.0, -30.0), (-15.0, -15.0), (-45.0, -42.0)]
)
def test_noise_that_both_takes_have_is_told_of_both(sound: str, of_reference: float, of_render: float) -> None:
    """No filter, though the best one of a noisy reference falls, and no gain that follows the level."""
    x = load(SOUNDS[sound], RATE)[: 4 * RATE]
    noise = only(after(hissing(of_reference, 1)(x, RATE), hissing(of_render, 2)(x, RATE)), "noise")
    assert noise.sides == "both"
    level = 10 * np.log10(2 * np.mean(x**2)) + of_render
    assert noise.amount == pytest.approx(level, abs=0.5)
    assert "of both sides" in cause_text(noise)


def test_noise_of_one_side_is_told_of_that_side() -> None:
    x = load(SOUNDS["piano"], RATE)[: 4 * RATE]
    noisy = hissing(-40.0, 3)(x, RATE)
    assert only(after(noisy, x), "noise").sides == "reference"
    assert only(after(x, noisy), "noise").sides is None


@pytest.mark.parametrize(
    "change", [butter(1, 4000.0, "low"), peaking(900.0, 3.0, 1.0), swinging(1.0, 4.0), stepped(0.5, -2.0)]
)
def test_a_change_beside_noise_of_both_is_not_called_noise_alone(change: Change) -> None:
    x = load(SOUNDS["arcade music"], RATE)[: 4 * RATE]
    found = after(hissing(-30.0, 1)(x, RATE), change(hissing(-30.0, 2)(x, RATE), RATE))
    assert [cause.cause for cause in found.causes] != ["noise"], describe(found.causes)


def test_a_block_that_comes_twice_is_told_with_its_place_and_leads_there() -> None:
    found = found_after("title music", repeated(0.4, 512))
    jump = only(found, "time_jump")
    assert (jump.amount, jump.unit, jump.length) == (512.0, "samples", None)
    assert jump.start == pytest.approx(1.6, abs=1 / RATE)
    assert cause_text(jump) == "from 1.600 s on 512 samples late: 512 samples repeated"
    x = load(SOUNDS["title music"], RATE)[: 4 * RATE]
    y = np.ascontiguousarray(repeated(0.4, 512)(x, RATE))
    places = find_places(ArraySource(x, RATE), ArraySource(y, RATE), found, 5).differences
    assert any(place.cause == "time_jump" and place.start == pytest.approx(1.6, abs=0.03) for place in places)


def test_several_jumps_are_told_one_by_one() -> None:
    found = found_after("arcade music", both(lost(0.3, 256), repeated(0.7, 441)))
    assert [cause.amount for cause in found.causes] == [-256.0, 441.0], describe(found.causes)


def test_blocks_that_changed_places_are_one_event() -> None:
    jump = only(found_after("title music", swapped(0.45, 2048)), "time_jump")
    assert jump.start == pytest.approx(1.8, abs=1 / RATE)
    assert jump.length == pytest.approx(4096 / RATE, abs=2 / RATE)


@pytest.mark.parametrize(
    ("change", "amount", "words"),
    [
        (stepped(0.5, -3.0), -3.0, "steps by −3.00 dB at 2.000 s"),
        (swinging(1.0, 4.0), 1.0, "swings by ±1.00 dB, 4.00 times a second"),
    ],
)
def test_a_level_that_moves_with_time_has_its_law(change: Change, amount: float, words: str) -> None:
    motion = only(found_after("arcade music", change), "gain_motion")
    assert motion.amount == pytest.approx(amount, abs=0.01)
    assert motion.why == words


def test_a_delay_that_wanders_has_its_depth_and_rate() -> None:
    wander = only(found_after("arcade music", wandering(2.8, 0.7)), "wander")
    assert wander.amount == pytest.approx(2.8, abs=0.01)
    assert str(wander.why).startswith("0.70 times a second")


def test_a_delay_that_wanders_by_whole_periods_of_a_sound_is_followed() -> None:
    """Blocks of held strings fit a period away as well: what most of them say is the way."""
    wander = only(found_after("guitar", wandering(20.0, 1.0)), "wander")
    assert wander.amount == pytest.approx(20.0, abs=0.02)
    assert str(wander.why).startswith("1.00 times a second")


@pytest.mark.parametrize(
    ("change", "name", "amount"),
    [
        (echoing(0.08, -20.0), "echo", -20.0),
        (mixed((0.75, 0.25), (0.25, 0.75)), "channel_mix", -6.02),
        (repeated(0.55, 64), "time_jump", 64.0),
    ],
)
def test_a_sound_of_one_bell_tells_what_became_of_it(change: Change, name: str, amount: float) -> None:
    assert only(found_after("telephone", change), name).amount == pytest.approx(amount, abs=0.05)


@pytest.mark.parametrize("frames", [1000, 1024, 2048])
def test_blocks_in_a_quiet_part_are_exchanged_where_all_else_is_the_same(frames: int) -> None:
    jump = only(found_after("alarm clock", swapped(0.45, frames)), "time_jump")
    assert f"blocks of {frames} and {frames} samples" in str(jump.why)


def test_mixed_channels_are_told_in_the_words_of_the_trade() -> None:
    """A matrix of middle and side: the side by −6 dB is 0.75 and 0.25."""
    mix = only(found_after("arcade music", mixed((0.75, 0.25), (0.25, 0.75))), "channel_mix")
    assert mix.amount == pytest.approx(-6.02, abs=0.01)
    assert mix.why == "the side signal −6.0 dB against the middle"


def test_an_echo_has_its_level_and_its_time() -> None:
    echo = only(found_after("arcade music", echoing(0.25, -12.0)), "echo")
    assert echo.amount == pytest.approx(-12.0, abs=0.05)
    assert echo.why == "250.0 ms late"


def test_hum_is_told_by_its_frequency_and_level() -> None:
    hum = only(found_after("woman's voice", humming(50.0, -55.0, -65.0, -60.0)), "added_tone")
    assert hum.amount == pytest.approx(-55.0, abs=0.05)
    assert hum.why == "50.00 Hz and 2 harmonics"


def test_what_begins_half_way_has_its_place() -> None:
    found = found_after("arcade music", from_half_way(scaled(-1.0)))
    assert found.causes[0].start == pytest.approx(2.0, abs=0.02), describe(found.causes)


def test_an_equaliser_switched_on_has_its_shape_and_its_place() -> None:
    found = found_after("oboe", from_half_way(peaking(1000.0, 6.0, 1.0)))
    assert {cause.cause for cause in found.causes} <= {"filter", "click"}  # it may switch with a step
    bell = next(cause for cause in found.causes if cause.cause == "filter")
    assert bell.start == pytest.approx(2.0, abs=2 / RATE)
    assert "a bell of +6.0 dB at 1\u2009000 Hz, Q 1.0" in str(bell.why)


def test_a_level_that_follows_the_sound_is_no_motion_in_time() -> None:
    """Quiet half, loud half, and a level control: its gain steps with the level, and not by one amount."""
    control = next(c for c in UNUSUAL if c.name == "level control in two bands")
    said = {cause.cause for cause in found_after("arcade music", control.make).causes}
    assert not said & {"gain_motion", "time_jump"}


def judged(case: OnSignal) -> tuple[frozenset[str], str]:
    found = after(*case.planted.sides(SIGNALS[case.signal](RATE), RATE))
    said = frozenset[str](cause.cause for cause in found.causes)
    return said - {"unexplained"}, describe(found.causes)


def judged_of(signal: str, change: str) -> str:
    return judged(next(c for c in ON_SIGNALS if (c.signal, c.planted.name) == (signal, change)))[1]


def after(reference: Floats, render: Floats) -> Comparison:
    return compare(ArraySource(reference, RATE), ArraySource(np.ascontiguousarray(render), RATE))


def decibels_of(b: Floats, a: Floats, hertz: float) -> tuple[float, float]:
    """Magnitude in dB and phase in degrees of a filter, from its transfer function."""
    _, (response,) = signal.freqz(b, a, [hertz], fs=RATE)
    return float(20 * np.log10(abs(response))), float(np.degrees(np.angle(response)))


def judged_comparison(signal_name: str, change: str) -> Comparison:
    case = next(c for c in ON_SIGNALS if (c.signal, c.planted.name) == (signal_name, change))
    x = SIGNALS[signal_name](RATE)
    return after(x, case.planted.make(x, RATE))


KNOWN = [
    case
    for case in ON_SIGNALS
    if (case.signal, case.planted.name)
    in {
        ("tone", "0.1 dB down"), ("tone", "noise at −80 dB"), ("tone", "hum at −80 dBFS"), ("noise", "64 frames twice"),
        ("tone", "a second harmonic"), ("gated tone", "33 late"), ("chord", "33 late"), ("sweep", "low-pass"),
        ("staircase", "0.1 dB down"), ("burst", "33 late"), ("burst", "attack of 8 for 5 ms"), ("clicks", "low-pass"),
        ("impulse", "100 late"), ("impulse", "low-pass"), ("impulse", "nothing"), ("square", "33 late"),
        ("silence", "noise at −80 dB"), ("silence", "hum at −80 dBFS"), ("DC", "0.1001 for 0.1"), ("DC", "0.01 more"),
        ("tone", "oversampling lost"), ("sweep", "oversampling lost"), ("two tones", "oversampling lost"),
        ("sweep", "cut at −3 dB"), ("square", "bell of 0.3 dB"), ("staircase", "hum at −80 dBFS"),
        ("tone", "64 frames twice"), ("gated tone", "64 frames twice"), ("burst", "64 frames twice"),
        ("chord", "64 frames twice"), ("sweep", "64 frames twice"), ("staircase", "threshold half a dB up"),
    }
]  # fmt: skip


@pytest.mark.parametrize("case", KNOWN, ids=lambda case: f"{case.signal}, {case.planted.name}")
def test_what_a_test_signal_can_tell_is_told(case: OnSignal) -> None:
    said, words = judged(case)
    planted = case.planted
    assert planted.causes <= said or said & planted.instead, words
    assert said <= planted.causes | planted.rest | planted.instead, words


def test_aliases_of_a_tone_are_told_by_their_orders() -> None:
    """997 Hz at 48 kHz: orders from 25 on lie over half the rate, and fold."""
    words = judged_of("tone", "oversampling lost")
    first = int(re.search(r"orders (\d+) to \d+ fold", words).group(1))
    assert first >= 25
    assert first % 2 == 1, "a curve that is the same for both signs has odd orders alone"


def test_aliases_of_a_sweep_are_told_by_their_orders() -> None:
    assert re.search(
        r"^aliasing at −3\d\.\d dBFS \(orders 3 to \d+ of the sweep fold", judged_of("sweep", "oversampling lost")
    )


def test_a_filter_of_a_chord_is_told_by_what_became_of_its_tones() -> None:
    b, a = signal.butter(1, 5000.0, fs=RATE)
    chord = SIGNALS["chord"](RATE)
    cause = only(after(chord, signal.lfilter(b, a, chord, axis=0)), "filter")
    assert cause.amount == pytest.approx(decibels_of(b, a, 440.0)[0], abs=1e-3)
    assert str(cause.why).endswith("of 4 tones")


def test_a_delay_of_a_chord_is_no_filter() -> None:
    chord = SIGNALS["chord"](RATE)
    late = only(after(chord, np.roll(chord, 33, axis=0) * (np.arange(len(chord)) >= 33)[:, None]), "delay")
    assert late.amount == pytest.approx(33.0, abs=1e-3)


def test_a_filter_of_a_gated_tone_is_told_where_it_holds_its_level() -> None:
    b, a = signal.butter(1, 5000.0, fs=RATE)
    gated = SIGNALS["gated tone"](RATE)
    level, phase = decibels_of(b, a, 1000.0)
    cause = only(after(gated, signal.lfilter(b, a, gated, axis=0)), "filter")
    assert cause.amount == pytest.approx(level, abs=2e-3)
    assert f"{abs(phase):.1f}°" in str(cause.why)


def test_a_jump_of_tones_that_come_again_says_so() -> None:
    """19 and 20 kHz come again after a millisecond: 64 frames twice may be 16, or any 48 more."""
    jump = only(judged_comparison("two tones", "64 frames twice"), "time_jump")
    assert round(jump.amount or 0.0) % 48 == 64 % 48
    assert str(jump.why).endswith("or any whole periods of 48 samples more")


def test_of_a_constant_an_offset_and_a_gain_are_one() -> None:
    constant = np.full((RATE, 1), 0.1)
    assert describe(after(constant, constant * 1.01).causes) == "an offset of +0.00100, or a gain of +0.09 dB"


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (peaking(1000.0, 3.0, 1.0), "a bell of +3.0 dB at 1\u2009000 Hz, Q 1.0"),
        (butter(2, 480.0, "high"), "a high-pass at 480 Hz, 12 dB/octave"),
        (butter(3, 6000.0, "low"), "a low-pass at 6\u2009000 Hz, 18 dB/octave"),
    ],
)
def test_filters_are_told_in_the_words_of_the_trade(change: Change, words: str) -> None:
    noise = SIGNALS["noise"](RATE)
    assert words in str(only(after(noise, change(noise, RATE)), "filter").why)


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_a_sweep_has_each_frequency_once_and_music_has_not(rate: int) -> None:
    assert is_sweep(ArraySource(SIGNALS["sweep"](rate), rate))
    for other in (SIGNALS["noise"](rate), SIGNALS["chord"](rate), load(SOUNDS["arcade music"], rate)):
        assert not is_sweep(ArraySource(other, rate))


def test_frequencies_that_moved_are_told_in_hertz() -> None:
    x = load(SOUNDS["piano"], RATE)[: 4 * RATE]
    turn = np.exp(2j * np.pi * 3.0 * np.arange(len(x)) / RATE)[:, None]
    found = after(x, (signal.hilbert(x, axis=0) * turn).real)
    assert describe(found.causes) == "the same sound with its frequencies moved by +3.00 Hz"


def test_what_was_put_in_is_not_called_repeated() -> None:
    x = load(SOUNDS["arcade music"], RATE)[: 4 * RATE]
    half = len(x) // 2
    put_in = np.random.default_rng(3).normal(scale=0.05, size=(480, x.shape[1]))
    for between, word in ((put_in, "put in"), (x[half - 480 : half], "repeated")):
        found = after(x, np.concatenate([x[:half], between, x[half:]]))
        jump = next(cause for cause in found.causes if cause.cause == "time_jump")
        assert jump.why == f"480 samples {word}"


def test_a_quarter_of_a_turn_is_an_angle_and_no_delay() -> None:
    x = load(SOUNDS["arcade music"], RATE)[: 2 * RATE]
    cause = only(after(x, signal.hilbert(x, axis=0).imag), "filter")
    assert cause.why == "all phases turned by −90°"


def test_a_difference_outside_of_what_is_looked_at_closely_is_no_silence() -> None:
    """One block in ten seconds that differs: nothing is said to lie under −140 dBFS."""
    x = np.random.default_rng(8).normal(scale=0.1, size=(10 * RATE, 1))
    y = x.copy()
    y[3 * RATE : 3 * RATE + 400] *= 1.5
    assert "−140" not in describe(after(x, y).causes)
