"""Files of enemies: whatever is sent, the answer is a sentence, nothing half-read is kept, and the server goes on."""

import io
import json
import os
import signal
import stat
import struct
import zipfile
from collections import Counter
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from flask.testing import FlaskClient
from ops.stack import PROJECT

from kind_echo.audio_io import decoding
from kind_echo.audio_io.decoding import Decoder, Most
from kind_echo.audio_io.files import UnreadableAudio
from kind_echo.bench.plans import find_build, find_plan
from kind_echo.bench.runs import start_run
from kind_echo.database.sessions import transaction
from tests.conftest import query
from tests.mutating import mutated, sound_files, zip_file
from tests.mutating_bodies import spoiled_plans, spoiled_requests
from tests.signing import NOW, token


def _upload(client: FlaskClient, data: bytes, name: str = "x.wav") -> Any:
    return client.post("/api/uploads", query_string={"name": name}, data=data)


@pytest.fixture
def kit(client: FlaskClient) -> str:
    """Where renders of a kit are returned to."""
    with transaction() as session:
        plan = find_plan(session, "By hand")
        build = find_build(session, plan, "2.0.3")
        return f"/api/runs/{start_run(session, plan.id, build.id, who='test', now=NOW).id}/kit/files"


def _return(client: FlaskClient, kit: str, data: bytes) -> Any:
    return client.post(kit, query_string={"name": "returned.zip"}, data=data)


def test_300_damaged_files_of_every_format_are_read_or_refused(tmp_path: Path) -> None:
    outcomes = {"read": 0, "refused": 0}
    with Decoder() as decoder:
        for name, data in mutated(1, 300):
            path = tmp_path / "file"
            path.write_bytes(data)
            try:
                with decoder.decoded(path, name, Most(2, 1800.0)) as audio:
                    fits = audio.channels <= 2 and audio.frames <= 1800 * audio.rate
                    assert not fits or audio.read(0, audio.frames).shape == (audio.frames, audio.channels)
                outcomes["read"] += 1
            except UnreadableAudio:
                outcomes["refused"] += 1
    assert min(outcomes.values()) > 50  # else the mutator does too little, or too much


def test_60_damaged_files_over_the_api_are_no_failure_of_the_server(blank: FlaskClient) -> None:
    statuses = [_upload(blank, data, name).status_code for name, data in mutated(2, 60)]
    assert set(statuses) == {201, 422}


def test_a_zip_of_200_damaged_files_keeps_what_is_audio_and_says_why_not_of_the_rest(
    client: FlaskClient, kit: str
) -> None:
    answer = _return(client, kit, zip_file({f"{name}.wav": data for name, data in mutated(3, 200)}))
    assert answer.status_code == 201
    assert len(answer.json["kept"]) + len(answer.json["refused"]) == 200
    assert min(len(answer.json["kept"]), len(answer.json["refused"])) > 30


def test_damaged_zips_are_refused_in_a_sentence(client: FlaskClient, kit: str) -> None:
    whole = bytearray(zip_file(dict(list(sound_files().items())[:2])))
    for number in range(120):
        draw = np.random.default_rng((4, number))
        data = bytearray(whole)
        # The directory at the end is what a ZIP is read by.
        for at in draw.integers(len(data) - 200, len(data), 4) if number % 2 else draw.integers(0, len(data), 12):
            data[at] = int(draw.integers(0, 256))
        answer = _return(client, kit, bytes(data))
        assert answer.status_code in (201, 422), answer.text
        assert answer.json


def test_the_content_decides_what_a_file_is_and_never_its_name(blank: FlaskClient) -> None:
    sounds = sound_files()
    assert _upload(blank, sounds["FLAC PCM_16"], "picture.png").status_code == 201
    for name, data in (("x.wav", b"\x89PNG\r\n\x1a\n" + bytes(400)), ("x.flac", b"<script>alert(1)</script>" * 9)):
        assert _upload(blank, data, name).status_code == 422


def test_a_child_that_is_ended_is_followed_by_another(tmp_path: Path) -> None:
    path = tmp_path / "file"
    path.write_bytes(sound_files()["WAV PCM_16"])
    with Decoder() as decoder:
        with decoder.decoded(path, "x", Most(2, 10.0)) as audio:
            assert audio.frames == 4000
        assert decoder._child is not None
        os.kill(decoder._child.pid, signal.SIGKILL)
        with pytest.raises(UnreadableAudio, match="more than it may"), decoder.decoded(path, "x", Most(2, 10.0)):
            pass
        with decoder.decoded(path, "x", Most(2, 10.0)) as audio:
            assert audio.frames == 4000


