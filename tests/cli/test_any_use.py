"""Whatever is typed, a command measures, or says in one line why it does not: options and files drawn by a seed."""

import io
import json
import warnings
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from typing import Any

import click
import numpy as np
import pytest
import soundfile

from kind_echo.cli import main as main_module
from kind_echo.cli.main import main

SOUND = ("0", "1", "7", "20", "60", "0.5", "-20", "997", "7000", "19000") * 2
NUMBERS = (*SOUND, "-1", "nan", "inf", "-inf", "1e9", "abc", "", "1e-9", "1e300")
OPTIONS: dict[str, tuple[tuple[str, ...], ...]] = {
    "measure": ((), ("--window", "#"), ("--gate", "#"), ("--zero-vu", "#"), ("--mono-as-dual",)),
    "compare": ((), ("--align", "fraction"), ("--max-delay", "#"), ("--match-gain",), ("--takes",), ("--sum",),
                ("--minus", "*"), ("--ceiling", "#"), ("--match-polarity", "--align", "none")),
    "tone": (("--frequency", "#"), ("--frequency", "997", "--band", "#", "#"), ("--frequency", "60", "--orders", "#")),
    "imd": (("--tones", "#", "#"), ("--tones", "60", "7000")),
    "alias-sweep": ((),),
    "response": ((), ("--band", "#", "#"), ("--edge", "#")),
    "latency": ((), ("--reported", "#"), ("--buffer", "#", "#"), ("--max-delay", "#")),
    "curve": ((), ("--threshold", "#", "--ratio", "#"), ("--threshold", "-20", "--ratio", "4", "--knee", "#")),
    "dynamics": ((), ("--latency", "#")),
    "lossy": (("--codec", "mp3", "--bitrate", "64"), ("--codec", "vorbis", "--bitrate", "#"),
              ("--codec", "opus", "--bitrate", "128")),
    "match": (("--target", "#", "--by", "true_peak"), ("--target", "-20", "--by", "vu_max", "--passage", "#", "#")),
    "fold": (("#", "--rate", "#"), ("997", "--rate", "#")),
    "abx": (("#", "#"), ("7", "#", "--heard", "#")),
}  # fmt: skip
FILES = {"fold": 0, "abx": 0, "measure": 1, "tone": 1, "imd": 1, "lossy": 1, "match": 1}
LIMITS = ("residual_rms<=-120", "rms<=0", "foo<=1", "rms", "rms<=nan", "true_peak<=-1", "delay>=0")


def _file(rng: np.random.Generator, path: Path) -> Path:
    rate, channels = int(rng.choice([48_000] * 12 + [10, 8000, 384_000])), int(rng.choice([1] * 8 + [2, 8]))
    frames = int(rng.choice([0, 1, 2, 3, 10, 100, 1000, 20_000, 50_000]))
    shapes: list[Any] = [
        np.zeros((frames, channels)),
        rng.standard_normal((frames, channels)) * 0.1,
        np.repeat(0.5 * np.sin(0.13 * np.arange(frames))[:, None], channels, axis=1),
        np.full((frames, channels), rng.choice([1.0, -1.0, 0.3, 1e-40, 1e20, np.nan, np.inf])),
        rng.standard_normal((frames, channels)) * 10.0 ** rng.integers(-300, 5),
        np.sign(rng.standard_normal((frames, channels))),
    ]
    subtype = str(rng.choice(["FLOAT", "DOUBLE", "PCM_16"]))
    soundfile.write(path, shapes[rng.integers(len(shapes))], rate, subtype=subtype)
    return path


@pytest.mark.filterwarnings("ignore::DeprecationWarning")
@pytest.mark.parametrize("seed", range(12))
def test_it_measures_or_says_in_one_line_why_not(tmp_path: Path, seed: int) -> None:
    rng = np.random.default_rng(seed)
    files = [str(_file(rng, tmp_path / f"{i}.wav")) for i in range(12)]
    junk = tmp_path / "junk.wav"
    junk.write_bytes(rng.bytes(500))
    files += [str(junk), str(tmp_path), str(tmp_path / "none.wav")]
    measured = 0
    for _ in range(100):
        command = str(rng.choice(list(OPTIONS)))
        options = OPTIONS[command][rng.integers(len(OPTIONS[command]))]
        filled = [{"#": str(rng.choice(NUMBERS)), "*": str(rng.choice(files))}.get(word, word) for word in options]
        count = FILES.get(command, 2) + int(command == "compare" and rng.random() < 0.3)
        arguments = [command, *(str(rng.choice(files)) for _ in range(count)), *filled]
        if rng.random() < 0.2:
            arguments += ["--limit", str(rng.choice(LIMITS))]
        measured += _measures([*arguments, "--json"])
    assert measured >= 5


def _measures(arguments: list[str]) -> bool:
    """Whether it did; fails unless it did either well."""
    out, err = io.StringIO(), io.StringIO()
    quiet = warnings.catch_warnings(action="error")
    with redirect_stdout(out), redirect_stderr(err), quiet, pytest.raises(SystemExit) as left:
        main(arguments)
    assert left.value.code in (0, 1, 2), arguments
    broken = [line for line in err.getvalue().strip().splitlines() if not line.endswith(" s so far")]
    if left.value.code == 2:
        assert len(broken) == 1, (arguments, err.getvalue())
        return False
    assert bool(broken) == (left.value.code == 1), (arguments, broken)
    assert all("limit" in line for line in broken)
    document = json.loads(out.getvalue(), parse_constant=lambda name: pytest.fail(f"{name} of {arguments}"))
    for reading in document["readings"]:
        assert reading["value"] is not None or reading["why"], (arguments, reading)
    return True


def test_the_list_of_commands_says_what_each_command_says_of_itself() -> None:
    """It is kept beside their names, so that help need not load them all."""
    for name, entry in main_module._COMMANDS.items():
        command = main_module.cli.get_command(click.Context(main_module.cli), name)
        assert command is not None
        assert entry.line == command.get_short_help_str(limit=200), name
