"""Lines over each other: differences by closed form, and each kind of line against another way to the same number."""

import itertools
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kind_echo.core.audio import peaks
from kind_echo.core.audio.source import ArraySource
from kind_echo.core.overlays.kinds import KINDS, kind_named
from kind_echo.core.overlays.lines import COLUMNS, law_of_curves, line_of_audio, line_of_columns, line_of_curves
from kind_echo.core.overlays.overlay import MOST_TOGETHER, Line, difference, lay_over
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.readings import Curve
from kind_echo.core.signals import make_request, synthesise
from kind_echo.core.systems.transfer import ExpectedCurve, measure_curve
from kind_echo.core.tones.tone import ToneOptions, measure_tone
from kind_echo.plots import plot_overlay
from kind_echo.wording.overlays import KIND_WORDS, overlay_sentence

R = 48_000


def _line(label: str, x: object, y: object) -> Line:
    return Line(label, np.asarray(x, np.float64), np.asarray(y, np.float64))


def test_slopes_of_decibels_per_octave_differ_by_their_difference_on_any_grid() -> None:
    """6 and 12 dB per octave are straight over the logarithm of frequency: read exactly between points."""
    coarse, fine = np.geomspace(20.0, 20_000.0, 7), np.geomspace(50.0, 10_000.0, 61)
    first = _line("6", coarse, -6.0 * np.log2(coarse / 1000.0))
    second = _line("12", fine, -12.0 * np.log2(fine / 1000.0))
    found = difference(KINDS["response"], first, second)
    assert found is not None
    assert np.array_equal(found.x, fine)
    assert found.y == pytest.approx(6.0 * np.log2(fine / 1000.0), abs=1e-9)
    back = difference(KINDS["response"], second, first)
    assert back is not None
    assert (back.x[0], back.x[-1]) == (coarse[1], coarse[5])  # beyond the ends of either there is nothing


def test_single_steps_are_held_against_the_same_step_alone() -> None:
    kind = KINDS["harmonics"]
    found = difference(kind, _line("a", [2, 3, 5], [-40, -50, -60]), _line("b", [3, 4, 5], [-51, -70, -58]))
    assert found is not None
    assert (found.x.tolist(), found.y.tolist()) == ([3.0, 5.0], [1.0, -2.0])
    assert difference(kind, _line("a", [2], [0]), _line("b", [3], [0])) is None
    assert difference(kind, _line("a", [], []), _line("b", [3], [0])) is None
    levels = difference(KINDS["transfer"], _line("a", [-40.0, -20.004], [0, 0]), _line("b", [-40.0, -20.0], [1, 2]))
    assert levels is not None
    assert levels.y.tolist() == [-1.0, -2.0]


def test_what_is_under_the_floor_on_both_sides_has_no_difference() -> None:
    kind = KINDS["spectrum"]
    assert kind.least == -160.0
    found = difference(
        kind, _line("a", [100, 200, 400], [-200, -200, -20]), _line("b", [100, 200, 400], [-90, -240, -20])
    )
    assert found is not None
    assert np.isnan(found.y).tolist() == [False, True, False]
    assert found.y[[0, 2]].tolist() == [-110.0, 0.0]
    assert difference(kind, _line("a", [100], [-200]), _line("b", [100], [-240])) is None


@given(st.floats(-40.0, 20.0), st.integers(0, 2**32 - 1))
def test_a_gain_moves_a_spectrum_by_itself(decibels: float, seed: int) -> None:
    noise = np.random.default_rng(seed).uniform(-0.05, 0.05, (4096, 2))
    for key in ("spectrum", "third_octaves"):
        kind = kind_named(key)
        lines = [
            line_of_audio(kind, name, ArraySource(noise * factor, R))
            for name, factor in (("plain", 1.0), ("moved", 10 ** (decibels / 20)))
        ]
        assert lines[0] is not None
        assert lines[1] is not None
        found = difference(kind, lines[1], lines[0])
        assert found is not None
        assert found.y == pytest.approx(decibels, abs=1e-6)


def test_a_sine_stands_in_a_spectrum_at_its_level_and_in_its_third_octave() -> None:
    """A sine reads its peak level, in a band its RMS re that of a sine of full scale: AES17."""
    frequency = 683 * R / 32_768  # in the middle of a bin, where a window loses nothing
    sine = ArraySource(0.25 * np.sin(2 * np.pi * frequency * np.arange(R) / R)[:, None], R)
    for key, tolerance in (("spectrum", 0.01), ("third_octaves", 0.1)):
        line = line_of_audio(kind_named(key), "", sine)
        assert line is not None
        top = int(np.argmax(line.y))
        assert line.x[top] == pytest.approx(1000.0, rel=0.01)
        assert line.y[top] == pytest.approx(20 * np.log10(0.25), abs=tolerance)
    assert line_of_audio(kind_named("spectrum"), "", ArraySource(np.zeros((15, 1)), R)) is None
    assert line_of_audio(kind_named("spectrum"), "", ArraySource(np.full((64, 1), np.nan), R)) is None


