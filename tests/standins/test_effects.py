"""Each stand-in effect does what it says: static curve, ceiling, slopes, sums, latency, bits alike for any block."""

from itertools import combinations
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from kind_echo.core.audio.source import ArraySource, Samples, as_rows
from kind_echo.core.comparison.takes import take_spread
from kind_echo.core.levels.meters import LevelOptions, PeakMeter
from kind_echo.core.registry.readings import value_of
from kind_echo.core.signals import make_request, synthesise
from kind_echo.core.systems.transfer import measure_curve
from kind_echo.core.tones.tone import ToneOptions, measure_tone
from kind_echo.standins.catalogue import STAND_INS, load_effect
from kind_echo.standins.effects import NoSuchEffect, Values

RATE = 48_000
_GOOD = {name: stand_in.builds[0].version for name, stand_in in STAND_INS.items()}


def _play(name: str, values: Values, samples: Samples, version: str = "", rate: int = RATE) -> Samples:
    """What comes out, claimed latency taken off, as long as what went in."""
    effect = load_effect(name, version or _GOOD[name], values, rate, samples.shape[1])
    out = effect.process(np.concatenate([samples, np.zeros((effect.claimed_latency, samples.shape[1]))]))
    return out[effect.claimed_latency :]


def _tone(frequency: float, level: float, seconds: float = 1.0) -> Samples:
    return 10 ** (level / 20) * np.sin(2 * np.pi * frequency * np.arange(round(seconds * RATE)) / RATE)[:, None]


@settings(max_examples=40)
@given(
    st.sampled_from(sorted(STAND_INS)),
    st.lists(st.integers(1, 1500), min_size=2, max_size=6),
    st.sampled_from([22_050, 44_100, 96_000]),
)
def test_block_sizes_change_no_bit_of_a_good_build(name: str, sizes: list[int], rate: int) -> None:
    samples = np.random.default_rng(2).uniform(-1, 1, (sum(sizes), 2))
    whole = load_effect(name, _GOOD[name], {}, rate, 2).process(samples)
    effect = load_effect(name, _GOOD[name], {}, rate, 2)
    parts = [effect.process(block) for block in np.split(samples, np.cumsum(sizes)[:-1])]
    assert np.array_equal(np.concatenate(parts), whole)


@pytest.mark.parametrize("name", sorted(STAND_INS))
def test_every_build_of_every_effect_processes_and_claims_a_latency(name: str) -> None:
    noise = np.random.default_rng(1).uniform(-0.5, 0.5, (4800, 2))
    for build in STAND_INS[name].builds:
        effect = load_effect(name, build.version, {}, RATE, 2)
        assert effect.claimed_latency >= 0
        assert effect.process(noise).shape == noise.shape


@pytest.mark.parametrize(("ratio", "knee", "makeup"), [(2.0, 0.0, 0.0), (4.0, 6.0, 3.0), (8.0, 0.0, -2.0)])
def test_the_plain_compressor_follows_the_arithmetic(ratio: float, knee: float, makeup: float) -> None:
    """Giannoulis, Massberg, Reiss (2012), equation 4: the static curve, read from a staircase by the product's own fit
    and here at three levels by arithmetic."""
    stairs = synthesise(make_request("staircase", level=0.0, climb=4.0), RATE)
    values: Values = {"threshold": -20.0, "ratio": ratio, "knee": knee, "make-up": makeup}
    out = _play("Towpath", values, stairs)
    _, curves = measure_curve(ArraySource(stairs, RATE), ArraySource(out, RATE))
    x, y = np.asarray(curves["transfer"].x), np.asarray(curves["transfer"].y)
    for level in (-40.0, -20.0, -4.0):
        over = level + 20.0
        expected = level + makeup
        if 2 * over > knee:
            expected = -20.0 + over / ratio + makeup
        elif 2 * abs(over) <= knee and knee:
            expected += (1 / ratio - 1) * (over + knee / 2) ** 2 / (2 * knee)
        assert np.interp(level, x, y) == pytest.approx(expected, abs=0.05)


