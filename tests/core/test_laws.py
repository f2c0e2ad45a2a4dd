"""Laws that hold for any audio: blocks change nothing, channels do not mix, scaling and shifting do what they say."""

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kind_echo.core.audio.align import AlignedSource, Alignment, DifferenceSource, advance, overlap
from kind_echo.core.audio.peaks import build_levels, columns_from_bins, columns_from_samples, level_for, reconstruct
from kind_echo.core.audio.source import ArraySource, blocks, in_memory, read_padded
from kind_echo.core.audio.spectrum import level_spectrum
from kind_echo.core.comparison.compare import compare
from kind_echo.core.compiled import gate, loops, recursions
from kind_echo.core.levels import analysis
from kind_echo.core.levels.analysis import measure, measure_render
from kind_echo.core.registry.errors import ChannelMismatch, RateMismatch
from tests.core.conftest import columns, noise, overall, reading, sine


@pytest.mark.parametrize("size", [997, 4096, 30_011])
def test_the_size_of_blocks_changes_no_reading(monkeypatch: pytest.MonkeyPatch, size: int) -> None:
    samples = noise(100_000, 2) * np.linspace(0.1, 3.0, 100_000)[:, None]
    samples[:5000] = 0.0
    samples[60_000:60_010] = 1.0
    audio = ArraySource(samples, 44_100)
    whole = measure(audio)
    monkeypatch.setattr(analysis, "PASS", size)
    for one, other in zip(whole, measure(audio), strict=True):
        assert one.measure == other.measure
        assert one.value == pytest.approx(other.value, abs=1e-6), one.measure


def test_the_size_of_blocks_changes_no_comparison(monkeypatch: pytest.MonkeyPatch) -> None:
    x = noise(120_000, 2)
    y = np.roll(x, 5, axis=0) * 0.8 + noise(120_000, 2, seed=9, level=1e-4)
    y[50_000:50_200] = 0.0
    whole = compare(ArraySource(x, 48_000), ArraySource(y, 48_000)).readings
    for module in ("audio.align", "levels.analysis", "levels.integrity"):
        monkeypatch.setattr(f"kind_echo.core.{module}.PASS", 7001)
    split = compare(ArraySource(x, 48_000), ArraySource(y, 48_000)).readings
    for one, other in zip(whole, split, strict=True):
        assert one.value == pytest.approx(other.value, abs=1e-6), (one.measure, one.channel)


@settings(max_examples=12)
@given(st.floats(-60, 0), st.integers(1, 4))
def test_scaling_moves_every_level_by_as_much_and_no_ratio(decibels: float, channels: int) -> None:
    samples = noise(48_000, channels)
    before, after = (measure(ArraySource(samples * g, 48_000)) for g in (1.0, 10 ** (decibels / 20)))
    for one, other in zip(before, after, strict=True):
        if one.value is None or other.value is None:
            continue
        if one.measure in ("sample_peak", "true_peak", "rms", "rms_raw", "vu_max", "loudness_momentary_max"):
            assert other.value - one.value == pytest.approx(decibels, abs=1e-4), one.measure
        if one.measure in ("crest_factor", "non_finite"):
            assert other.value == pytest.approx(one.value, abs=1e-6), one.measure


def test_swapping_the_sides_turns_the_signs() -> None:
    x = noise(60_000)
    y = np.roll(x, 40, axis=0) * 0.5
    there = overall(compare(ArraySource(x, 48_000), ArraySource(y, 48_000)).readings)
    back = overall(compare(ArraySource(y, 48_000), ArraySource(x, 48_000)).readings)
    for measure_key in ("delay", "gain", "delay_time"):
        assert there[measure_key] == pytest.approx(-back[measure_key], abs=0.01), measure_key
    assert there["residual_rms"] == pytest.approx(back["residual_rms"], abs=1e-6)


@settings(max_examples=20)
@given(st.floats(-0.5, 0.5))
def test_a_fraction_forth_and_back_is_where_it_was(fraction: float) -> None:
    samples = sine(1000, -6, 0.1)[:, None] * np.hanning(4800)[:, None]
    np.testing.assert_allclose(advance(advance(samples, fraction), -fraction), samples, atol=1e-11)


