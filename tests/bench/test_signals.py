"""The library of signals: what is kept, what is refused, and that an exported file is what was asked for."""

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile

from kind_echo.bench.signals import (
    aliases_of,
    all_signals,
    checked,
    export,
    keep_own_file,
    keep_signal,
    make_stimulus,
    preview,
    seconds_of,
    shown,
)
from kind_echo.bench.signals.kept import SignalExists, channels_of
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.signals import in_full, make_request, stimulus_of, synthesise
from kind_echo.database.sessions import transaction

TONE = {"kind": "tone", "frequency": 440.0, "seconds": 1.0, "level": -20.0}


def test_a_signal_is_kept_under_a_name_that_is_its_own(empty: str) -> None:
    with transaction() as session:
        made = keep_signal(session, "Concert pitch", {**TONE, "fade": 0.01})
        assert shown(made.request) == TONE  # people read what is not usual
        assert made.request == in_full(TONE)  # and all of it is kept, so that a default that changes changes nothing
        with pytest.raises(SignalExists, match="Choose another name"):
            keep_signal(session, "Concert pitch", {"kind": "silence"})
        assert [(signal.name, used) for signal, used in all_signals(session)] == [("Concert pitch", 0)]


def test_what_is_used_is_counted(demo: str) -> None:
    with transaction() as session:
        used = {signal.name: count for signal, count in all_signals(session)}
    assert used["Level staircase"] == 1
    assert used["Steady tone 997 Hz"] >= 6


@pytest.mark.parametrize(
    "request_",
    [
        {}, {"kind": "hum"}, {"kind": "tone", "volume": 3}, {"kind": "tone", "level": "loud"},
        {"kind": "tone", "level": True}, {"kind": "bells", "seed": 1.5}, {"kind": "tone", "level": 3.0},
        {"kind": "tone", "coherent": 1}, {"kind": "file"}, {"kind": "tone", "placement": "apart"},
    ],
)  # fmt: skip
def test_a_request_that_makes_no_sense_is_refused(request_: dict[str, Any]) -> None:
    with pytest.raises(BadParameter):
        checked(request_)


def test_an_own_file_is_a_signal_at_every_rate(empty: str, tmp_path: Path) -> None:
    samples = synthesise(make_request("sweep", start=100.0, end=5000.0, seconds=1.0, channels=2), 44_100)
    soundfile.write(tmp_path / "mine.flac", samples, 44_100, "PCM_24")
    with transaction() as session:
        made = keep_own_file(session, tmp_path / "mine.flac", "mine.flac", "Mine", who="Ida")
        assert made.request["name"].startswith("mine.flac, SHA-256 ")
        assert channels_of(session, made.stimulus) == 2
        assert seconds_of(session, made.stimulus, 48_000) == pytest.approx(1.0)
        as_it_is = make_stimulus(session, made.stimulus, 2, 44_100)
        assert np.abs(as_it_is - samples).max() <= 2.0**-24
        converted = make_stimulus(session, made.stimulus, 2, 96_000)
        again = synthesise(make_request("sweep", start=100.0, end=5000.0, seconds=1.0, channels=2), 96_000)
        inner = slice(4000, -4000)
        assert np.abs(converted[: len(again)][inner] - again[: len(converted)][inner]).max() < 1e-4
        with pytest.raises(BadParameter, match="channels"):
            make_stimulus(session, made.stimulus, 1, 44_100)


@pytest.mark.parametrize(
    ("suffix", "word_length", "bits"), [("wav", "16 bit", 16), ("flac", "24 bit", 24), ("wav", "32 bit float", 0)]
)
def test_an_exported_file_is_what_was_asked_for(
    empty: str, tmp_path: Path, suffix: str, word_length: str, bits: int
) -> None:
    path = tmp_path / f"tone.{suffix}"
    with transaction() as session:
        export(session, stimulus_of(TONE), 48_000, word_length, False, path)
        made = make_stimulus(session, stimulus_of(TONE), 1, 48_000)
        found, rate = soundfile.read(path, always_2d=True)
        assert (rate, found.shape) == (48_000, made.shape)
        assert np.abs(found - made).max() <= (2.0**-bits if bits else 1e-8)
        if bits:
            export(session, stimulus_of(TONE), 48_000, word_length, True, path)
            dithered = soundfile.read(path, always_2d=True)[0]
            error = (dithered - made) * 2.0 ** (bits - 1)
            assert error.var() == pytest.approx(0.25, abs=0.02)


def test_what_cannot_be_exported_is_refused(empty: str, tmp_path: Path) -> None:
    with transaction() as session:
        with pytest.raises(BadParameter, match="in FLAC"):
            export(session, stimulus_of(TONE), 48_000, "32 bit float", False, tmp_path / "x.flac")
        with pytest.raises(BadParameter, match="word length"):
            export(session, stimulus_of(TONE), 48_000, "12 bit", False, tmp_path / "x.wav")
        with pytest.raises(BadParameter, match="to be looked at or written here"):
            export(session, stimulus_of({**TONE, "seconds": 7000.0}), 192_000, "24 bit", True, tmp_path / "x.wav")


def test_a_preview_tells_what_will_be_rendered(empty: str) -> None:
    with transaction() as session:
        found = preview(session, stimulus_of({**TONE, "coherent": True}), 44_100)
    values = {reading["measure"]: reading["value"] for reading in found.readings}
    assert values["sample_peak"] == pytest.approx(-20.0, abs=0.05)
    assert found.played == 439.0 or found.played == 443.0  # the primes beside 440 cycles
    assert found.samples.shape == (44_100, 1)
    assert set(aliases_of(stimulus_of(TONE))) == {44_100, 48_000, 88_200, 96_000, 176_400, 192_000}
    assert aliases_of(stimulus_of({"kind": "silence"})) == {}
