"""Signals, hosts, effects and kits over HTTP."""

import io
import json
import zipfile
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.parse import quote

import numpy as np
import pytest
import soundfile
from flask.testing import FlaskClient

from kind_echo.bench.machines import record_worker
from kind_echo.core.signals import all_kinds
from kind_echo.database.sessions import transaction
from kind_echo.renderers.contract import Offer, OfferedEffect, OfferedHost
from tests.conftest import drain


def _get(client: FlaskClient, path: str) -> Any:
    answer = client.get(path)
    assert answer.status_code == 200, answer.text
    return answer.json


def _asked(request: dict[str, Any]) -> str:
    return f"request={quote(json.dumps(request))}"


def _wav(samples: Any, rate: int = 48_000) -> bytes:
    file = io.BytesIO()
    soundfile.write(file, samples, rate, "FLOAT", format="WAV")
    return file.getvalue()


def test_every_kind_can_be_previewed_as_it_is_described(blank: FlaskClient) -> None:
    kinds = _get(blank, "/api/signals/kinds")
    assert [kind["key"] for kind in kinds["kinds"]] != []
    assert {kind["key"] for kind in kinds["kinds"]} == set(all_kinds())
    for kind in kinds["kinds"]:
        found = _get(blank, f"/api/signals/preview?{_asked({'kind': kind['key']})}&rate=44100&columns=50")
        assert (found["rate"], found["channels"]) == (44_100, 1)
        assert len(found["strip"]["low"][0]) == 50
        assert len(found["level_map"]["levels"][0]) == 96
        assert bool(found["aliases"]) == (kind["key"] == "tone")


def test_a_preview_has_figures_and_both_channels(blank: FlaskClient) -> None:
    asked = {"kind": "noise", "placement": "apart", "level": -20.0}
    found = _get(blank, f"/api/signals/preview?{_asked(asked)}&rate=48000")
    values = {reading["measure"]: reading["value"] for reading in found["readings"]}
    assert values["rms"] == pytest.approx(-20.0, abs=0.2)
    assert found["channels"] == len(found["strip"]["low"]) == 2


@pytest.mark.parametrize(
    ("query", "status", "words"),
    [
        ("request=nonsense&rate=48000", 422, "request: "),
        ("request=[]&rate=48000", 422, "request: it must be an object"),
        (f"{_asked({'kind': 'tone', 'frequency': 23_000.0})}&rate=44100", 422, "frequency=23000.0 is invalid"),
        (f"{_asked({'kind': 'tone', 'seconds': 7200.0})}&rate=192000", 422, "seconds=7200.0 is invalid"),
        (f"{_asked({'kind': 'file', 'sha256': 'ab', 'name': 'x'})}&rate=48000", 404, "There is no audio ab"),
    ],
)
def test_a_preview_that_cannot_be_had_says_why(blank: FlaskClient, query: str, status: int, words: str) -> None:
    answer = blank.get(f"/api/signals/preview?{query}")
    assert answer.status_code == status
    assert answer.json is not None
    assert answer.json["detail"].startswith(words)


def test_signals_are_kept_listed_and_exported(blank: FlaskClient) -> None:
    made = blank.post("/api/signals", json={"name": "A", "request": {"kind": "tone", "seconds": 0.5}})
    assert (made.status_code, made.json["used_by"]) == (201, 0)
    again = blank.post("/api/signals", json={"name": "A", "request": {"kind": "silence"}})
    assert again.status_code == 409
    assert [one["name"] for one in _get(blank, "/api/signals")["signals"]] == ["A"]
    asked = _asked({"kind": "tone", "seconds": 0.5})
    answer = blank.get(f"/api/signals/export?{asked}&rate=96000&format=flac&word_length=16+bit&name=../A%22%0a")
    assert answer.headers["Content-Type"] == "audio/flac"
    assert "/" not in answer.headers["Content-Disposition"].split("filename")[1]
    assert int(answer.headers["Content-Length"]) == len(answer.data)
    found = soundfile.info(io.BytesIO(answer.data))
    assert (found.samplerate, found.frames, found.subtype) == (96_000, 48_000, "PCM_16")


def test_a_file_becomes_a_signal_by_its_content(blank: FlaskClient) -> None:
    data = _wav(np.linspace(-0.5, 0.5, 4800))
    made = blank.post("/api/signals/file?file=ramp.wav&name=Ramp", data=data)
    assert made.status_code == 201, made.text
    assert made.json is not None
    assert made.json["seconds"] == pytest.approx(0.1)
    found = _get(blank, f"/api/signals/preview?{_asked(made.json['request'])}&rate=48000")
    assert found["frames"] == 4800
    refused = blank.post("/api/signals/file?file=poem.wav&name=Poem", data=b"no audio")
    assert refused.status_code == 422


