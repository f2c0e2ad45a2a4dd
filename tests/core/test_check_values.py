"""Check values from outside that no other test holds, and that docs/accuracy.md names a test for each of them."""

import ast
import re

import numpy as np
import pytest
from scipy import signal

from kind_echo.audio_io.codecs import LossyCodec
from kind_echo.core.audio.source import ArraySource
from kind_echo.core.comparison.compare import compare
from kind_echo.core.levels.analysis import measure
from kind_echo.core.listening.lossy import measure_lossy
from kind_echo.core.registry.measures import MEASURES
from kind_echo.core.signals import make_request, synthesise
from kind_echo.core.systems.latency import measure_latency
from kind_echo.core.systems.response import measure_response
from tests.conftest import PROJECT
from tests.core.conftest import columns, overall, sine
from tests.support.material import PIECES, load

RATE = 48_000
VOICE = next(piece for piece in PIECES if piece.name == "woman's voice")


def test_two_butterworths_in_cascade_are_a_crossover_whose_bands_sum_flat() -> None:
    """−6.02 dB at the corner: S. H. Linkwitz, Active Crossover Networks for Noncoincident Drivers, JAES 24 (1976)."""
    x = synthesise(make_request("noise", seconds=4.0), RATE)[:, 0]
    bands = []
    for kind in ("low", "high"):
        once = signal.butter(2, 2000, kind, fs=RATE, output="sos")
        bands.append(signal.sosfilt(np.concatenate([once, once]), x))
        curve = measure_response(columns(x), columns(bands[-1]))[1]["magnitude"]
        assert np.interp(2000, curve.x, curve.y) == pytest.approx(-6.02, abs=0.1)
    curve = measure_response(columns(x), columns(bands[0] + bands[1]))[1]["magnitude"]
    heard = (np.array(curve.x) > 50) & (np.array(curve.x) < 20_000)
    assert np.abs(np.array(curve.y)[heard]).max() < 0.05


def test_the_goal_for_aliases_is_their_limit_as_it_comes() -> None:
    """Common practice, no source: −96 dBFS."""
    limit = MEASURES["alias_worst_level"].limit
    assert limit is not None
    assert limit.at_most == -96.0


def test_hard_limited_music_needs_one_to_one_and_a_half_decibels_before_encoding() -> None:
    """Common practice, no source: of music cut 6 dB under its peaks, by the encoder itself at 128 kbit/s."""
    music = load(next(piece for piece in PIECES if piece.name == "arcade music"), RATE)[: 4 * RATE]
    limited = np.clip(2.0 * music / np.abs(music).max(), -0.99, 0.99)
    found = overall(measure_lossy(ArraySource(limited, RATE), LossyCodec("mp3", 128, RATE, 2))[0])
    assert 1.0 <= found["lossy_headroom"] <= 1.5


def test_eight_milliseconds_of_round_trip() -> None:
    """Common practice, no source: about 8 ms are playable. 384 frames at 48 kHz are as much: arithmetic."""
    x = synthesise(make_request("noise", seconds=2.0), RATE)
    late = np.concatenate([np.zeros((384, x.shape[1])), x])[: len(x)]
    found = overall(measure_latency(ArraySource(x, RATE), ArraySource(late, RATE))[0])
    assert found["latency_time"] == pytest.approx(8.0, abs=0.001)


def test_speech_of_one_channel_at_minus_19_is_as_loud_as_that_of_two_at_minus_16() -> None:
    """Common practice, no source: on two speakers; of a real voice."""
    voice = load(VOICE, RATE)[:, 0]
    one = voice * 10 ** ((-19.0 - overall(measure(columns(voice)))["loudness_integrated"]) / 20)
    assert overall(measure(columns(one)))["loudness_integrated"] == pytest.approx(-19.0, abs=0.01)
    assert overall(measure(columns(one, one)))["loudness_integrated"] == pytest.approx(-16.0, abs=0.05)


@pytest.mark.parametrize(("frames", "gaps"), [(5, 0), (48, 1), (440, 1)])
def test_a_cut_that_is_all_but_inaudible_is_found_all_the_same(frames: int, gaps: int) -> None:
    """Common practice, no source: under 10 ms, or of a few samples, it is hardly heard, so the readings have to say it.

    From 1 ms on it is a gap by definition; under that, the place that changed is told.
    """
    x, start = sine(440.0, -6.0, 2.0) + sine(1234.0, -12.0, 2.0), RATE + 100
    y = x.copy()
    y[start : start + frames] = 0.0
    found = compare(columns(x), columns(y))
    assert overall(found.readings)["gaps"] == gaps
    assert found.curves["changed_regions"].x == pytest.approx([start / RATE], abs=2 / RATE)
    assert overall(found.readings)["changed_samples"] == frames


def _tests() -> dict[str, set[str]]:
    found: dict[str, set[str]] = {}
    for path in (PROJECT / "tests").rglob("test_*.py"):
        body = ast.parse(path.read_text()).body
        name = str(path.relative_to(PROJECT))
        found[name] = {one.name for one in body if isinstance(one, ast.FunctionDef) and one.name.startswith("test_")}
    return found


def test_every_test_that_the_list_names_exists() -> None:
    text = (PROJECT / "docs/accuracy.md").read_text().split("## Which test holds which check value")[1]
    named = re.findall(r"`(tests/[\w/]+\.py)` `(test_\w+)`", text)
    assert len(named) >= 30
    tests = _tests()
    assert [(path, name) for path, name in named if name not in tests.get(path, set())] == []
