"""The command line in a script: limits that say what broke, JSON in every case, standard input, folders, patterns."""

import json
import re
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import soundfile

from kind_echo.audio_io import scratch
from kind_echo.cli import progress as progress_module
from kind_echo.cli.measuring import inputs
from kind_echo.cli.progress import progress
from kind_echo.core.audio.source import ArraySource
from tests.cli.test_contract import readings, run
from tests.conftest import kind_echo, wait_until


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """Noise, the same 0.5 dB up, the same at 44.1 kHz, a tone, and a folder in it with two more."""
    noise = np.random.default_rng(3).uniform(-0.4, 0.4, (24_000, 1))
    (tmp_path / "more").mkdir()
    for name, samples, rate in (
        ("a.wav", noise, 48_000), ("b.wav", noise * 10 ** (0.5 / 20), 48_000), ("more/c.flac", noise, 48_000),
        ("more/d.wav", noise, 48_000),
        ("tone.wav", 0.5 * np.sin(2 * np.pi * 1234.5 * np.arange(48_000) / 48_000)[:, None], 48_000),
    ):  # fmt: skip
        words = np.rint(samples * 2**23).astype(np.int32) << 8  # libsndfile rounds floats in two ways
        soundfile.write(tmp_path / name, words, rate, subtype="PCM_24")
    (tmp_path / "notes.txt").write_text("no audio")
    return tmp_path


def test_a_broken_limit_is_named_on_standard_error_in_the_table_and_in_json(folder: Path) -> None:
    a = folder / "a.wav"
    peak = readings("measure", a)["sample_peak"]["value"]
    words = f"Sample peak −{-peak:.2f} dBFS, limit ≤ −20.00: broken"
    done = run("measure", a, "--limit", "sample_peak<=-20", "--limit", "rms<=0")
    assert (done.returncode, done.stderr) == (1, f"kind-echo: {words}\n")
    lines = done.stdout.splitlines()
    assert lines[0] == words
    assert lines[1].endswith("limit ≤ 0.00: holds")
    found = json.loads(run("measure", a, "--limit", "sample_peak<=-20", "--json").stdout)["limits"]
    assert found == [
        {"measure": "sample_peak", "channel": "all", "sign": "<=", "bound": -20.0, "value": peak, "holds": False,
         "why": None}
    ]  # fmt: skip


def test_a_perfect_null_holds_its_limit_and_says_why(folder: Path) -> None:
    done = run("compare", folder / "a.wav", folder / "a.wav", "--limit", "null_depth>=120")
    assert (done.returncode, done.stderr) == (0, "")
    assert done.stdout.splitlines()[:2] == [
        "Identical: every sample is equal.", "Null depth: the residual is digital silence, limit ≥ 120.00: holds",
    ]  # fmt: skip
    told = json.loads(run("compare", folder / "a.wav", folder / "a.wav", "--limit", "null_depth>=120", "--json").stdout)
    assert [(one["holds"], one["value"], one["why"]) for one in told["limits"]] == [
        (True, None, "the residual is digital silence")
    ]


def test_limits_stand_in_each_row_and_are_named_with_their_file(folder: Path) -> None:
    words = ("compare", folder / "a.wav", folder / "a.wav", folder / "b.wav", "--each", "--limit", "residual_rms<=-100")
    done = run(*words)
    assert done.returncode == 1
    assert done.stderr.startswith(f"kind-echo: {folder / 'b.wav'}: Residual, RMS −")
    assert done.stderr.count("\n") == 1
    rows = json.loads(run(*words, "--json").stdout)["rows"]
    assert [row["limits"][0]["holds"] for row in rows] == [True, False]


def test_a_limit_on_what_a_command_does_not_give_is_refused(folder: Path) -> None:
    done = run("measure", folder / "a.wav", folder / "b.wav", "--limit", "delay<=1")
    assert (done.returncode, done.stdout, "kind-echo measure gives" in done.stderr) == (2, "", True)


