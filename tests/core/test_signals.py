"""Signals are what they say: checked against closed forms, standards, and other makers of the same signal."""

import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from kind_echo.core.audio.dither import to_word_length
from kind_echo.core.audio.folding import fold
from kind_echo.core.audio.level_map import FLOOR, level_map
from kind_echo.core.audio.resampling import resample
from kind_echo.core.audio.source import ArraySource
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.signals import all_kinds, every_parameter, make_request, synthesise, whole_seconds
from kind_echo.core.signals.aliases import expected_aliases
from kind_echo.core.signals.parameter import DENSITIES, PIECES

RATE = 48_000


def _mono(kind: str, rate: int = RATE, **asked: Any) -> Any:
    return synthesise(make_request(kind, **asked), rate)[:, 0]


@settings(max_examples=60)
@given(
    frequency=st.floats(100.0, 15_000.0), seconds=st.sampled_from([0.5, 1.0, 2.0, 3.0]),
    rate=st.sampled_from([44_100, 48_000, 96_000]),
)  # fmt: skip
def test_no_alias_of_a_coherent_tone_falls_on_a_harmonic(frequency: float, seconds: float, rate: int) -> None:
    """Coprime cycles and samples give each harmonic a bin of its own (IEEE Std 1241-2010, coherent sampling)."""
    asked = make_request("tone", frequency=frequency, seconds=seconds, coherent=True)
    played = asked.one_sine
    cycles = played * seconds
    assert abs(cycles - round(cycles)) < 1e-9
    assert abs(played - frequency) < 60 / seconds
    # Up to the order at which all bins are taken, each harmonic has a bin of its own.
    bins = [round(fold(order * played, rate) * seconds) for order in range(1, 60)]
    assert len(set(bins)) == len(bins)


def test_the_aliases_of_a_tone_are_told_by_order() -> None:
    """By hand: at 48 kHz the 25th harmonic of 997 Hz, 24 925 Hz, lies 925 Hz above half the rate."""
    first, second = expected_aliases(997.0, 48_000)[:2]
    assert (first.order, first.frequency, first.folded) == (25, 24_925.0, 23_075.0)
    assert (second.order, second.folded) == (26, 22_078.0)


@pytest.mark.parametrize(("law", "method"), [("exponential", "logarithmic"), ("linear", "linear")])
def test_a_sweep_is_the_chirp_of_a_reference_library(law: Any, method: str) -> None:
    """scipy.signal.chirp, which begins as a cosine."""
    asked = {"start": 20.0, "end": 20_000.0, "seconds": 2.0, "fade": 0.0, "level": 0.0}
    ours = _mono("sweep", law=law, **asked)  # type: ignore[arg-type]
    time = np.arange(len(ours)) / RATE
    theirs = signal.chirp(time, 20.0, 2.0, 20_000.0, method=method, phi=-90)  # type: ignore[call-overload]
    assert np.abs(ours - theirs).max() < 1e-6


@pytest.mark.parametrize("order", [6, 8, 11])
def test_a_maximum_length_sequence_correlates_with_itself_alone(order: int) -> None:
    """S. W. Golomb, Shift register sequences: the periodic autocorrelation is N at 0 and −1 elsewhere."""
    length = 2**order - 1
    once = _mono("sequence", order=order, level=0.0, seconds=length / RATE)
    assert len(once) == length
    correlation = np.fft.irfft(np.abs(np.fft.rfft(once)) ** 2, length)
    assert np.allclose(correlation[1:], -1.0, atol=1e-6)
    assert correlation[0] == pytest.approx(length)
    assert np.abs(once).max() == pytest.approx(np.sqrt(np.mean(once**2)))  # a crest factor of 0 dB


def test_two_tones_stand_at_four_to_one() -> None:
    """SMPTE RP 120: 60 Hz and 7 kHz at 4:1, the sum's peak at the level."""
    samples = _mono("pair", frequency=60.0, second=7000.0, ratio=4.0, level=0.0, seconds=1.0, fade=0.0)
    heights = 2 * np.abs(np.fft.rfft(samples)) / len(samples)
    assert (heights[60], heights[7000]) == pytest.approx((0.8, 0.2), abs=1e-9)
    assert np.delete(heights, [60, 7000]).max() < 1e-9


def test_steps_climb_in_even_parts_of_an_octave() -> None:
    samples = _mono("steps", start=1000.0, end=8000.0, per_octave=2.0, step_seconds=0.5)
    tones = samples.reshape(7, -1)
    found = [np.argmax(np.abs(np.fft.rfft(tone * np.hanning(len(tone))))) * 2.0 for tone in tones]
    assert found == pytest.approx([1000 * 2 ** (k / 2) for k in range(7)], abs=2.0)