def test_hosts_tell_their_machines_and_an_offered_effect_is_added(blank: FlaskClient) -> None:
    effect = OfferedEffect("Thing", "urn:thing", "A thing", ({"name": "gain", "default": 0.0},), ("1.0", "1.1"))
    offer = Offer("bench", "A bench", None, (OfferedHost("Bench", "1", "", ("offline",)),), (effect,))
    with transaction() as session:
        record_worker(session, "north", 17, [offer], datetime.now(UTC))
    found = _get(blank, "/api/hosts")
    assert [host["machines"] for host in found["hosts"] if host["renderer"] == "stand-in"] == [[], [], []]
    (machine,) = found["machines"]
    assert (machine["name"], machine["at_work"], machine["silent"]) == ("north", 1, 0)
    assert machine["renderers"][0]["effects"][0]["known"] is False
    made = blank.post("/api/effects", json={"name": "Thing"})
    assert made.status_code == 201
    assert _get(blank, "/api/hosts")["machines"][0]["renderers"][0]["effects"][0]["known"] is True
    (known,) = _get(blank, "/api/effects")["effects"]
    assert [build["version"] for build in known["builds"]] == ["1.0", "1.1"]
    assert blank.post("/api/effects", json={"name": "Thing"}).status_code == 409


def test_a_host_by_hand_is_added_once(blank: FlaskClient) -> None:
    asked = {"name": "Foreland", "version": "2", "description": "a box", "modes": ["real time"]}
    assert blank.post("/api/hosts", json=asked).status_code == 201
    assert blank.post("/api/hosts", json=asked).status_code == 409
    assert blank.post("/api/hosts", json=asked | {"modes": []}).status_code == 422
    (host,) = [host for host in _get(blank, "/api/hosts")["hosts"] if host["name"] == "Foreland"]
    assert (host["by_hand"], host["waiting"]) == (True, [])


def test_a_kit_goes_out_and_comes_back_over_http(client: FlaskClient, tmp_path: Path) -> None:
    plan = next(plan for plan in _get(client, "/api/plans")["plans"] if plan["name"] == "By hand")
    asked = {"plan_id": plan["id"], "build_id": plan["builds"][0]["id"]}
    run = client.post("/api/runs", json=asked).json["id"]
    assert _get(client, f"/api/runs/{run}")["by_hand"] == 4
    waiting = {host["name"] + host["version"]: host["waiting"] for host in _get(client, "/api/hosts")["hosts"]}
    assert [(one["run_id"], one["cells"]) for one in waiting["Dunlin5"]] == [(run, 4)]
    answer = client.get(f"/api/runs/{run}/kit.zip")
    assert int(answer.headers["Content-Length"]) == len(answer.data)
    archive = zipfile.ZipFile(io.BytesIO(answer.data))
    kit = _get(client, f"/api/runs/{run}/kit")
    assert kit["missing"] == 4
    first = kit["places"][0]
    tone = next(
        name for name in archive.namelist() if "steady-tone" in name and str(first["condition"]["rate"]) in name
    )
    to = f"/api/runs/{run}/kit/files?name="
    receipt = client.post(f"{to}{first['returned_as']}", data=archive.read(tone))
    assert (receipt.status_code, receipt.json["kept"][0]["state"]) == (201, "received")
    hum = client.post(f"{to}hum.wav", data=_wav(np.random.default_rng(1).normal(0, 0.1, 48_000))).json
    refused = client.post(f"{to}poem.txt", data=b"no audio").json
    assert refused["kept"] == []
    assert "cannot be read as audio" in refused["refused"][0]["why"]
    drain()
    kit = _get(client, f"/api/runs/{run}/kit")
    assert kit["missing"] == 3
    assert {file["name"]: file["state"] for file in kit["files"]} == {
        first["returned_as"]: "matched", "hum.wav": "unknown",
    }  # fmt: skip
    file = hum["kept"][0]["id"]
    other = next(place for place in kit["places"] if place["condition"]["rate"] == 48_000)
    wrong = client.post(f"/api/kit-files/{file}/assign", json={"cell_id": first["cell_id"]})
    assert wrong.status_code == 409
    taken = client.post(f"/api/kit-files/{file}/assign", json={"cell_id": other["cell_id"]})
    assert (taken.status_code, taken.json["why"]) == (200, "Nora F. said so")
    assert client.delete(f"/api/kit-files/{file}").status_code == 409
    pair = _get(client, f"/api/cells/{first['cell_id']}")
    assert "its mark says the same" in pair["cell"]["log"]