def test_a_fraction_of_a_tone_is_the_tone_at_another_phase() -> None:
    """Band-limited interpolation against the sine itself."""
    tone = ArraySource(sine(3000, -6, 1)[:, None], 48_000)
    aligned = AlignedSource(tone, 48_000, Alignment(0, 0.3))
    expected = sine(3000, -6, 1, phase=2 * np.pi * 3000 * 0.3 / 48_000)[10_000:12_000, None]
    np.testing.assert_allclose(aligned.read(10_000, 12_000), expected, atol=1e-6)


def test_the_difference_is_silent_where_there_is_no_partner() -> None:
    x = ArraySource(noise(1000), 48_000)
    aligned = AlignedSource(x, 1000, Alignment(100))
    assert overlap(x, aligned) == (0, 900)
    difference = DifferenceSource(x, aligned)
    assert not difference.read(900, 1000).any()
    np.testing.assert_array_equal(difference.read(0, 900), x.samples[100:] - x.samples[:900])
    assert not read_padded(x, -5, 3)[:5].any()
    assert sum(len(block) for _, block in blocks(x, size=300)) == 1000


def test_a_render_is_measured_against_its_stimulus() -> None:
    stimulus = np.concatenate([np.zeros(4800), sine(997, -6, 1)])
    late = np.concatenate([np.zeros(4800 + 16_000), sine(997, -6, 1)[16_000:]])
    found, curves = measure_render(columns(stimulus), columns(late))
    assert reading(found, "lead_in_excess").value == pytest.approx(1 / 3, abs=0.002)
    assert reading(found, "length_difference").value == 0
    assert curves is not None
    assert len(curves.momentary) > 5
    assert measure_render(columns(stimulus), columns([np.nan] * 10))[1] is None
    with pytest.raises(RateMismatch):
        measure_render(columns(stimulus), columns(late, rate=44_100))
    with pytest.raises(ChannelMismatch):
        measure_render(columns(stimulus), columns(late, late))


@pytest.mark.parametrize("seconds", [0.0, 0.1, 0.5])
def test_silence_at_the_start_is_told_to_a_millisecond(seconds: float) -> None:
    samples = np.concatenate([np.zeros(round(seconds * 48_000)), noise(48_000)[:, 0]])
    assert overall(measure(columns(samples)))["lead_in_silence"] == pytest.approx(seconds, abs=0.0011)


def test_silence_over_a_noise_floor_is_still_silence() -> None:
    """20 dB above the quietest moment counts as signal: the floor of a converter is none."""
    floor = noise(48_000, level=1e-4)[:, 0]
    floor[24_000:] += sine(997, -10, 0.5)
    assert overall(measure(columns(floor)))["lead_in_silence"] == pytest.approx(0.5, abs=0.002)
    steady = overall(measure(columns(noise(48_000)[:, 0])))
    assert steady["lead_in_silence"] == 0


def test_columns_from_peaks_are_columns_from_samples() -> None:
    samples = noise(300_000, 2)
    levels = build_levels(ArraySource(samples, 48_000))
    assert [level.frames_per_bin for level in levels][:3] == [256, 2048, 16_384]
    position = level_for(300_000 / 50)
    assert position is not None
    level = levels[position]
    drawn = columns_from_bins(level.bins, 0, level.frames_per_bin, 0, 300_000, 50)
    direct = columns_from_samples(samples, 50)
    assert drawn.shape == direct.shape == (50, 2, 2)
    assert (drawn[..., 0] <= direct[..., 0] + 1e-6).all()  # bins reach a little beyond a column, never short of it
    assert (drawn[..., 1] >= direct[..., 1] - 1e-6).all()
    assert level_for(100) is None


