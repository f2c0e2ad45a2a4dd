"""What a folder of references, and a plan, would notice of planted faults: tables, JSON, CSV, the status at the end."""

import csv
import io
import json
import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile

from kind_echo.core.sensitivity.faults import FAULTS
from tests.conftest import kind_echo

R = 48_000


@pytest.fixture(scope="module")
def references(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A noise of one channel, and one that is the same in two."""
    folder = tmp_path_factory.mktemp("references")
    noise = 0.1 * np.random.default_rng(1).standard_normal((R // 2, 1))
    soundfile.write(folder / "one.wav", noise, R, subtype="DOUBLE")
    (folder / "more").mkdir()
    soundfile.write(folder / "more" / "same.wav", np.repeat(noise, 2, axis=1), R, subtype="DOUBLE")
    return folder


def _asked(references: Path, *options: str, status: int = 0, known: Path | None = None) -> str:
    kept = ["--fresh"] if known is None else ["--known", str(known)]
    ran = kind_echo("check", str(references), "--sensitivity", *kept, "--jobs", "1", *options)
    assert ran.returncode == status, ran.stderr
    return ran.stdout


def test_the_least_sizes_and_the_blind_spots_are_told(references: Path, tmp_path: Path) -> None:
    known = tmp_path / "known.sqlite"
    found = json.loads(_asked(references, "--json", known=known))
    rows = {row["fault"]: row for row in found["sensitivity"]}
    assert set(rows) == {fault.key for fault in FAULTS}
    # A noise of 0.1 has a level of −16.99 dBFS, by AES17; what is left of a gain g is g − 1 of it.
    assert rows["gain"]["size"] == pytest.approx(20 * math.log10(1 + 10 ** ((-120 + 16.99) / 20)), rel=0.06)
    assert rows["noise"]["size"] == pytest.approx(-120.0, abs=0.6)
    swap = rows["channel_swap"]
    assert (swap["size"], [cell["case"] for cell in swap["passing"]]) == (None, ["more/same.wav", "one.wav"])
    assert found["sensitivity"][0]["size"] is None  # what nobody notices stands first
    again = json.loads(_asked(references, "--json", known=known))
    assert again == found
    text = _asked(references)
    assert "Channels swapped: passes everywhere, for it changes no sample. It shows in: pink noise" in text
    lines = list(csv.DictReader(io.StringIO(_asked(references, "--csv"))))
    assert len(lines) == 2 * len(FAULTS)
    assert {line["state"] for line in lines if line["fault"] == "channel_swap"} == {"no change", "not there"}


def test_what_is_wanted_and_missed_ends_with_1(references: Path, tmp_path: Path) -> None:
    _asked(references, "--wanted", "gain=0.1", "--wanted", "noise=−100")
    _asked(references, "--wanted", "channel_swap=1", status=1)
    limits = tmp_path / "limits.toml"
    limits.write_text("[limits]\nresidual_rms = {at_most = -60}\n[sensitivity]\nnoise = -100\n")
    text = _asked(references, "--limits", str(limits), status=1)
    assert "−100.0 dBFS, missed" in text
    limits.write_text("[sensitivity]\nnoise = -100\n")
    _asked(references, "--limits", str(limits))


@pytest.mark.parametrize(
    ("options", "said"),
    [(["--wanted", "gain"], "FAULT=SIZE"), (["--wanted", "gian=1"], "one of gain"), (["--wanted", "gain=99"], "24 dB"),
     (["--limits", "bad.toml"], "sensitivity: fault='gian' is invalid"), (["renders"], "REFERENCES alone")],
)  # fmt: skip
def test_what_cannot_be_asked_is_said(options: list[str], said: str, references: Path, tmp_path: Path) -> None:
    (tmp_path / "bad.toml").write_text("[sensitivity]\ngian = 1\n")
    ran = kind_echo("check", str(references), *options, "--sensitivity", folder=tmp_path)
    assert ran.returncode == 2
    assert said in ran.stderr
    ran = kind_echo("check", str(references), str(references), "--wanted", "gain=1")
    assert (ran.returncode, "--sensitivity" in ran.stderr) == (2, True)


def test_a_file_that_cannot_be_read_is_told_and_the_others_are_not_lost(tmp_path: Path) -> None:
    sound = 0.1 * np.random.default_rng(2).standard_normal(R // 4)
    soundfile.write(tmp_path / "good.wav", sound, R)
    (tmp_path / "bad.wav").write_bytes(b"RIFF and no more")
    ran = kind_echo("check", str(tmp_path), "--sensitivity", "--fresh", "--json", "--jobs", "1")
    assert ran.returncode == 2
    assert "bad.wav" in ran.stderr
    assert [cell["case"] for cell in json.loads(ran.stdout)["cells"]] == ["good.wav"]


def test_a_plan_is_planted_into_its_approved_references(demo: str, tmp_path: Path) -> None:
    file = tmp_path / "plan.yaml"
    file.write_text(
        "plan: Two cells\neffect: Plumb\ncases:\n- {signal: Steady tone 997 Hz, setting: Default}\n"
        "conditions:\n- {host: Almanac, version: '7', modes: [offline], rates: [48000, 96000]}\n"
    )

    def told(*options: str, status: int = 0) -> Any:
        ran = kind_echo("plan", "sensitivity", str(file), "--jobs", "1", "--json", *options)
        assert ran.returncode == status, ran.stderr
        return json.loads(ran.stdout)

    found = told("--wanted", "gain=0.1", "--wanted", "delay=1")
    assert {cell["case"] for cell in found["cells"]} == {"Steady tone 997 Hz, Default"}
    rows = {row["fault"]: row for row in found["sensitivity"]}
    assert rows["gain"]["is_met"] is True
    assert rows["channel_swap"]["size"] is None
    file.write_text(file.read_text() + "limits: {residual_rms: {at_most: -20}, gain: {}}\n")
    coarse = {row["fault"]: row for row in told("--wanted", "gain=0.01", status=1)["sensitivity"]}
    assert coarse["gain"]["size"] > rows["gain"]["size"]
    ran = kind_echo("plan", "sensitivity", "No such plan")
    assert (ran.returncode, "There is no plan" in ran.stderr) == (2, True)