@pytest.mark.parametrize("command", [["measure"], ["tone", "--frequency", "1000"], ["compare", "{a}"]])
def test_json_is_an_object_for_a_file_that_cannot_be_read_too(folder: Path, command: list[str]) -> None:
    name = str(folder / "notes.txt")
    done = run(*(word.format(a=folder / "a.wav") for word in command), name, "--json")
    said = json.loads(done.stdout)
    assert (done.returncode, said["command"], said["inputs"]) == (2, command[0], [{"path": name}])
    assert "AAC is not" in said["error"]
    assert done.stderr == f"kind-echo: {said['error']}\n"


def test_the_answer_stands_first_and_alone_where_that_is_asked_for(folder: Path) -> None:
    a, b = folder / "a.wav", folder / "b.wav"
    assert run("compare", a, b).stdout.splitlines()[0] == "What explains the difference: 0.50 dB up."
    assert run("compare", a, b, "--quiet").stdout == "What explains the difference: 0.50 dB up.\n"
    assert run("compare", a, a, b, "--each", "--quiet").stdout.splitlines() == [
        f"{a}: Identical: every sample is equal.", f"{b}: What explains the difference: 0.50 dB up.",
    ]  # fmt: skip
    for other in ("--json", "--csv"):
        assert run("compare", a, b, "--each", "--quiet", other).returncode == 2


def test_a_folder_a_pattern_and_their_folders_stand_for_the_files_in_them(folder: Path) -> None:
    def paths(*words: str | Path) -> list[str]:
        rows = json.loads(run("measure", *words, "--json").stdout)["rows"]
        return [str(Path(row["inputs"][0]["path"]).relative_to(folder)) for row in rows]

    assert paths(folder) == ["a.wav", "b.wav", "tone.wav"]
    assert paths(folder, "--recursive") == ["a.wav", "b.wav", "more/c.flac", "more/d.wav", "tone.wav"]
    assert paths(f"{folder}/[ab].wav") == ["a.wav", "b.wav"]
    assert paths(f"{folder}/**/*.flac") == ["more/c.flac"]
    for wrong, words in ((folder / "nothing*.wav", "a pattern that fits some files"), (folder / "empty", "a folder")):
        (folder / "empty").mkdir(exist_ok=True)
        done = run("measure", wrong)
        assert (done.returncode, words in done.stderr) == (2, True)
    assert "this is a folder" in run("compare", folder / "a.wav", folder).stderr
    each = json.loads(run("compare", folder / "a.wav", folder / "more", "--each", "--json").stdout)["rows"]
    assert [row["verdict"] for row in each] == ["identical", "identical"]


@pytest.mark.parametrize("name", ["a.wav", "more/c.flac"])
def test_standard_input_is_read_where_one_file_is(folder: Path, name: str) -> None:
    data = (folder / name).read_bytes()
    for words in (["measure", "-"], ["compare", "-", "a.wav"], ["compare", "a.wav", "-"], ["tone", "-"]):
        done = subprocess.run(
            [sys.executable, "-c", "from kind_echo.cli.main import main; main()", *words, "--json"],
            cwd=folder, input=data, capture_output=True, check=False,
        )  # fmt: skip
        assert done.returncode == 0, done.stderr
        said = json.loads(done.stdout)
        assert {one["frames"] for one in said["inputs"]} == {24_000}
        assert "-" in [one["path"] for one in said["inputs"]]


def test_standard_input_is_refused_in_plain_words_where_several_files_are_read(folder: Path) -> None:
    for words in (["measure", "-", "a.wav"], ["compare", "-", "-"], ["compare", "a.wav", "-", "b.wav", "--each"],
                  ["response", "-", "a.wav", "b.wav"]):  # fmt: skip
        done = kind_echo(*words, folder=folder)
        assert done.returncode == 2
        assert "-" in done.stderr
        assert done.stderr.count("\n") == 1


