"""The cause of a difference on real sounds: music, voice, instruments, signals of a desktop, which nobody here made.

Truth by construction: a known change is planted in each. The sounds and their licences stand in
tests/support/material.py, the changes in tests/support/planted.py; docs/accuracy.md has the whole table.
"""

import numpy as np
import pytest
from scipy import signal

from kind_echo.core.audio.source import ArraySource
from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.filtering import _solve
from kind_echo.core.comparison.compare import compare
from kind_echo.core.comparison.pair import Comparison
from kind_echo.core.delays.delay import find_delays
from kind_echo.core.systems.latency import measure_latency
from kind_echo.wording.causes import describe
from tests.core.conftest import overall
from tests.support.material import PIECES, load
from tests.support.planted import PAIRS, SINGLE, Planted, both, butter, peaking, scaled, shifted

RATE = 48_000
SOUNDS = {piece.name: piece for piece in PIECES}
CHANGES = {change.name: change for change in (*SINGLE, *PAIRS)}


def planted(sound: str, change: Planted) -> Comparison:
    x = load(SOUNDS[sound], RATE)[: 3 * RATE]
    y = np.ascontiguousarray(change.make(x, RATE))
    return compare(ArraySource(x, RATE), ArraySource(y, RATE))


@pytest.mark.parametrize("sound", ["arcade music", "woman's voice"])
@pytest.mark.parametrize(
    "change",
    [
        "17 samples late", "upside down", "second channel 0.5 dB down", "peak of 3 dB at 1 kHz", "offset", "dropout",
        "1,000 frames short", "silent", "not a number", "smooth saturation", "16 bit", "another sound",
        "softer and noisy",
    ],
)  # fmt: skip
def test_a_planted_cause_is_named_and_no_other(sound: str, change: str) -> None:
    wanted = CHANGES[change]
    found = planted(sound, wanted)
    said = {cause.cause for cause in found.causes}
    assert wanted.causes <= said, describe(found.causes)
    assert said <= wanted.causes | wanted.rest, describe(found.causes)


@pytest.mark.parametrize(
    ("sound", "change"),
    [
        *(
            (sound, "all-pass at 1 kHz")
            for sound in ("calm music", "title music", "woman's voice", "telephone", "piano")
        ),
        ("alarm clock", "all-pass at 1 kHz"),
        ("oboe", "all-pass at 1 kHz"),
        ("guitar", "first-order low-pass"),
        ("piano", "channels exchanged"),
    ],
)
def test_a_change_of_phase_or_place_is_no_delay_polarity_gap_or_click(sound: str, change: str) -> None:
    """An all-pass of the second order turns some sounds nearly over, moves others, and steps where they step."""
    found = planted(sound, CHANGES[change])
    assert {cause.cause for cause in found.causes} == CHANGES[change].causes, describe(found.causes)


@pytest.mark.parametrize("sound", ["arcade music", "calm music", "alarm clock", "piano", "guitar", "oboe"])
def test_a_file_against_itself_differs_in_nothing(sound: str) -> None:
    x = load(SOUNDS[sound], RATE)
    source = ArraySource(x, RATE)
    found = overall(compare(source, source).readings)
    assert (found["identical"], found["clicks"], found["gaps"]) == (1.0, 0.0, 0.0)
    assert found["delay"] == 0.0
    if found.get("delay_drift") is not None:
        assert found["delay_drift"] == pytest.approx(0.0, abs=1e-6)
    latency = overall(measure_latency(source, source)[0])
    if latency.get("latency") is not None:
        assert latency["latency"] == pytest.approx(0.0, abs=1e-6)
        assert latency["latency_jitter"] == pytest.approx(0.0, abs=1e-6)