def test_the_third_harmonic_of_a_cubic_stands_at_order_three() -> None:
    """x − a·x³ of a sine of amplitude A: a·A³/4 at three times its frequency beside A − 3a·A³/4."""
    tone = synthesise(make_request(kind="tone", frequency=997.0, level=-6.0, seconds=2.0), R)
    amplitude, cubic = 10 ** (-6.0 / 20), 0.1
    _, curves = measure_tone(ArraySource(tone - cubic * tone**3, R), ToneOptions(997.0))
    line = line_of_curves(kind_named("harmonics"), "cubic", curves)
    assert line is not None
    wanted = 20 * np.log10(cubic * amplitude**3 / 4 / (amplitude - 0.75 * cubic * amplitude**3))
    assert line.y[line.x.tolist().index(3.0)] == pytest.approx(wanted, abs=0.01)
    assert line_of_curves(kind_named("harmonics"), "none", {}) is None


def test_a_staircase_is_drawn_beside_the_law_that_it_was_to_follow() -> None:
    stairs = synthesise(make_request(kind="staircase"), R)
    law = ExpectedCurve(-20.0, 4.0, 0.0, 0.0)
    _, curves = measure_curve(ArraySource(stairs, R), ArraySource(0.5 * stairs, R), law)
    line, expected = line_of_curves(kind_named("transfer"), "half", curves), law_of_curves(curves)
    assert line is not None
    assert expected is not None
    assert line.y - line.x == pytest.approx(20 * np.log10(0.5), abs=0.01)
    assert expected.y == pytest.approx(law.level(expected.x), abs=1e-6)
    assert (np.diff(line.x) > 0).all()


@pytest.mark.parametrize("frames", [1, COLUMNS - 1, COLUMNS, 255 * COLUMNS, 257 * COLUMNS + 7])
def test_a_waveform_has_the_least_and_the_greatest_of_each_stretch(frames: int) -> None:
    """By another way: NumPy's own extremes of the same stretches; of a long file from bins, which reach no further."""
    samples = np.random.default_rng(frames).uniform(-1.0, 1.0, (frames, 2)).astype(np.float32).astype(np.float64)
    columns = peaks.columns_of(ArraySource(samples, R), COLUMNS)
    line = line_of_columns(kind_named("waveform"), "", columns, 0.0, frames / R)
    assert line.low is not None
    assert (line.y.max(), line.low.min()) == (samples.max(), samples.min())
    assert len(line.x) == min(COLUMNS, frames)
    if frames <= 255 * COLUMNS:
        edges = np.linspace(0, frames, len(line.x) + 1).astype(int)
        parts = [samples[a:b] for a, b in itertools.pairwise(edges)]
        assert line.y.tolist() == [part.max() for part in parts]
        assert line.low.tolist() == [part.min() for part in parts]
    level = line_of_columns(kind_named("level"), "", columns, 0.0, frames / R)
    assert level.y.max() == pytest.approx(20 * np.log10(np.abs(samples).max()), abs=1e-6)


def test_the_farthest_is_told_and_many_lines_stand_apart() -> None:
    kind = KINDS["response"]
    x = [100.0, 1000.0, 10_000.0]
    lines = [_line("flat", x, [0, 0, 0]), _line("bump", x, [0, 3, 0]), _line("cut", x, [0, 0, -4.5])]
    overlay = lay_over(kind, lines, 0)
    assert overlay.together
    assert overlay.differences[0] is None
    assert overlay.farthest() == (2, 10_000.0, -4.5)
    said = overlay_sentence(overlay, "file", "Players")
    assert said == "Responses of 2 files (Players) against flat: cut lies farthest from it, −4.50 dB at 10 kHz."
    same = overlay_sentence(lay_over(kind, [lines[0], _line("same", x, [0, 0, 0])], 0), "file", "")
    assert same == "Responses of 1 file against flat: None differs by 0.01 dB or more."
    assert overlay_sentence(lay_over(kind, lines[:1], 0), "file", "") == "Responses of 1 file."
    assert lay_over(kind, lines, None).farthest() is None
    many = [_line(str(n), x, [n, n, n]) for n in range(MOST_TOGETHER + 1)]
    assert not lay_over(kind, many, 0).together
    assert lay_over(kind, many, 0, over_time=True).together  # thirty builds are looked at in one picture
    waves = lay_over(KINDS["waveform"], lines, 0)
    assert (waves.together, waves.differences) == (False, (None, None, None))
    with pytest.raises(BadParameter, match="one of response"):
        kind_named("sonogram")


def test_points_that_are_no_numbers_and_places_that_come_twice_are_left_out() -> None:
    curve = Curve("Hz", "dB", [200.0, 100.0, 200.0, 400.0], [1.0, 2.0, 3.0, float("nan")])
    line = line_of_curves(kind_named("response"), "", {"magnitude": curve})
    assert line is not None
    assert (line.x.tolist(), line.y.tolist()) == ([100.0, 200.0], [2.0, 1.0])
    empty = Curve("Hz", "dB", [], [])
    assert line_of_curves(kind_named("response"), "", {"magnitude": empty}) is None


def test_names_stand_in_a_legend_as_they_are(tmp_path: Path) -> None:
    """A dollar begins no formula, and a low line at the start does not hide a line."""
    x = [100.0, 1000.0]
    names = ["a$b$c.wav", "$\\foo$.wav", "_take <1> & 2.wav"]
    overlay = lay_over(KINDS["response"], [_line(name, x, [0, 0]) for name in names], 0)
    plot_overlay(tmp_path / "names.svg", overlay, KIND_WORDS["response"], "Cost: $5 & more")
    svg = (tmp_path / "names.svg").read_text()
    for said in ("a$b$c.wav", "$\\foo$.wav", "_take &lt;1&gt; &amp; 2.wav", "Cost: $5 &amp; more"):
        assert said in svg
