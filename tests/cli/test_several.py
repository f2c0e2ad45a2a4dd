"""Several files by one command: a row each, whatever they are, and the same numbers as each by itself."""

import csv
import io
import json
import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile

from tests.conftest import kind_echo


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Six files: two that differ by 3.01 dB, one at another rate, one silent, one broken, one without frames."""
    made = tmp_path_factory.mktemp("several")
    noise = np.random.default_rng(7).uniform(-0.5, 0.5, (48_000, 2))
    made_of = {"a": noise, "b": noise * 10 ** (-3.01 / 20), "c": noise, "silent": noise * 0, "empty": noise[:0]}
    for name, samples in made_of.items():
        rate = 44_100 if name == "c" else 48_000
        soundfile.write(made / f"{name}.wav", samples, rate, subtype="FLOAT")
    (made / "broken.wav").write_bytes((made / "a.wav").read_bytes()[:30_000])
    return made


def _run(folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
    return kind_echo(*words, folder=folder)


def _one(folder: Path, *words: str) -> Any:
    return json.loads(_run(folder, *words, "--json").stdout)


def test_rows_are_what_each_file_gives_by_itself_in_the_order_given_and_errors_are_rows(folder: Path) -> None:
    names = ["silent.wav", "a.wav", "broken.wav", "c.wav", "empty.wav", "b.wav"]
    done = _run(folder, "measure", *names, "--json", "--jobs", "2")
    assert done.returncode == 2
    assert "2 of 6 files could not be read" in done.stderr
    rows = json.loads(done.stdout)["rows"]
    assert [row["inputs"][0]["path"] for row in rows] == names
    assert [name for name, row in zip(names, rows, strict=True) if "error" in row] == ["broken.wav", "empty.wav"]
    for name in ("silent.wav", "a.wav", "c.wav"):
        assert rows[names.index(name)] == _one(folder, "measure", name)


def test_each_render_is_compared_as_it_is_by_itself(folder: Path) -> None:
    done = _run(folder, "compare", "a.wav", "b.wav", "c.wav", "a.wav", "--each", "--json")
    assert done.returncode == 2
    b, c, a = json.loads(done.stdout)["rows"]
    assert b == _one(folder, "compare", "a.wav", "b.wav")
    assert "44100 Hz" in c["error"]
    assert a["verdict"] == "identical"
    refused = _run(folder, "compare", "broken.wav", "a.wav", "b.wav", "--each")
    assert (refused.returncode, refused.stdout) == (2, "")


def test_csv_has_a_line_a_reading_or_a_line_a_file_worst_first(folder: Path) -> None:
    done = _run(folder, "measure", "a.wav", "broken.wav", "--csv")
    lines = list(csv.DictReader(io.StringIO(done.stdout)))
    assert list(lines[0]) == ["path", "measure", "channel", "value", "unit", "at_most", "uncertainty", "why"]
    readings = _one(folder, "measure", "a.wav")["readings"]
    assert [(line["measure"], line["channel"]) for line in lines[:-1]] == [
        (r["measure"], r["channel"]) for r in readings
    ]
    assert "breaks off" in lines[-1]["why"]
    done = _run(
        folder, "measure", "silent.wav", "b.wav", "a.wav", "--csv", "--columns", "rms,true_peak", "--sort", "rms"
    )
    assert done.returncode == 0
    table = list(csv.DictReader(io.StringIO(done.stdout)))
    assert [row["path"] for row in table] == ["a.wav", "b.wav", "silent.wav"]
    assert float(table[0]["rms"]) - float(table[1]["rms"]) == pytest.approx(3.01, abs=1e-4)
    assert table[2]["rms"] == ""


@pytest.mark.parametrize(
    ("words", "status", "says"),
    [
        (["measure", "a.wav", "b.wav", "--limit", "rms<=-5"], 0, ""),
        (["measure", "a.wav", "b.wav", "--limit", "rms<=-9"], 1, ""),
        (["measure", "a.wav", "--csv", "--json"], 2, "without --json"),
        (["measure", "a.wav", "--columns", "loudness"], 2, "no measure named 'loudness'"),
        (["compare", "a.wav", "b.wav", "a.wav"], 2, "--each"),
        (["compare", "a.wav", "b.wav", "a.wav", "--each", "--sum"], 2, "without --sum"),
        (["compare", "a.wav", "b.wav", "--csv"], 2, "together with --each"),
    ],
)
def test_limits_hold_for_every_row_and_bad_use_is_refused(
    folder: Path, words: list[str], status: int, says: str
) -> None:
    done = _run(folder, *words)
    assert done.returncode == status
    assert says in done.stderr


def test_several_files_are_brought_to_one_level_and_written(folder: Path) -> None:
    done = _run(folder, "match", "a.wav", "b.wav", "--target", "-20", "--by", "rms", "--out-folder", "level", "--json")
    assert done.returncode == 0
    gains = [row["readings"][0]["value"] for row in json.loads(done.stdout)["rows"]]
    assert gains[1] - gains[0] == pytest.approx(3.01, abs=0.001)
    for name in ("a.wav", "b.wav"):
        found = {r["measure"]: r["value"] for r in _one(folder, "measure", f"level/{name}")["readings"]}
        assert found["rms"] == pytest.approx(-20.0, abs=0.001)
    alone = _one(folder, "match", "a.wav", "--target", "-20", "--by", "rms", "--passage", "first")
    assert alone["options"]["passage"] == "first"
    for words in (("a.wav", "--out-folder", "."), ("a.wav", "b.wav", "--out", "x.wav"), ("a.wav", "./a.wav",
                  "--out-folder", "level")):  # fmt: skip
        assert _run(folder, "match", *words, "--target", "-20", "--by", "rms").returncode == 2
    failed = _run(folder, "match", "a.wav", "silent.wav", "--target", "-20", "--by", "rms", "--out-folder", "level")
    assert failed.returncode == 2
    assert not (folder / "level" / "silent.wav").exists()


def test_the_greatest_differences_are_listed_in_time(folder: Path) -> None:
    samples, rate = soundfile.read(folder / "a.wav")
    samples[24_000:26_400] = 0.0
    soundfile.write(folder / "gap.wav", samples, rate, subtype="FLOAT")
    places = _one(folder, "compare", "a.wav", "gap.wav", "--places", "3")["places"]
    assert [set(place) for place in places] == [{"start", "length", "cause", "amount", "unit"}]
    assert (places[0]["cause"], places[0]["unit"]) == ("gap", "dBFS")
    assert places[0]["start"] == pytest.approx(0.5, abs=0.011)
    rows = json.loads(_run(folder, "compare", "a.wav", "gap.wav", "b.wav", "--each", "--places", "2", "--json").stdout)
    assert rows["rows"][0]["places"] == places[:2]
    assert rows["rows"][1]["places"][0]["cause"] == "gain"
    assert "places" not in _one(folder, "compare", "a.wav", "gap.wav")


@pytest.mark.parametrize("others", [[], ["a.wav"]])
def test_brackets_and_colons_of_a_name_are_printed(folder: Path, others: list[str]) -> None:
    """They would be a style or a picture to what prints tables."""
    name = "drums [wet] :warning:.wav"
    (folder / name).write_bytes((folder / "a.wav").read_bytes())
    assert name in _run(folder, "measure", name, *others).stdout
