"""Sets of own files over the API: mixed files in one table, and what is written of them measured again."""

import csv
import io
import os
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from flask.testing import FlaskClient

from kind_echo.audio_io.files import AudioFile
from kind_echo.core.levels.analysis import measure
from kind_echo.core.registry.readings import value_of
from kind_echo.database.sessions import URL_VARIABLE
from tests.conftest import drain, query
from tests.signing import sign
from tests.web.test_uploads import _send, audio, noise


def _set(client: FlaskClient, files: dict[str, bytes]) -> tuple[int, dict[str, int]]:
    """A set of uploaded files; its number, and those of its rows by name."""
    number = client.post("/api/sets", json={"name": "Tries"}).json["id"]
    uploads = [{"upload_id": _send(client, name, data).json["id"], "folder": ""} for name, data in files.items()]
    found = client.post(f"/api/sets/{number}/files", json={"files": uploads}).json
    assert found is not None
    return number, {row["name"]: row["id"] for row in found["files"]}


def _rows(client: FlaskClient, number: int) -> dict[str, Any]:
    drain()
    found = client.get(f"/api/sets/{number}").json
    assert found is not None
    return {row["name"]: row for row in found["files"]}


def _value(row: dict[str, Any], key: str) -> Any:
    return row["readings"][key]["value"]


def test_mixed_files_stand_in_one_table_and_say_what_cannot_be_compared(blank: FlaskClient) -> None:
    samples = noise(2.0)
    broken = audio(samples)[:50_000]
    files = {
        "ref.wav": audio(samples),
        "quieter.flac": audio(samples * 10 ** (-3 / 20), kind="FLAC"),
        "other rate.wav": audio(samples, rate=44_100),
        "mono.wav": audio(samples[:, :1]),
        "silent.wav": audio(samples * 0),
        "short.wav": audio(samples[:48_000]),
        "six channels.wav": audio(np.repeat(samples, 3, axis=1)),
        "decoded.mp3": audio(samples, kind="MP3", subtype="MPEG_LAYER_III"),
    }
    number, rows = _set(blank, files)
    assert _send(blank, "broken.wav", broken).status_code == 422
    found = _rows(blank, number)
    assert {row["state"] for row in found.values()} == {"done"}
    assert _value(found["quieter.flac"], "rms") == pytest.approx(_value(found["ref.wav"], "rms") - 3.0, abs=0.001)
    assert found["silent.wav"]["readings"]["rms"]["reason"] == "silence"
    changed = blank.post(f"/api/sets/{number}/change", json={"roles": {str(rows["ref.wav"]): "reference"}})
    assert changed.status_code == 200
    found = _rows(blank, number)
    assert found["quieter.flac"]["why"] == "3.00 dB down"
    assert _value(found["quieter.flac"], "gain") == pytest.approx(-3.0, abs=0.001)
    assert found["quieter.flac"]["readings"]["rms"]["change"] == pytest.approx(-3.0, abs=0.001)
    assert found["decoded.mp3"]["comparison_id"] is not None
    assert found["other rate.wav"]["why"].startswith("44.1 against 48 kHz: levels alone are compared")
    assert found["mono.wav"]["why"].startswith("1 against 2 channels")
    assert "residual_rms" not in found["mono.wav"]["readings"]
    assert found["silent.wav"]["why"] == "silent"
    pair = blank.get(f"/api/comparisons/{found['quieter.flac']['comparison_id']}").json
    assert pair is not None
    assert pair["places"][0]["cause"] == "gain"
    assert blank.get("/api/comparisons").json == {"comparisons": []}


def test_a_file_of_another_rate_is_compared_once_it_may_be_resampled(blank: FlaskClient) -> None:
    def sweep(rate: int) -> Any:
        time = np.arange(2 * rate)[:, None] / rate
        return 0.5 * np.sin(2 * np.pi * (100 * time + 2000 * time**2)) * np.sin(np.pi * time / 2)

    number, rows = _set(
        blank, {"48.wav": audio(sweep(48_000), subtype="FLOAT"), "44.wav": audio(sweep(44_100), 44_100, "WAV", "FLOAT")}
    )
    options = blank.get(f"/api/sets/{number}").json["options"] | {"resample": True}
    asked = {"roles": {str(rows["48.wav"]): "reference"}, "options": options}
    assert blank.post(f"/api/sets/{number}/change", json=asked).status_code == 200
    row = _rows(blank, number)["44.wav"]
    assert "resampled from 44.1 kHz" in row["why"]
    assert _value(row, "residual_rms") < -100
    assert _value(row, "gain") == pytest.approx(0.0, abs=0.01)
    # Measured in another way, the copy that was resampled goes.
    assert query(os.environ[URL_VARIABLE], "SELECT count(*) FROM upload") == [(3,)]
    blank.post(f"/api/sets/{number}/change", json={"options": options | {"resample": False}})
    assert query(os.environ[URL_VARIABLE], "SELECT count(*) FROM upload") == [(2,)]


