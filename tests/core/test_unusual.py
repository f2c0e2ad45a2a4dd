"""Causes that hold in time, between channels and on test signals. Truth by construction: a known change is planted.

The changes stand in tests/support/unusual.py and tests/support/on_signals.py; docs/accuracy.md has the whole tables.
"""

import numpy as np
import pytest

from kind_echo.core.audio.source import ArraySource
from kind_echo.core.causes.cause import Cause
from kind_echo.core.comparison.compare import Comparison, compare
from kind_echo.core.comparison.places import find_places
from kind_echo.wording.causes import cause_text, describe
from tests.support.material import PIECES, load
from tests.support.on_signals import ON_SIGNALS, SIGNALS, OnSignal
from tests.support.planted import Change, Planted, both, scaled
from tests.support.unusual import (
    UNUSUAL,
    echoing,
    from_half_way,
    humming,
    lost,
    mixed,
    repeated,
    stepped,
    swapped,
    swinging,
    wandering,
)

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
    found = found_after("arcade music", planted.make)
    said = {cause.cause for cause in found.causes} - {"unexplained"}
    assert planted.causes <= said, describe(found.causes)
    assert said <= planted.causes | planted.rest, describe(found.causes)


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


def test_a_level_that_follows_the_sound_is_no_motion_in_time() -> None:
    """Quiet half, loud half, and a level control: its gain steps with the level, and not by one amount."""
    control = next(c for c in UNUSUAL if c.name == "level control in two bands")
    said = {cause.cause for cause in found_after("arcade music", control.make).causes}
    assert not said & {"gain_motion", "time_jump"}


def judged(case: OnSignal) -> tuple[frozenset[str], str]:
    x = SIGNALS[case.signal](RATE)
    reference = x if case.before is None else case.before(x, RATE)
    render = np.ascontiguousarray(case.planted.make(x, RATE))
    found = compare(ArraySource(reference, RATE), ArraySource(render, RATE))
    said = frozenset[str](cause.cause for cause in found.causes)
    return said - {"unexplained"}, describe(found.causes)


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
        ("tone", "oversampling lost"),
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
    case = next(c for c in ON_SIGNALS if (c.signal, c.planted.name) == ("tone", "oversampling lost"))
    assert "orders 27 to" in judged(case)[1]