def test_a_child_that_hangs_is_ended(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(decoding, "_SECONDS", 0.5)
    os.mkfifo(tmp_path / "endless")  # opening it waits for somebody who writes
    with Decoder() as decoder, pytest.raises(UnreadableAudio, match="too long"), decoder.decoded(
        tmp_path / "endless", "x", Most(2, 10.0)
    ):  # fmt: skip
        pass


def test_a_child_may_take_no_more_memory_than_it_is_given(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The header asks for 1,000 channels of 64 bits: a block takes half a gigabyte, and more on its way."""
    header = struct.pack("<4sI4s4sIHHIIHH4sI", b"RIFF", 0x7FFFFFF0, b"WAVE", b"fmt ", 16, 3, 1000, 48_000, 384_000_000,
                         8000, 64, b"data", 0x7FFFFFC0)  # fmt: skip
    path = tmp_path / "file"
    path.write_bytes(header)
    with path.open("r+b") as file:
        file.truncate(0x7FFFFFF8)  # a file with a hole: it takes no space
    with Decoder() as decoder, pytest.raises(UnreadableAudio, match="than it may"), decoder.decoded(
        path, "x", Most(1000, 1e9)
    ):  # fmt: skip
        pass


@pytest.mark.parametrize("member", ["../../../../etc/cron.d/x", "/etc/passwd", "..\\..\\x.wav", "a/../../b.wav"])
def test_a_path_in_a_zip_is_no_path(
    client: FlaskClient, kit: str, member: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Whatever is unpacked is under a folder of temporary files, and gone afterwards; nothing is beside or above it."""
    deep = tmp_path / "one" / "two" / "three"
    deep.mkdir(parents=True)
    monkeypatch.setattr("tempfile.tempdir", str(deep))
    passwords = Path("/etc/passwd").read_bytes()
    answer = _return(client, kit, zip_file({member: sound_files()["WAV PCM_16"]}))
    kept = answer.json["kept"]
    assert [one["name"] for one in kept] == [member.replace("\\", "/").rsplit("/", 1)[-1]]
    assert [path for path in tmp_path.rglob("*") if path not in (deep, *deep.parents)] == []
    assert Path("/etc/passwd").read_bytes() == passwords
    assert not Path("/etc/cron.d/x").exists()


def test_links_bombs_and_crowds_in_zips_are_refused(client: FlaskClient, kit: str) -> None:
    data = io.BytesIO()
    with zipfile.ZipFile(data, "w", zipfile.ZIP_DEFLATED) as archive:
        link = zipfile.ZipInfo("link.wav")
        link.external_attr = (stat.S_IFLNK | 0o777) << 16
        archive.writestr(link, "/etc/passwd")
        archive.writestr("sound.wav", sound_files()["WAV PCM_16"])
    answer = _return(client, kit, data.getvalue())
    assert [one["name"] for one in answer.json["kept"]] == ["sound.wav"]
    assert answer.json["refused"] == [
        {"name": "link.wav", "why": "it cannot be unpacked (it is a link to another file)"}
    ]
    bomb = bytearray(zip_file({"a.wav": bytes(1_000_000)}))
    at = bomb.rindex(b"PK\x01\x02") + 24
    struct.pack_into("<I", bomb, at, 0xFFFFFFF0)  # the size that the directory states
    answer = _return(client, kit, bytes(bomb))
    assert (answer.status_code, "unpacks to more than 3.2 GB" in answer.text) == (422, True)
    struct.pack_into("<I", bomb, at, 10)  # it states little, and holds much
    answer = _return(client, kit, bytes(bomb))
    assert answer.json["kept"] == []
    crowd = zip_file({f"{n}.wav": b"" for n in range(5001)})
    answer = _return(client, kit, crowd)
    assert (answer.status_code, "it holds 5001 files" in answer.text) == (422, True)


@pytest.mark.parametrize("depth", [400, 100_000])
def test_what_is_nested_without_end_is_refused(blank: FlaskClient, depth: int) -> None:
    nested = "[" * depth + "]" * depth
    as_yaml = blank.post("/api/plans/read", json={"yaml": f"plan: {nested}"})
    assert as_yaml.status_code == 422
    as_json = blank.post("/api/plans/check", data='{"note": ' + nested + "}", content_type="application/json")
    assert as_json.status_code in (400, 422)


def test_a_plan_that_unfolds_to_more_than_memory_holds_is_refused(blank: FlaskClient) -> None:
    """Nine lists of nine aliases each: 9⁹ entries in some 300 bytes."""
    lines = ["a0: &a0 [x, x, x, x, x, x, x, x, x]"]
    lines += [f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 9)}]" for n in range(1, 10)]
    answer = blank.post("/api/plans/read", json={"yaml": "\n".join(lines)})
    assert answer.status_code == 422
    assert "an alias is not taken" in answer.text


def test_a_body_longer_than_it_says_is_not_read_on(client: FlaskClient, demo: str) -> None:
    before = query(demo, "SELECT count(*) FROM upload")
    data = sound_files()["WAV PCM_16"]
    short = client.post("/api/uploads?name=x", data=data, environ_overrides={"CONTENT_LENGTH": "100"})
    assert short.status_code == 422
    assert query(demo, "SELECT count(*) FROM upload") == before


def test_300_spoiled_requests_and_60_spoiled_plans_are_no_failure_of_the_server(blank: FlaskClient) -> None:
    document = json.loads((PROJECT / "docs" / "openapi.json").read_text())
    bearer = {"Authorization": f"Bearer {token('render')}"}
    machine = blank.application.test_client()
    answers: Counter[int] = Counter()
    for one in spoiled_requests(document, 7, 300):
        client, headers = (machine, bearer) if one.path.startswith("/api/machines") else (blank, {})
        answer = client.open(one.path, method=one.method, data=one.body, content_type=one.content_type, headers=headers)
        answers[answer.status_code] += 1
        assert answer.status_code < 500, (one, answer.get_data(as_text=True))
    assert answers[401] + answers[403] < 30  # they came further than to the door
    assert len(answers) >= 4
    plan = "plan: Many\neffect: Skerry\nsignals:\n  Tone:\n    kind: tone\n    level: -6.0\ncases:\n- signal: Tone\n"
    plan += "  setting: Idle\nconditions:\n- host: Almanac\n  version: '7'\n  modes: [offline]\n  rates: [48000]\n"
    for text in spoiled_plans(plan, 7, 60):
        answer = blank.post("/api/plans/read", json={"yaml": text})
        assert answer.status_code in (200, 422), (text, answer.get_data(as_text=True))