@pytest.mark.parametrize(("by", "target"), [("rms", -20.0), ("loudness_integrated", -23.0), ("true_peak", -1.0)])
def test_copies_at_one_level_measure_at_that_level(blank: FlaskClient, by: str, target: float, tmp_path: Path) -> None:
    number, rows = _set(blank, {"a.wav": audio(noise(2.0)), "b.wav": audio(noise(2.0) * 0.1)})
    drain()
    asked = {"file_id": rows["b.wav"], "target": target, "by": by}
    trim = blank.post(f"/api/sets/{number}/trims", json=asked).json
    assert trim is not None
    assert trim["trim"] == pytest.approx(trim["target"] - trim["measured"])
    files = ",".join(str(row) for row in rows.values())
    sent = blank.get(f"/api/sets/{number}/levelled.zip?files={files}&target={target}&by={by}")
    with zipfile.ZipFile(io.BytesIO(sent.data)) as archive:
        assert archive.namelist() == ["a.wav", "b.wav"]
        archive.extractall(tmp_path)
    for name in ("a.wav", "b.wav"):
        with AudioFile(tmp_path / name) as copy:
            assert value_of(measure(copy), by) == pytest.approx(target, abs=0.01)


def test_limits_columns_and_csv(blank: FlaskClient) -> None:
    number, _ = _set(blank, {"a.wav": audio(noise()), "=b.wav": audio(noise() * 0.1)})
    drain()
    asked = {"columns": ["rms", "sample_peak"], "limits": {"rms": {"at_most": -20.0}}}
    found = blank.post(f"/api/sets/{number}/change", json=asked).json
    assert found is not None
    assert found["columns"] == ["rms", "sample_peak"]
    assert [row["readings"]["rms"]["judgement"] for row in found["files"]] == ["broken", "met"]
    assert blank.post(f"/api/sets/{number}/change", json={"columns": ["nothing"]}).status_code == 400
    lines = list(csv.DictReader(io.StringIO(blank.get(f"/api/sets/{number}/table.csv").text)))
    peaks = [line for line in lines if line["measure"] == "sample_peak"]
    assert [line["path"] for line in peaks] == ["a.wav", "'=b.wav"]
    assert float(peaks[0]["value"]) == pytest.approx(found["files"][0]["readings"]["sample_peak"]["value"])


def test_a_file_that_something_else_has_outlives_its_set(blank: FlaskClient) -> None:
    number, rows = _set(blank, {"a.wav": audio(noise()), "b.wav": audio(noise() * 0.5)})
    drain()
    uploads = [row["upload_id"] for row in _rows(blank, number).values()]
    pair = blank.post("/api/comparisons", json={"reference_id": uploads[0], "render_id": uploads[1]}).json
    copy = blank.post(f"/api/sets/{number}/copies", json={"name": "Again"}).json
    assert blank.delete(f"/api/sets/{number}").status_code == 204
    drain()
    assert blank.get(f"/api/sets/{number}").status_code == 404
    assert blank.get(f"/api/comparisons/{pair['id']}").json["state"] == "done"
    assert [one["name"] for one in blank.get("/api/sets").json["sets"]] == ["Again"]
    assert blank.get(f"/api/sets/{copy['id']}").json["files"] == []
    assert blank.post(f"/api/sets/{copy['id']}/remove", json={"file_ids": [rows["a.wav"]]}).status_code == 404


def test_a_set_holds_no_more_than_200_files_and_names_one_reference(blank: FlaskClient) -> None:
    number, rows = _set(blank, {"a.wav": audio(noise()), "b.wav": audio(noise() * 0.5)})
    upload = _rows(blank, number)["a.wav"]["upload_id"]
    many = {"files": [{"upload_id": upload}] * 199}
    assert blank.post(f"/api/sets/{number}/files", json=many).status_code == 409
    both = {"roles": {str(row): "reference" for row in rows.values()}}
    assert blank.post(f"/api/sets/{number}/change", json=both).status_code == 422
    assert blank.post(f"/api/sets/{number}/change", json={"roles": {"999": "reference"}}).status_code == 404


def test_a_response_and_a_tone_are_measured_over_many_files(blank: FlaskClient) -> None:
    impulse = np.zeros((48_000, 1))
    impulse[1000] = 0.5
    number, rows = _set(blank, {"in.wav": audio(impulse), "out.wav": audio(impulse * 0.5, subtype="FLOAT")})
    assert blank.post(f"/api/sets/{number}/change", json={"roles": {str(rows["in.wav"]): "input"}}).status_code == 200
    assert _value(_rows(blank, number)["out.wav"], "gain_1k") == pytest.approx(-6.02, abs=0.05)
    tone = 0.5 * np.sin(2 * np.pi * 997 * np.arange(96_000)[:, None] / 48_000)
    number, _ = _set(blank, {"tone.wav": audio(tone)})
    options = blank.get(f"/api/sets/{number}").json["options"] | {"also": "tone", "frequency": 997.0}
    blank.post(f"/api/sets/{number}/change", json={"options": options})
    assert _value(_rows(blank, number)["tone.wav"], "fundamental_level") == pytest.approx(-6.02, abs=0.01)