def test_stairs_climb_by_even_decibels() -> None:
    samples = _mono("staircase", lowest=-40.0, climb=10.0, level=0.0, step_seconds=0.2, frequency=1000.0)
    peaks = 20 * np.log10(np.abs(samples.reshape(5, -1)).max(axis=1))
    assert peaks == pytest.approx([-40, -30, -20, -10, 0], abs=0.01)


def test_a_burst_is_low_high_low() -> None:
    samples = _mono("burst", level=-6.0, low=20.0, seconds=2.0, frequency=1000.0)
    peaks = 20 * np.log10(np.abs(samples.reshape(4, -1)).max(axis=1))
    assert peaks == pytest.approx([-26, -6, -26, -26], abs=0.01)


def test_band_noise_keeps_to_its_band() -> None:
    samples = _mono("noise", color="band", start=1000.0, end=2000.0, level=-20.0, seconds=2.0)
    power = np.abs(np.fft.rfft(samples)) ** 2
    frequency = np.fft.rfftfreq(len(samples), 1 / RATE)
    inside = (frequency >= 1000) & (frequency <= 2000)
    assert power[~inside].sum() < 1e-20 * power.sum()
    assert 10 * np.log10(2 * np.mean(samples**2)) == pytest.approx(-20.0, abs=1e-9)  # AES17: a full-scale sine reads 0


@pytest.mark.parametrize(
    ("placement", "second"),
    [("equal", lambda x: x), ("first", lambda x: 0 * x), ("opposite", lambda x: -x)],
)
def test_channels_are_placed_as_asked(placement: Any, second: Any) -> None:
    samples = synthesise(make_request("bells", channels=2, placement=placement), RATE)
    assert np.array_equal(samples[:, 1], second(samples[:, 0]))
    assert np.array_equal(samples[:, 0], _mono("bells"))


def test_channels_apart_have_nothing_in_common() -> None:
    samples = synthesise(make_request("noise", channels=2, placement="apart", seconds=4.0), RATE)
    assert abs(np.corrcoef(samples.T)[0, 1]) < 0.02  # type: ignore[index]
    alone = synthesise(make_request("tone", channels=2, placement="second"), RATE)
    assert not alone[:, 0].any()
    with pytest.raises(BadParameter, match="random signal"):
        make_request("tone", channels=2, placement="apart")
    with pytest.raises(BadParameter, match="2 where the channels are not equal"):
        make_request("tone", channels=1, placement="first")


@pytest.mark.parametrize("density", DENSITIES)
@pytest.mark.parametrize("piece", PIECES)
def test_a_piece_is_the_same_sound_at_two_rates(piece: Any, density: Any) -> None:
    """Against libsoxr's conversion of the one into the other; both hold nothing above 20 kHz but what is 71 dB down."""
    asked = make_request("piece", piece=piece, density=density, seconds=2.0, level=-20.0)
    low, high = synthesise(asked, 48_000), synthesise(asked, 96_000)
    difference = (resample(high, 96_000, 48_000) - low)[2000:-2000]
    assert 10 * np.log10(np.mean(difference**2) / np.mean(low**2)) < -60
    assert 10 * np.log10(2 * np.mean(low**2)) == pytest.approx(-20.0, abs=1e-6)


@settings(max_examples=40)
@given(
    kind=st.sampled_from(list(all_kinds())), rate=st.sampled_from([44_100, 48_000]), seconds=st.floats(0.3, 1.5),
    lead_in=st.floats(0.0, 0.5), tail=st.floats(0.0, 0.5), step=st.floats(0.1, 0.2),
)  # fmt: skip
def test_the_length_is_known_before_it_is_made(
    kind: str, rate: int, seconds: float, lead_in: float, tail: float, step: float
) -> None:
    asked = make_request(kind, seconds=seconds, lead_in=lead_in, tail=tail, step_seconds=step, climb=6.0, order=8)
    samples = synthesise(asked, rate)
    assert abs(len(samples) - whole_seconds(asked, rate) * rate) <= 0.5 * whole_seconds(asked, rate) / step + 2
    assert not samples[: round(lead_in * rate)].any()


def test_every_kind_is_described_with_all_that_can_be_set() -> None:
    assert len(all_kinds()) >= 13
    for name, kind in all_kinds().items():
        assert kind.title
        assert kind.purpose.endswith(".")
        assert kind.expect.endswith(".")
        make_request(name, **{key: every_parameter()[key][1] for key in kind.form()})