def test_the_equaliser_of_a_build_is_read_off_its_render_of_a_song() -> None:
    """R. Bristow-Johnson, Cookbook formulae for audio equalizer biquad filter coefficients: 3 dB at 1 kHz, Q 1."""
    found = planted("arcade music", CHANGES["peak of 3 dB at 1 kHz"])
    (cause,) = found.causes
    assert cause.amount == pytest.approx(3.0, abs=0.1)
    assert "a bell of +3.0 dB at 1\u2009000 Hz, Q 1.0" in str(cause.why)
    curve = found.curves["filter_magnitude"]
    levels = np.interp([250.0, 1000.0, 6000.0], curve.x, curve.y)
    assert levels == pytest.approx([0.2, 3.0, 0.0], abs=0.15)
    level = overall(found.readings)
    assert level["account_fraction"] - level["account_filter"] > 25


@pytest.mark.parametrize("corner", [3000.0, 8000.0])
def test_a_low_pass_is_neither_a_delay_nor_another_sound(corner: float) -> None:
    """A Butterworth filter of the second order, by the bilinear transform; its phase bends over all of the band."""
    found = planted("arcade music", Planted("low-pass", butter(2, corner, "low"), frozenset({"filter"})))
    (cause,) = found.causes
    assert cause.cause == "filter", describe(found.causes)
    assert f"a low-pass at {corner / 1000:.0f}\u2009000 Hz, 12 dB/octave" in str(cause.why)
    assert overall(found.readings)["delay"] == pytest.approx(0.0, abs=0.05)


def test_a_gain_beside_a_filter_that_hides_it_is_named() -> None:
    """1.5 dB down beside a boost of 4 dB: neither takes off much by itself."""
    change = both(scaled(-1.5), peaking(1000.0, 4.0, 1.0))
    found = planted("arcade music", Planted("softer and boosted", change, frozenset({"gain", "filter"})))
    amounts = {cause.cause: cause.amount for cause in found.causes}
    assert set(amounts) == {"gain", "filter"}, describe(found.causes)
    assert amounts["gain"] == pytest.approx(-1.5, abs=0.1)


def test_a_curve_that_was_found_is_that_of_the_saturator() -> None:
    found = planted("woman's voice", CHANGES["smooth saturation"])
    curve = found.curves["output_over_input"]
    inside = np.abs(curve.x) < 0.5
    assert np.array(curve.y)[inside] == pytest.approx(np.tanh(1.5 * np.array(curve.x)[inside]) / 1.5, abs=2e-3)


def test_a_saturation_is_not_hidden_by_a_delay_that_was_larger() -> None:
    said = [cause.cause for cause in planted("oboe", CHANGES["late and saturated"]).causes]
    assert set(said) == {"delay", "non_linear"}


