"""Tables and audio that are taken away hold what the pages show, in the figures of the API."""

import csv
import hashlib
import io
import json
import math
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pandas
import pytest
import soundfile
from flask.testing import FlaskClient
from junitparser import JUnitXml

from kind_echo.bench.plans import read_yaml
from kind_echo.wording.tables import csv_text
from tests.conftest import kind_echo

_CELLS = "/api/tables/runs/{}/cells.{}"
_READINGS = "/api/tables/runs/{}/readings.{}"


def _get(client: FlaskClient, path: str, **query: object) -> Any:
    answer = client.get(path, query_string=query)
    assert answer.status_code == 200, answer.text
    return answer


def _rows(client: FlaskClient, path: str, **query: object) -> list[dict[str, str]]:
    answer = _get(client, path, **query)
    assert answer.headers["Content-Disposition"].startswith("attachment")
    return list(csv.DictReader(io.StringIO(answer.text)))


def _run(client: FlaskClient) -> dict[str, Any]:
    runs = _get(client, "/api/runs").json["runs"]
    return next(r for r in runs if (r["plan"], r["build"]["version"]) == ("Null regression", "2.1.0-rc2"))


def test_a_sheet_as_csv_has_every_cell_with_every_measure(looking: FlaskClient) -> None:
    run = _run(looking)
    sheet = _get(looking, f"/api/runs/{run['id']}").json
    rows = _rows(looking, _CELLS.format(run["id"], "csv"))
    assert [int(row["cell"]) for row in rows] == [cell["id"] for cell in sheet["cells"]]
    shown = {str(cell["id"]): cell for cell in sheet["cells"]}
    for row in rows:
        cell = shown[row["cell"]]
        assert (row["verdict"], row["why"]) == (cell["verdict"], cell["why"])
        assert (float(row["residual_rms"]) if row["residual_rms"] else None) == cell["value"]
    assert {"gain", "delay", "true_peak"} <= set(rows[0])
    told = _get(looking, _CELLS.format(run["id"], "json")).json
    assert (told["schema"], told["table"], told["columns"]) == ("kind-echo table 1", "cells", list(rows[0]))
    assert [csv_text([list(one.values())]) for one in told["rows"]] == [csv_text([_typed(row)]) for row in rows]


def _typed(row: dict[str, str]) -> list[object]:
    """A row of CSV with its figures as they were: Python's notation gives every one of them back."""

    def value(text: str) -> object:
        try:
            return int(text) if text.lstrip("-").isdigit() else float(text)
        except ValueError:
            return text or None

    return [value(text) for text in row.values()]


def test_every_reading_of_a_run_is_a_row(looking: FlaskClient) -> None:
    run = _run(looking)
    rows = _rows(looking, _READINGS.format(run["id"], "csv"))
    cell = next(one for one in _get(looking, f"/api/runs/{run['id']}").json["cells"] if one["verdict"] == "Fail")
    pair = _get(looking, f"/api/cells/{cell['id']}").json
    mine = {(row["measure"], row["channel"]): row for row in rows if row["cell"] == str(cell["id"])}
    assert mine.keys() == {(one["measure"], one["channel"]) for one in pair["readings"]}
    for one in pair["readings"]:
        row = mine[one["measure"], one["channel"]]
        assert (float(row["value"]) if row["value"] else None) == one["value"]
        assert (row["unit"], row["note"] or None, row["judgement"] or None) == (
            one["unit"],
            one["why"],
            one["judgement"],
        )
    told = _get(looking, _READINGS.format(run["id"], "json")).json["rows"]
    assert len(told) == len(rows)


def test_what_pages_list_can_be_taken_away(looking: FlaskClient) -> None:
    listed = _get(looking, "/api/runs").json["runs"]
    rows = _rows(looking, "/api/tables/runs.csv")
    assert [int(row["run"]) for row in rows] == [run["id"] for run in listed]
    assert [int(row["fail"]) for row in rows] == [run["verdicts"]["failed"] for run in listed]
    effect = listed[0]["effect"]
    assert {row["effect"] for row in _rows(looking, "/api/tables/runs.csv", effect=effect)} == {effect}
    references = _get(looking, "/api/references").json["references"]
    assert [row["sha256"] for row in _rows(looking, "/api/tables/references.csv")] == [r["sha256"] for r in references]
    plan = _run(looking)["plan_id"]
    asked = {"plan_id": plan, "measure": "residual_rms"}
    cases = _get(looking, "/api/trends", **asked).json["cases"]
    lines = [line for case in cases for line in _get(looking, "/api/trends", **asked, **case).json["lines"]]
    points = [point["value"] for line in lines for point in line["points"] if point is not None]
    told = _get(looking, f"/api/tables/plans/{plan}/residual_rms.json").json["rows"]
    assert [one["value"] for one in told] == points