@pytest.mark.parametrize(
    "asked",
    [{"kind": "hum"}, {"kind": "tone", "frequency": 24_000.0}, {"kind": "sweep", "start": 500.0, "end": 500.0},
     {"kind": "noise", "color": "brown"}, {"kind": "tone", "level": 1.0}, {"kind": "bells", "seconds": float("nan")},
     {"kind": "sequence", "order": 30}, {"kind": "piece", "piece": "organ"}],
)  # fmt: skip
def test_what_cannot_be_had_is_refused(asked: dict[str, Any]) -> None:
    with pytest.raises(BadParameter):
        synthesise(make_request(**asked), RATE)


def test_dithered_words_err_by_a_quarter_of_a_squared_step_whatever_the_signal() -> None:
    """Lipshitz, Wannamaker and Vanderkooy (1992): with TPDF the total error has mean 0 and variance LSB²/4."""
    step = 2.0**-15
    for offset in (0.0, 0.25, 0.5):
        samples = np.full((400_000, 1), offset * step)
        error = (to_word_length(samples, 16, dithered=True) - samples) / step
        assert abs(error.mean()) < 0.004
        assert error.var() == pytest.approx(0.25, abs=0.004)
        plain = (to_word_length(samples, 16, dithered=False) - samples) / step
        assert np.abs(plain).max() <= 0.5


def test_a_tone_under_the_last_bit_lives_on_in_dither_alone() -> None:
    tone = (0.4 * 2.0**-15 * np.sin(2 * np.pi * 1000 * np.arange(RATE * 4) / RATE))[:, None]
    assert not to_word_length(tone, 16, dithered=False).any()
    kept = to_word_length(tone, 16, dithered=True)[:, 0]
    height = 2 * np.abs(np.fft.rfft(kept))[4000] / len(kept)
    assert height / (0.4 * 2.0**-15) == pytest.approx(1.0, abs=0.02)
    assert to_word_length(np.array([[1.0], [-1.0]]), 16, dithered=False)[:, 0] == pytest.approx([1 - 2.0**-15, -1.0])
    with pytest.raises(BadParameter):
        to_word_length(tone, 7, dithered=True)


def test_the_map_shows_a_tone_in_its_band_and_at_its_time() -> None:
    """A sine reads at most 0.83 dB low between two lines of a four-term Blackman-Harris (F. J. Harris, 1978)."""
    samples = _mono("tone", frequency=3000.0, level=-10.0, seconds=1.0, lead_in=1.0)[:, None]
    found = level_map(ArraySource(samples, RATE), 40, 96)
    assert (found.levels[:18] == FLOOR).all()
    band = int(np.log(3000.0 / found.low) / np.log(found.high / found.low) * 96)
    loudest = found.levels[30]
    assert abs(int(np.argmax(loudest)) - band) <= 1
    assert -10.9 < loudest.max() < -9.9
    assert level_map(ArraySource(np.zeros((10, 1)), RATE), 4, 8).levels.max() == FLOOR


@pytest.mark.parametrize("kind", all_kinds())
@pytest.mark.parametrize("rate", [44_100, 96_000])
def test_a_signal_is_the_same_again_and_at_its_level(kind: str, rate: int) -> None:
    request = make_request(kind, level=-12.0, seconds=1.5, channels=2, lead_in=0.1, end=15_000.0, step_seconds=0.2)
    samples = synthesise(request, rate)
    assert np.array_equal(samples, synthesise(request, rate))
    assert not samples[: round(0.1 * rate)].any()
    if kind in ("noise", "piece"):
        sound = samples[round(0.1 * rate) :]
        assert 10 * math.log10(2 * np.mean(sound**2)) == pytest.approx(-12, abs=1e-6)
    elif kind not in ("silence", "pair"):
        assert 20 * math.log10(np.abs(samples).max()) == pytest.approx(-12, abs=0.15)


def test_pink_noise_falls_by_three_decibels_an_octave() -> None:
    """Power density ∝ 1/f: equal power in every octave."""
    samples = synthesise(make_request("noise", color="pink", seconds=20.0), 48_000)[:, 0]
    power = np.abs(np.fft.rfft(samples)) ** 2
    f = np.fft.rfftfreq(len(samples), 1 / 48_000)
    octaves = [10 * np.log10(power[(f >= low) & (f < 2 * low)].sum()) for low in (100, 400, 1600, 6400)]
    assert max(octaves) - min(octaves) < 0.3