@pytest.mark.parametrize("slope", [0.0, -3.0, -6.0])
def test_noise_of_a_colour_has_no_delay_against_other_noise_of_it(slope: float) -> None:
    rng = np.random.default_rng(round(-slope) + 1)
    shape = np.maximum(1, np.arange(RATE // 2 + 1)) ** (slope / 6.02)
    for _ in range(8):
        a, b = (np.fft.irfft(np.fft.rfft(rng.standard_normal(RATE)) * shape, RATE)[:, None] for _ in range(2))
        assert find_delays(ArraySource(a, RATE), ArraySource(b, RATE))[0].samples is None


@pytest.mark.parametrize(("sound", "seed"), [("arcade music", 5), ("calm music", 1053), ("oboe", 1095)])
def test_shuffled_music_has_no_delay(sound: str, seed: int) -> None:
    """The last two shuffles lay loops and notes over each other that are the same in some bands alone."""
    x, rng = load(SOUNDS[sound], RATE), np.random.default_rng(seed)
    parts = np.array_split(x, int(rng.integers(12, 40)))
    y = np.concatenate([parts[i] for i in rng.permutation(len(parts))])[: len(x)]
    assert find_delays(ArraySource(x, RATE), ArraySource(y, RATE))[0].samples is None


def test_a_high_pass_takes_nothing_from_the_delay() -> None:
    x = load(SOUNDS["guitar"], RATE)[:, :1]
    y = signal.lfilter(*signal.butter(2, 100, "high", fs=RATE), x, axis=0)
    delay, _ = find_delays(ArraySource(x, RATE), ArraySource(np.ascontiguousarray(y), RATE))
    assert delay.samples == pytest.approx(0.0, abs=0.01)


@pytest.mark.parametrize("sound", ["guitar", "oboe", "piano"])
@pytest.mark.parametrize("decibels", [10.0, 20.0, 40.0])
def test_what_repeats_has_its_own_delay_in_noise(sound: str, decibels: float) -> None:
    """The same notes again fit elsewhere nearly as well, and noise bends the phases: neither pulls the delay."""
    x = load(SOUNDS[sound], RATE)[: 4 * RATE]
    y = np.asarray(shifted(7.4)(x, RATE))
    noise = np.random.default_rng(2).standard_normal(y.shape) * np.sqrt(np.mean(y**2)) * 10 ** (-decibels / 20)
    delay, _ = find_delays(ArraySource(x, RATE), ArraySource(np.ascontiguousarray(y + noise), RATE))
    assert delay.samples is not None
    assert delay.uncertainty is not None
    assert delay.samples == pytest.approx(7.4, abs=1.5 * delay.uncertainty)
    assert delay.uncertainty < 0.02


def test_a_gain_under_drift_is_a_cause_where_the_sides_are_lined_up_and_no_reading_without_a_delay() -> None:
    x = load(SOUNDS["arcade music"], RATE)
    y = np.asarray(CHANGES["clock 50 ppm slow"].make(x, RATE)) * 10 ** (-1.5 / 20)
    found = compare(ArraySource(x, RATE), ArraySource(y, RATE))
    read = overall(found.readings)
    assert read["delay_drift"] == pytest.approx(50.0, abs=1.0)
    assert read["delay"] is None
    assert read["gain"] is None
    amounts: dict[str, float | None] = {cause.cause: cause.amount for cause in found.causes}
    assert amounts["drift"] == pytest.approx(50.0, abs=1.0)
    assert amounts["gain"] == pytest.approx(-1.5, abs=0.02)


def test_words_for_causes() -> None:
    causes = [
        Cause("delay", amount=-1.0, unit="samples"), Cause("gain", amount=-3.0, unit="dB"),
        Cause("channel_gain", "2", 0.5, "dB"), Cause("dc", amount=-0.004, unit="FS"), Cause("gap", amount=2.0),
        Cause("quantisation", amount=16.0), Cause("drift", amount=50.0, unit="ppm"), Cause("channel_missing", "1"),
    ]  # fmt: skip
    assert describe(causes) == (
        "1 sample early, 3.00 dB down, 0.50 dB up in channel 2, an offset of −0.00400, 2 gaps, "
        "rounding to shorter words, of 16 bits, a clock 50.0 ppm slow, channel 1 is silent"
    )


@pytest.mark.parametrize("taps", [200, 900])
@pytest.mark.parametrize("tonal", [False, True])
def test_taps_are_those_of_numpys_solver_of_any_length(taps: int, tonal: bool) -> None:
    """Of a tone the Gram matrix has rank 2, and is positive definite by its ridge alone, or by rounding not at all."""
    rng = np.random.default_rng(taps)
    rows = (
        np.cos(0.1 * (np.arange(4 * taps)[:, None] - np.arange(taps))) if tonal else rng.normal(size=(2 * taps, taps))
    )
    gram, wanted = rows.T @ rows, rng.normal(size=taps)
    cross, ridge = gram @ wanted, 1e-9
    found = _solve(np.triu(gram), cross, ridge)
    assert found is not None
    loaded = gram + ridge * np.trace(gram) / taps * np.eye(taps)
    # What the taps make of the reference is told, whatever taps that a tone does not tell apart do.
    assert rows @ found == pytest.approx(rows @ np.linalg.solve(loaded, cross), abs=1e-4 * np.abs(rows @ wanted).max())