def test_the_worked_example_of_a_compressor() -> None:
    """In −10 dB, threshold −20 dB, 5:1, hard knee: out −18 dB (handbook arithmetic)."""
    out = _play("Towpath", {"threshold": -20.0, "ratio": 5.0}, _tone(1000, -10))
    assert 20 * np.log10(np.abs(out[RATE // 2 :]).max()) == pytest.approx(-18.0, abs=0.02)


def test_characters_differ_as_they_say() -> None:
    tone = _tone(1000, -8, 2.0)
    harmonic = {}
    for character in ("plain", "copper"):
        out = _play("Towpath", {"character": character}, tone)
        readings, _ = measure_tone(ArraySource(out, RATE), ToneOptions(1000.0))
        harmonic[character] = value_of(readings, "harmonic_3") or -200.0
    assert harmonic["copper"] > -75 > harmonic["plain"] + 15
    click = np.zeros((RATE, 1))
    click[1000:1020] = 1.0
    passed = {c: np.abs(_play("Towpath", {"character": c, "attack": 0.0}, click)).max() for c in ("plain", "heron")}
    assert passed["heron"] > 1.5 * passed["plain"]
    anvil = _play("Towpath", {"character": "anvil", "threshold": -12.0, "attack": 50.0}, tone)
    assert np.abs(anvil).max() <= 10 ** (-12 / 20) + 1e-12
    kettle = _play("Towpath", {"character": "kettle"}, np.zeros((RATE, 1)))
    assert 10 * np.log10(2 * np.mean(kettle**2)) == pytest.approx(-84.0, abs=0.1)
    hits = np.zeros((RATE, 1))
    for start in range(0, RATE, RATE // 8):
        hits[start : start + 480] = 0.9
    assert np.array_equal(_play("Towpath", {"character": "drowse"}, hits), hits)
    assert np.abs(_play("Towpath", {"character": "drowse"}, tone)[RATE:]).max() < 0.3


def test_automatic_make_up_gives_half_of_the_greatest_reduction_back() -> None:
    quiet = _tone(1000, -40)
    out = _play("Towpath", {"threshold": -20.0, "ratio": 4.0, "automatic make-up": "on"}, quiet)
    assert 20 * np.log10(np.abs(out).max() / np.abs(quiet).max()) == pytest.approx(7.5, abs=0.001)


@pytest.mark.parametrize("peaks", ["of samples", "between samples"])
def test_the_limiter_holds_its_ceiling(peaks: str) -> None:
    """A tone at a quarter of the rate, 45° off, has its true peak 3.01 dB over its sample peak (ITU-R BS.1770-5)."""
    quarter = np.sin(2 * np.pi * 12_000 * np.arange(RATE) / RATE + np.pi / 4)[:, None]
    loud = np.concatenate([_tone(200, 0, 0.3), quarter, np.random.default_rng(4).uniform(-1, 1, (RATE // 2, 1))])
    out = _play("Holdfast", {"ceiling": -6.0, "peaks": peaks}, loud)
    assert np.abs(out).max() <= 10 ** (-6 / 20) + 1e-12
    meter = PeakMeter(1, RATE, LevelOptions())
    meter.add(as_rows(out[RATE // 2 : RATE + RATE // 5]))
    peak = value_of(meter.readings(), "true_peak")
    assert peak == pytest.approx(-6.0 if peaks == "between samples" else -2.99, abs=0.1)


def test_under_its_ceiling_the_limiter_changes_no_bit() -> None:
    noise = np.random.default_rng(5).uniform(-0.4, 0.4, (RATE // 4, 2))
    assert np.array_equal(_play("Holdfast", {"ceiling": -6.0}, noise), noise)


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_the_bands_of_the_splitter_sum_to_the_input(rate: int) -> None:
    noise = np.random.default_rng(6).uniform(-0.5, 0.5, (rate // 2, 1))
    bands = [_play("Weir", {"output": band}, noise, rate=rate) for band in ("low", "middle", "high")]
    difference = sum(bands) - noise
    assert 10 * np.log10(2 * np.mean(difference**2)) < -140.0
    assert np.allclose(_play("Weir", {"output": "all"}, noise, rate=rate), noise, atol=1e-12)


def test_the_splitter_falls_by_24_db_an_octave_and_is_linear_in_phase() -> None:
    """Two Butterworth filters of second order in cascade: −6.02 dB at the corner, then −24 dB an octave."""
    impulse = np.zeros((RATE, 1))
    impulse[RATE // 2] = 1.0
    low = _play("Weir", {"output": "low", "lower corner": 250.0}, impulse)[:, 0]
    frequency, response = signal.freqz(low, worN=RATE, fs=RATE)
    level = 20 * np.log10(np.abs(response) + 1e-12)
    at = {octaves: float(np.interp(250 * 2**octaves, frequency, level)) for octaves in (0, 2, 3, 4)}
    assert at[0] == pytest.approx(-6.02, abs=0.05)
    assert at[2] - at[3] == pytest.approx(24.0, abs=0.3)
    assert at[3] - at[4] == pytest.approx(24.0, abs=0.3)
    assert np.allclose(low[RATE // 2 - 1000 : RATE // 2], low[RATE // 2 + 1000 : RATE // 2 : -1], atol=1e-15)


def test_the_rate_reducer_folds_without_its_filter_and_not_with_it() -> None:
    """Folding at R = 12 kHz: 8 kHz becomes 4 kHz (arithmetic)."""
    tone = _tone(8000, -6)
    for switch, least, most in (("off", -12.0, 0.0), ("on", -200.0, -80.0)):
        out = _play("Rushlight", {"filter": switch}, tone)[4800:, 0]
        window = signal.windows.hann(len(out))
        spectrum = np.abs(np.fft.rfft(out * window)) / window.sum() * 2
        line = 20 * np.log10(spectrum[np.argmin(np.abs(np.fft.rfftfreq(len(out), 1 / RATE) - 4000))] + 1e-12)
        assert least < line < most


def test_a_wandering_clock_makes_no_two_renders_alike() -> None:
    tone = _tone(440, -6)
    first, second = (_play("Rushlight", {"wander": 1.0}, tone) for _ in range(2))
    assert not np.array_equal(first, second)
    assert np.array_equal(*(_play("Rushlight", {}, tone) for _ in range(2)))  # type: ignore[arg-type]


def test_takes_of_a_wandering_clock_lie_equally_far_apart(monkeypatch: pytest.MonkeyPatch) -> None:
    """Swings at other phases give the same aliasing at other moments: no delay, that would make a residual greater."""
    organ = synthesise(
        make_request(kind="piece", piece="reed organ", density="dense", level=-26.0, seconds=2.5), 96_000
    )
    draws = iter(np.pi * np.array([0.25, 1.0, 1.5]))
    monkeypatch.setattr(np.random, "default_rng", lambda: SimpleNamespace(uniform=lambda _, __: next(draws)))
    takes = [ArraySource(_play("Rushlight", {"wander": 1.0}, organ, rate=96_000), 96_000) for _ in range(3)]
    pairs = [take_spread([one, other]).value for one, other in combinations(takes, 2)]
    assert max(pairs) - min(pairs) < 2.0


@pytest.mark.parametrize(("strength", "least", "most"), [("gentle", -8.0, -2.0), ("firm", -20.0, -6.0)])
def test_the_tamer_takes_a_resonance_down_and_gives_what_it_took(strength: str, least: float, most: float) -> None:
    noise = 0.01 * np.random.default_rng(7).standard_normal((RATE, 1))
    ringing = noise + _tone(1000, -12)
    out = _play("Sedge", {"strength": strength}, ringing)
    taken = _play("Sedge", {"strength": strength, "output": "difference"}, ringing)
    np.testing.assert_allclose(out + taken, ringing, atol=1e-12)
    middle = slice(RATE // 4, RATE // 2)
    assert least < 20 * np.log10(np.std(out[middle]) / np.std(ringing[middle])) < most


def test_the_utility_is_a_factor() -> None:
    noise = np.random.default_rng(8).uniform(-1, 1, (100, 2))
    assert np.array_equal(_play("Plumb", {}, noise), noise)
    assert np.array_equal(_play("Plumb", {"polarity": "turned"}, noise), -noise)
    np.testing.assert_allclose(_play("Plumb", {"gain": 20.0}, noise), 10 * noise, rtol=1e-14)


def test_the_noise_remover_takes_a_steady_tone_away_and_lets_a_strike_pass() -> None:
    out = _play("Fogbank", {}, _tone(997, -6, 2.0))
    assert 20 * np.log10(np.abs(out[RATE:-4800]).max()) < -40
    bells = synthesise(make_request("bells", seconds=1.0, level=-6.0), RATE)
    assert np.abs(_play("Fogbank", {}, bells)).max() > 0.5 * np.abs(bells).max()
    assert load_effect("Fogbank", "1.1", {}, RATE, 1).claimed_latency == round(0.040 * RATE)


def test_an_effect_that_does_not_exist_is_refused() -> None:
    with pytest.raises(NoSuchEffect, match="no stand-in effect named Nothing"):
        load_effect("Nothing", "1", {}, RATE, 1)