def test_a_render_of_another_rate_is_compared_where_that_is_asked_for(folder: Path, tmp_path: Path) -> None:
    """A tone far under half of both rates comes back within what the resampling is said to leave."""
    for rate in (44_100, 48_000):
        tone = 0.5 * np.sin(2 * np.pi * 997 * np.arange(2 * rate) / rate) * np.hanning(2 * rate)
        soundfile.write(tmp_path / f"{rate}.wav", tone, rate, subtype="FLOAT")
    pair = tmp_path / "48000.wav", tmp_path / "44100.wav"
    assert run("compare", *pair).returncode == 2
    found = readings("compare", *pair, "--resample")
    assert found["residual_rms"]["value"] < -120
    assert "resampled from 44.1 kHz, which by itself leaves −" in found["residual_rms"]["why"]
    each = json.loads(run("compare", *pair, "--each", "--resample", "--json").stdout)["rows"]
    assert each[0]["options"]["resample"] is True


def test_what_is_long_is_resampled_by_parts_to_the_same_samples(monkeypatch: pytest.MonkeyPatch) -> None:
    from contextlib import ExitStack

    source = ArraySource(np.random.default_rng(5).uniform(-0.5, 0.5, (700_000, 2)), 44_100)
    with ExitStack() as until:
        whole = scratch.resampled(source, 48_000, until)
        monkeypatch.setattr(scratch, "_HELD", 1)
        parts = scratch.resampled(source, 48_000, until)
        assert (parts.rate, parts.frames, parts.channels) == (48_000, whole.frames, 2)
        assert np.abs(parts.read(0, parts.frames) - whole.read(0, whole.frames)).max() < 1e-12


def test_a_tone_is_found_by_itself(folder: Path) -> None:
    found = readings("tone", folder / "tone.wav")
    assert found["fundamental_frequency"]["value"] == pytest.approx(1234.5, abs=0.01)
    assert found == readings("tone", folder / "tone.wav", "--frequency", "1234.5")
    silent = folder / "silent.wav"
    soundfile.write(silent, np.zeros(48_000), 48_000)
    assert readings("tone", silent)["fundamental_level"]["why"].startswith("no line stands out of the file")


@pytest.mark.parametrize(
    "words",
    [
        ["tone", "tone.wav", "tone.wav"], ["imd", "--tones", "1000", "1234.5", "tone.wav", "a.wav"],
        ["lossy", "--codec", "vorbis", "--bitrate", "96", "a.wav", "b.wav"], ["response", "a.wav", "a.wav", "b.wav"],
        ["curve", "staircase.wav", "staircase.wav", "staircase.wav"], ["dynamics", *["burst.wav"] * 3],
        ["latency", "a.wav", "a.wav", "b.wav"],
    ],
)  # fmt: skip
def test_several_files_are_rows_of_a_table_of_csv_and_of_json(folder: Path, words: list[str]) -> None:
    for kind in ("staircase", "burst"):
        run("signal", kind, folder / f"{kind}.wav")
    done = kind_echo(*words, "--csv", "--jobs", "1", folder=folder)
    assert (done.returncode, done.stderr) == (0, "")
    head, *lines = done.stdout.splitlines()
    assert head == "path,measure,channel,value,unit,at_most,uncertainty,why"
    rows = json.loads(kind_echo(*words, "--json", "--jobs", "1", folder=folder).stdout)["rows"]
    assert len(rows) == 2
    assert len(lines) == sum(len(row["readings"]) for row in rows)
    assert len(kind_echo(*words, "--jobs", "1", folder=folder).stdout.splitlines()) == 3


def test_how_far_it_is_is_told_now_and_then_and_not_of_what_is_over_at_once(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    with progress("Comparing", "files", 4) as shown:
        shown.tell(3)
    assert capsys.readouterr().err == ""
    monkeypatch.setattr(progress_module, "_LINE_EVERY", 0.05)
    with progress("Comparing", "files", 4) as shown:
        shown.tell(3)
        said: list[str] = []
        wait_until(lambda: said.append(capsys.readouterr().err) or any(said), 20, "a line")  # type: ignore[func-returns-value]
    assert re.match(r"Comparing: 3 of 4 files, \d+ s so far\n", "".join(said))


def test_a_name_that_holds_a_mark_of_patterns_is_a_file_where_there_is_one(tmp_path: Path) -> None:
    (tmp_path / "take[1].wav").touch()
    assert inputs.several_files([str(tmp_path / "take[1].wav")], recursive=False) == [str(tmp_path / "take[1].wav")]