@pytest.mark.parametrize(
    ("path", "status"),
    [
        (_CELLS.format(999_999, "csv"), 404), (_READINGS.format(999_999, "json"), 404),
        (_CELLS.format(1, "exe"), 422), ("/api/tables/plans/999999/gain.csv", 404),
        ("/api/tables/plans/1/loveliness.csv", 400), ("/api/tables/runs.csv?archived=perhaps", 422),
    ],
)  # fmt: skip
def test_what_is_not_there_is_told_before_anything_is_sent(looking: FlaskClient, path: str, status: int) -> None:
    answer = looking.get(path)
    assert (answer.status_code, answer.content_type) == (status, "application/problem+json")


def test_audio_is_taken_away_as_it_is_kept(looking: FlaskClient) -> None:
    run = _run(looking)
    cells = _get(looking, f"/api/runs/{run['id']}").json["cells"]
    cell = next(one for one in cells if one["verdict"] == "Fail" and not one["unfit"])
    pair = _get(looking, f"/api/cells/{cell['id']}").json
    sides = {}
    for side in ("reference", "render", "difference"):
        address = pair[side]["address"]
        answer = _get(looking, f"/api/audio/{address}/file", name=f"{side} of the cell")
        assert f'filename="{side} of the cell.wav"' in answer.headers["Content-Disposition"]
        samples, rate = soundfile.read(io.BytesIO(answer.data), always_2d=True)
        assert (rate, samples.shape) == (pair[side]["rate"], (pair[side]["frames"], pair[side]["channels"]))
        span = {"start": 0, "stop": min(len(samples), 1 << 16)}
        played = np.frombuffer(_get(looking, f"/api/audio/{address}/samples", **span).data, "<f4")
        assert np.array_equal(samples[: span["stop"]].astype("<f4").ravel(), played)
        sides[side] = samples
    assert np.abs(sides["render"] - sides["reference"] - sides["difference"]).max() < 1e-12
    flac = looking.get(f"/api/audio/{pair['difference']['address']}/file", query_string={"form": "flac"})
    assert (flac.status_code, "FLAC holds words of 16 or 24 bits" in flac.text) == (422, True)


def test_a_run_can_be_computed_again_from_its_evidence(looking: FlaskClient, tmp_path: Path) -> None:
    run = _run(looking)
    answer = _get(looking, f"/api/runs/{run['id']}/evidence.zip")
    path = tmp_path / "evidence.zip"
    path.write_bytes(answer.data)
    with zipfile.ZipFile(path) as bundle:
        names = set(bundle.namelist())
        pairs = json.loads(bundle.read("readings.json"))["pairs"]
        suites = JUnitXml.fromstring(bundle.read("junit.xml"))
        plan = read_yaml(bundle.read("plan.yaml").decode())
        rows = list(csv.DictReader(io.StringIO(bundle.read("tables/cells.csv").decode())))
        told = json.loads(bundle.read("run.json"))
    assert (plan.effect, plan.plan) == (told["effect"], told["plan"]) == (run["effect"], run["plan"])
    assert (len(pairs), len(rows), suites.tests) == (run["cells"],) * 3
    troubled = [one for one in pairs if one["status"] != "pass"]
    assert {one["status"] for one in troubled} == {"fail", "waived"}
    assert all("audio" in one for one in troubled if "measured" in one)
    assert not any("audio" in one for one in pairs if one["status"] == "pass")
    # What failed integrity was compared with nothing; its render and what went in are there all the same.
    alone = [one["alone"] for one in pairs if "measured" not in one]
    assert len(alone) == 12
    assert all(len(files) == 2 and names.issuperset(files) for files in alone)
    # Renders and references lie in it in the words that they are kept in, so that nobody doubts a rounding.
    assert {one["subtype"] for pair in troubled if "audio" in pair for one in pair["measured"]["inputs"][:2]} == {
        "FLOAT"
    }
    assert {name.split("-")[-1] for name in names if name.startswith("audio/")} == {
        "reference.wav", "render.wav", "difference.wav", "signal.wav",
    }  # fmt: skip
    verified = kind_echo("verify", path, "--json")
    assert verified.returncode == 0, verified.stdout + verified.stderr
    found = json.loads(verified.stdout)
    assert (found["differences"], found["without_audio"]) == (
        [],
        sum("measured" in one and "audio" not in one for one in pairs),
    )
    # Each was measured beside its signal too, and comes out again: levels, harmonics and aliases of a tone among them.
    assert all("signal" in one["compared"] for one in troubled if "audio" in one)
    assert found["readings"] > 45 * len(troubled) > 0
    assert "report.html" in names
    troubled = [one for one in troubled if "audio" in one]
    forged = tmp_path / "forged.zip"
    _rewrite(path, forged, lambda told: told["pairs"][pairs.index(troubled[0])]["measured"]["comparison"][3])
    refused = kind_echo("verify", forged)
    assert (refused.returncode, "comparison" in refused.stdout or "and now" in refused.stdout) == (1, True)


