"""The command that writes stimuli: every kind, every option that shapes one, and what it refuses."""

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile

from kind_echo.core.signals import all_kinds, make_request, synthesise
from tests.cli.test_contract import run


def _written(tmp_path: Path, kind: str, *options: str, suffix: str = "wav") -> tuple[Any, int]:
    path = tmp_path / f"out.{suffix}"
    done = run("signal", kind, path, *options)
    assert (done.returncode, done.stderr) == (0, ""), done.stderr
    samples, rate = soundfile.read(path, always_2d=True)
    return samples, rate


@pytest.mark.parametrize("kind", all_kinds())
def test_the_file_holds_what_the_core_makes(tmp_path: Path, kind: str) -> None:
    asked: dict[str, Any] = {
        "seconds": 0.6,
        "level": -9.0,
        "lead_in": 0.1,
        "tail": 0.05,
        "step_seconds": 0.1,
        "end": 8e3,
    }
    options = [word for key, value in asked.items() for word in (f"--{_option(key)}", str(value))]
    samples, rate = _written(tmp_path, kind, "--rate", "44100", *options)
    assert rate == 44_100
    expected = synthesise(make_request(kind, **asked), 44_100)
    assert np.array_equal(samples, expected.astype(np.float32))


def _option(key: str) -> str:
    return {"start": "from", "end": "to"}.get(key, key.replace("_", "-"))


@pytest.mark.parametrize(
    ("kind", "changes"),
    [
        ("tone", {"frequency": 1234.5, "fade": 0.2}), ("sweep", {"start": 100.0, "law": "linear"}),
        ("noise", {"color": "pink", "seed": 9}), ("noise", {"color": "band", "start": 500.0, "end": 900.0}),
        ("clicks", {"tempo": 240.0}), ("pair", {"frequency": 19_000.0, "second": 20_000.0, "ratio": 1.0}),
        ("steps", {"per_octave": 3.0, "step_seconds": 0.2}), ("staircase", {"lowest": -30.0, "climb": 6.0}),
        ("burst", {"low": 30.0}), ("sequence", {"order": 10}), ("piece", {"piece": "harbour", "density": "dense"}),
    ],
)  # fmt: skip
def test_every_option_reaches_its_signal(tmp_path: Path, kind: str, changes: dict[str, Any]) -> None:
    options = [word for key, value in changes.items() for word in (f"--{_option(key)}", str(value))]
    samples, _ = _written(tmp_path, kind, "--seconds", "0.8", *options)
    usual = synthesise(make_request(kind, seconds=0.8), 48_000)
    expected = synthesise(make_request(kind, seconds=0.8, **changes), 48_000)
    assert np.array_equal(samples, expected.astype(np.float32))
    assert not np.array_equal(expected, usual)


def test_dither_is_had_with_a_word_length_alone(tmp_path: Path) -> None:
    quiet = ("--level", "-100", "--seconds", "0.5", "--subtype", "PCM_16")
    plain, _ = _written(tmp_path, "tone", *quiet)
    dithered, _ = _written(tmp_path, "tone", *quiet, "--dither")
    assert not plain.any()
    assert set(np.round(np.unique(dithered) * 2**15)) <= {-2, -1, 0, 1, 2}
    refused = run("signal", "tone", tmp_path / "x.wav", "--dither")
    assert refused.returncode == 2
    assert "an integer word length where there is dither" in refused.stderr


def test_two_channels_are_placed(tmp_path: Path) -> None:
    samples, _ = _written(
        tmp_path, "bells", "--channels", "2", "--placement", "opposite", "--subtype", "PCM_24", suffix="flac"
    )
    assert np.array_equal(samples[:, 0], -samples[:, 1])


@pytest.mark.parametrize(
    "words",
    [("hum", "x.wav"), ("tone", "x.wav", "--level", "3"), ("tone", "x.wav", "--frequency", "30000"),
     ("tone", "x.wav", "--channels", "1", "--placement", "first"), ("tone", "x.nonsense"),
     ("sequence", "x.wav", "--order", "40"), ("sweep", "x.wav", "--from", "800", "--to", "800")],
)  # fmt: skip
def test_what_cannot_be_written_is_told_in_a_line(tmp_path: Path, words: tuple[str, ...]) -> None:
    kind, name, *options = words
    refused = run("signal", kind, tmp_path / name, *options)
    assert refused.returncode == 2
    assert refused.stdout == ""
    assert not (tmp_path / name).exists()