def test_a_set_is_changed_by_its_maker_and_by_keepers_alone(blank: FlaskClient) -> None:
    app = blank.application
    maker, colleague = sign(app.test_client(), "Maker", "work"), sign(app.test_client(), "Colleague", "work")
    reader = sign(app.test_client(), "Reader", "look")
    number, rows = _set(maker, {"a.wav": audio(noise()), "b.wav": audio(noise() * 0.5)})
    drain()
    first = {"file_ids": [rows["a.wav"]]}
    assert colleague.post(f"/api/sets/{number}/remove", json=first).status_code == 403
    assert colleague.delete(f"/api/sets/{number}").status_code == 403
    assert reader.get(f"/api/sets/{number}").status_code == 200
    for path, body in (("change", {"note": "x"}), ("files", {"files": [{"upload_id": 1}]}), ("again", None)):
        assert reader.post(f"/api/sets/{number}/{path}", json=body).status_code == 403
    assert maker.post(f"/api/sets/{number}/remove", json=first).status_code == 200
    assert blank.delete(f"/api/sets/{number}").status_code == 204
    assert query(os.environ[URL_VARIABLE], "SELECT count(*) FROM upload") == [(0,)]


def test_what_was_asked_for_last_counts_however_the_jobs_come(blank: FlaskClient) -> None:
    number, rows = _set(blank, {"a.wav": audio(noise()), "b.wav": audio(noise() * 0.5)})
    for name in ("a.wav", "b.wav", "a.wav"):
        asked = {"roles": {str(rows[name]): "reference"}}
        assert blank.post(f"/api/sets/{number}/change", json=asked).status_code == 200
    found = _rows(blank, number)
    assert (found["a.wav"]["role"], found["a.wav"]["comparison_id"]) == ("reference", None)
    assert _value(found["b.wav"], "gain") == pytest.approx(-6.02, abs=0.01)
    assert query(os.environ[URL_VARIABLE], "SELECT count(*) FROM pair") == [(1,)]
    # The reference itself goes: what is left stands by itself again.
    blank.post(f"/api/sets/{number}/remove", json={"file_ids": [rows["a.wav"]]})
    alone = _rows(blank, number)["b.wav"]
    assert (alone["state"], alone["comparison_id"]) == ("done", None)
    assert "gain" not in alone["readings"]


def test_what_cannot_be_measured_is_said_in_the_row_and_levels_stay(blank: FlaskClient) -> None:
    number, _ = _set(blank, {"six.wav": audio(np.repeat(noise(), 3, axis=1)), "two.wav": audio(noise())})
    options = blank.get(f"/api/sets/{number}").json["options"]
    asked = {"options": options | {"also": "lossy", "codec": "mp3", "bitrate": 128.0}}
    assert blank.post(f"/api/sets/{number}/change", json=asked).status_code == 200
    found = _rows(blank, number)
    assert _value(found["two.wav"], "lossy_true_peak") is not None
    assert found["six.wav"]["state"] == "done"
    assert found["six.wav"]["why"] != ""
    assert found["six.wav"]["readings"]["rms"]["value"] is not None
    for wrong in ({"also": "tone"}, {"also": "signal", "signal_id": 999}, {"also": "spells"}, {"bitrate": 1.0}):
        body = {"options": options | wrong}
        assert blank.post(f"/api/sets/{number}/change", json=body).status_code in (400, 422), wrong


@pytest.mark.parametrize(
    ("passage", "status"),
    [("whole", 200), ("loudest", 200), ("first", 200), ("given&start=0.1&end=0.4", 200), ("given&start=5&end=6", 422)],
)
def test_copies_are_made_over_any_passage_that_is_in_the_file(blank: FlaskClient, passage: str, status: int) -> None:
    number, rows = _set(blank, {"a.wav": audio(noise())})
    drain()
    address = f"/api/sets/{number}/levelled.zip?files={rows['a.wav']}&target=-20&by=rms&passage={passage}"
    assert blank.get(address).status_code in (status, 400 if status == 422 else status)


def test_silence_has_no_trim_and_no_copy_is_half_written(blank: FlaskClient) -> None:
    number, rows = _set(blank, {"a.wav": audio(noise()), "silent.wav": audio(noise() * 0)})
    drain()
    asked = {"file_id": rows["silent.wav"], "target": -20.0, "by": "rms"}
    trim = blank.post(f"/api/sets/{number}/trims", json=asked).json
    assert trim is not None
    assert (trim["trim"], trim["why"]) == (None, "rms: digital silence")
    files = ",".join(str(row) for row in rows.values())
    refused = blank.get(f"/api/sets/{number}/levelled.zip?files={files}&target=-20&by=rms")
    assert refused.status_code == 409
    assert "silent.wav" in refused.text
    for wrong in ("files=999", "files=1,,2", "files=1;DROP", "files="):
        assert blank.get(f"/api/sets/{number}/levelled.zip?{wrong}&target=-20&by=rms").status_code in (404, 422), wrong