def test_a_forged_reading_beside_the_signal_is_found(looking: FlaskClient, tmp_path: Path) -> None:
    path, forged = tmp_path / "evidence.zip", tmp_path / "forged.zip"
    path.write_bytes(_get(looking, f"/api/runs/{_run(looking)['id']}/evidence.zip").data)

    def thd(told: Any) -> dict[str, Any]:
        tones = (one["beside_signal"] for one in told["pairs"] if len(one.get("audio", [])) == 3)
        return next(r for readings in tones for r in readings if (r["measure"], r["channel"]) == ("thd", "all"))

    _rewrite(path, forged, thd)
    refused = kind_echo("verify", forged)
    assert (refused.returncode, " thd of all: " in refused.stdout) == (1, True), refused.stdout


def test_audio_of_words_comes_as_flac_with_each_word_as_it_was(looking: FlaskClient) -> None:
    sets = [_get(looking, f"/api/sets/{one['id']}").json for one in _get(looking, "/api/sets").json["sets"]]
    file = next(file for one in sets for file in one["files"] if file["subtype"] == "PCM_24")
    words = {}
    for form in ("wav", "flac"):
        answer = _get(looking, f"/api/audio/{file['address']}/file", form=form)
        assert soundfile.info(io.BytesIO(answer.data)).subtype == "PCM_24"
        words[form], rate = soundfile.read(io.BytesIO(answer.data), dtype="int32", always_2d=True)
        assert rate == file["rate"]
    assert words["wav"].shape == (file["frames"], file["channels"])
    assert np.array_equal(words["wav"], words["flac"])


def test_the_record_and_every_decision_can_be_taken_away(looking: FlaskClient) -> None:
    events = _get(looking, "/api/record", most=500).json["events"]
    rows = _rows(looking, "/api/tables/record.csv")
    assert [int(row["event"]) for row in rows][: len(events)] == [event["id"] for event in events]
    assert [row["told"] for row in rows][: len(events)] == [event["text"] for event in events]
    of_tove = _rows(looking, "/api/tables/record.csv", who="Tove L.", text="SALT-71")
    assert [row["told"] for row in of_tove] == ["Waived: 12 cells, SALT-71, until " + of_tove[0]["told"][-10:]]
    decisions = _rows(looking, "/api/tables/decisions.csv")
    assert sum(row["ticket"] == "SALT-71" for row in decisions) == 12
    assert {row["decision"] for row in decisions} == {"accepted", "fault", "waived"}
    assert not any(row["undone_at"] for row in decisions)


def test_a_sheet_read_by_pandas_has_the_figures_of_the_api_and_no_formula(looking: FlaskClient) -> None:
    run = _run(looking)
    frame = pandas.read_csv(io.BytesIO(_get(looking, _CELLS.format(run["id"], "csv")).data))
    cells = _get(looking, f"/api/runs/{run['id']}").json["cells"]
    assert frame["cell"].tolist() == [cell["id"] for cell in cells]
    values = [cell["value"] for cell in cells]
    assert [None if math.isnan(value) else value for value in frame["residual_rms"]] == values
    texts = frame.select_dtypes(include=["str", "object"]).stack()
    assert not any(str(text).startswith(("=", "+", "-", "@")) for text in texts)


def _rewrite(path: Path, target: Path, reading: Callable[[Any], dict[str, Any]]) -> None:
    """A bundle in which one reading is another, and the manifest says that it was so from the first."""
    with zipfile.ZipFile(path) as bundle, zipfile.ZipFile(target, "w") as forged:
        told = json.loads(bundle.read("readings.json"))
        one = reading(told)
        one |= {"value": 1.0 if one["value"] is None else one["value"] + 1.0}
        changed = json.dumps(told).encode()
        manifest = json.loads(bundle.read("manifest.json"))
        manifest["files"]["readings.json"] = hashlib.sha256(changed).hexdigest()
        for name in bundle.namelist():
            data = {"readings.json": changed, "manifest.json": json.dumps(manifest).encode()}
            forged.writestr(name, data.get(name) or bundle.read(name))