def test_the_curve_between_samples_goes_through_them() -> None:
    """C. E. Shannon (1949): a band-limited signal is determined by its samples."""
    tone = ArraySource(sine(9000, -6, 0.1)[:, None], 48_000)
    curve = reconstruct(tone, 1000, 1100, 16)
    np.testing.assert_allclose(curve[::16], tone.samples[1000:1100], atol=1e-6)
    time = (1000 + np.arange(1600) / 16) / 48_000
    expected = 10 ** (-6 / 20) * np.sin(2 * np.pi * 9000 * time)
    assert np.abs(curve[:, 0] - expected)[200:1400].max() < 2e-3


@pytest.mark.parametrize("frequency", [100.0, 997.0, 12_345.6])
def test_the_drawn_spectrum_reads_a_sine_at_its_peak(frequency: float) -> None:
    """Scalloping of the 4-term Blackman-Harris window is 0.83 dB (F. J. Harris, 1978)."""
    spectrum = level_spectrum(columns(sine(frequency, -12, 3)), 0, 144_000)
    assert spectrum.levels.max() == pytest.approx(-12, abs=0.9)
    assert spectrum.frequencies[spectrum.levels.argmax()] == pytest.approx(frequency, rel=0.02)


@pytest.mark.parametrize(("step", "bits"), [(2.0**-23, np.float32), (2.0**-40, np.float64)])
def test_a_file_is_held_in_32_bits_only_where_nothing_is_lost(step: float, bits: type) -> None:
    """IEEE 754: 24 bits of significand in single precision, 53 in double."""
    samples = np.round(noise(200_000, 2) / step) * step
    moved = in_memory(
        AlignedSource(ArraySource(samples, 48_000), 200_000, Alignment(100))
    )  # neither rows nor frames first
    assert np.array_equal(moved.read(0, 199_900), samples[100:])
    held = in_memory(
        DifferenceSource(ArraySource(np.zeros((200_000, 2)), 48_000), _at_once(ArraySource(samples, 48_000)))
    )
    assert isinstance(held, ArraySource)
    assert held.samples.dtype == bits
    assert np.array_equal(held.read(0, 200_000), samples)


def _at_once(source: ArraySource) -> AlignedSource:
    return AlignedSource(source, source.frames, Alignment())


def test_compiled_loops_refuse_what_does_not_fit() -> None:
    """They check no index: a block of another shape must not get that far."""
    rows, short, ones = np.zeros((2, 64)), np.zeros((2, 60)), np.zeros(1)
    counts = np.zeros((2, 3), dtype=np.int64)
    for call in (
        lambda: gate.scan(rows, ones, ones, ones),
        lambda: loops.keep_single(rows.T.copy(), 1, np.zeros((2, 64), np.float32)),
        lambda: loops.window_peaks(rows, 1, 32, np.zeros((2, 2))),
        lambda: loops.add_hops(rows, 0, np.array([32, 64]), 0, np.zeros((2, 2))),
        lambda: loops.pair_sums(rows, short, 0.0, 0.0, np.zeros((2, 4)), np.zeros(2), counts),
        lambda: loops.changed_regions(rows, rows, 0.0, 0, 1, np.zeros(60, np.uint8), np.zeros(5, dtype=np.int64)),
        lambda: loops.find_steps(rows[0], short[0], 1.0, 8, 8, 0.0, 1.0, rows[1], counts[0]),
        lambda: loops.quiet_runs(rows[0], short[0], 0.1, 0.1, 1, 0, counts[0], np.zeros((4, 2), dtype=np.int64)),
        lambda: recursions.add_weighted_hops(
            rows, 0, np.array([32, 64]), 0, np.zeros((2, 2)), np.zeros((2, 5)), np.zeros((2, 4))
        ),
        lambda: recursions.needle(rows.astype(np.float32), np.eye(2), np.zeros(2), np.zeros((1, 2)), np.zeros(2)),
    ):
        with pytest.raises(ValueError, match="do not fit together"):
            call()  # type: ignore[no-untyped-call]


def test_every_error_is_a_sentence() -> None:
    errors: list[Any] = [RateMismatch(44_100, 48_000), ChannelMismatch(1, 2)]
    for error in errors:
        assert str(error).endswith(".")
        assert str(error)[0].isupper()
