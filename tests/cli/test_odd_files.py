"""No file breaks a command: it measures or refuses, in strict JSON or in one line, without a warning or a traceback."""

import io
import json
import warnings
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile

from kind_echo.cli.main import main

RNG = np.random.default_rng(12)
FILES: dict[str, tuple[Any, int]] = {
    "silence": (np.zeros((48_000, 1)), 48_000),
    "one frame": (np.full((1, 1), 0.5), 48_000),
    "ten frames": (RNG.uniform(-1, 1, (10, 2)), 48_000),
    "not finite": (np.array([[0.1], [np.nan], [np.inf], [0.2]] * 2000), 48_000),
    "constant": (np.full((24_000, 1), 0.25), 48_000),
    "full square": (np.sign(np.sin(np.arange(48_000) * 0.03))[:, None], 48_000),
    "low rate": (RNG.uniform(-0.5, 0.5, (16_000, 1)), 8000),
    "high rate": (RNG.uniform(-0.5, 0.5, (100_000, 1)), 384_000),
    "eight channels": (RNG.uniform(-0.5, 0.5, (12_000, 8)), 22_050),
    "near the greatest of 32 bits": (RNG.uniform(-3e38, 3e38, (24_000, 2)), 48_000),
    "near the greatest sample": (RNG.uniform(-0.99e30, 0.99e30, (48_000, 2)), 48_000),
    "beyond 32 bits": (RNG.uniform(-1e300, 1e300, (24_000, 2)), 48_000),
    "near the least of 64 bits": (RNG.uniform(-1e-300, 1e-300, (24_000, 2)), 48_000),
    "one click": (np.eye(1, 48_000, 30_000).T, 48_000),
}
ONE: dict[str, tuple[str, ...]] = {
    "measure": (),
    "tone": ("--frequency", "997"),
    "imd": ("--tones", "1000", "1100"),
    "lossy": ("--codec", "vorbis", "--bitrate", "128"),
    "match": ("--target", "-20", "--by", "rms"),
}
TWO = ("compare", "response", "latency", "curve", "dynamics", "alias-sweep")


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    made = tmp_path_factory.mktemp("odd")
    for name, (samples, rate) in FILES.items():
        subtype = "DOUBLE" if name.endswith(("beyond 32 bits", "64 bits")) else "FLOAT"
        soundfile.write(made / f"{name}.wav", samples, rate, subtype=subtype)
    return made


def _check(*arguments: str | Path) -> None:
    """Run a command in this process; a warning or an error that is not meant leaves it as such."""
    out, err = io.StringIO(), io.StringIO()
    quiet = warnings.catch_warnings(action="error")
    with redirect_stdout(out), redirect_stderr(err), quiet, pytest.raises(SystemExit) as left:
        main([str(argument) for argument in (*arguments, "--json")])
    assert left.value.code in (0, 2), (arguments, err.getvalue())
    if left.value.code == 2:
        assert out.getvalue() == "", arguments
        assert len(err.getvalue().strip().splitlines()) == 1, (arguments, err.getvalue())
        return
    assert err.getvalue() == "", arguments
    for reading in json.loads(out.getvalue())["readings"]:
        assert reading["value"] is not None or reading["why"], (arguments, reading)
        greatest = 1e30 if reading["measure"] == "dc_offset" else 1e7
        assert reading["value"] is None or abs(reading["value"]) < greatest, (arguments, reading)


@pytest.mark.parametrize("name", FILES)
def test_commands_on_one_file(folder: Path, name: str) -> None:
    for command, options in ONE.items():
        _check(command, folder / f"{name}.wav", *options)


@pytest.mark.parametrize("name", FILES)
def test_commands_on_two_files(folder: Path, name: str) -> None:
    for command in TWO:
        _check(command, folder / f"{name}.wav", folder / f"{name}.wav")


@pytest.mark.parametrize("command", TWO)
def test_a_sounding_input_and_a_silent_or_shorter_output(folder: Path, tmp_path: Path, command: str) -> None:
    sound = tmp_path / "sound.wav"
    soundfile.write(sound, RNG.uniform(-0.5, 0.5, (96_000, 1)), 48_000, subtype="PCM_24")
    for other in ("silence", "one frame", "constant"):
        _check(command, sound, folder / f"{other}.wav")
        _check(command, folder / f"{other}.wav", sound)


@pytest.mark.parametrize("number", ["nan", "inf", "-inf", "1e300", "7000", "-1e9", "x"])
def test_odd_numbers(folder: Path, number: str) -> None:
    one, two = folder / "ten frames.wav", folder / "full square.wav"
    _check("measure", one, "--zero-vu", number)
    _check("measure", one, "--gate", number)
    _check("match", two, "--target", number, "--by", "sample_peak")
    _check("match", two, "--target", "-20", "--by", "rms", "--passage", "0", number)
    _check("tone", two, "--frequency", number, "--band", "20", number)
    _check("compare", two, two, "--ceiling", number)
    _check("response", two, two, "--band", number, "20000")
    _check("curve", two, two, "--threshold", number, "--ratio", "4", "--knee", number)
    _check("fold", number, "--rate", "48000")
    _check("abx", number, "9000")
    _check("signal", "clicks", folder / "made.wav", "--frequency", number, "--level", number)
