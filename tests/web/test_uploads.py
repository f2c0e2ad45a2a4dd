"""A person's own files: what is taken, what is refused, and that nothing half-sent is kept."""

import io
import socket
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import numpy as np
import pytest
import soundfile
from flask.testing import FlaskClient

from kind_echo.web.app import create_app
from tests.conftest import Server, drain, query
from tests.signing import sign


def audio(samples: Any, rate: int = 48_000, kind: str = "WAV", subtype: str = "PCM_24") -> bytes:
    file = io.BytesIO()
    soundfile.write(file, samples, rate, format=kind, subtype=subtype)
    return file.getvalue()


def noise(seconds: float = 0.5, channels: int = 2, rate: int = 48_000) -> Any:
    return np.random.default_rng(3).uniform(-0.5, 0.5, (int(seconds * rate), channels))


def _send(client: FlaskClient, name: str, data: bytes) -> Any:
    length = {"CONTENT_LENGTH": str(len(data))}
    return client.post(f"/api/uploads?name={name}", data=data, environ_overrides=length)


@pytest.mark.parametrize("kind", ["WAV", "FLAC", "AIFF", "RF64", "W64", "CAF"])
def test_every_format_is_taken_and_a_copy_is_identical(blank: FlaskClient, kind: str) -> None:
    data = audio(noise(), kind=kind)
    reference, render = (_send(blank, f"{name}.{kind.lower()}", data).json["id"] for name in ("a", "b"))
    made = blank.post("/api/comparisons", json={"reference_id": reference, "render_id": render})
    assert made.status_code == 201
    drain()
    pair = blank.get(f"/api/comparisons/{made.json['id']}").json
    assert pair is not None
    assert pair["state"] == "done"
    assert next(r for r in pair["readings"] if r["measure"] == "identical")["value"] == 1


def test_delay_gain_and_polarity_of_own_files_come_back(blank: FlaskClient) -> None:
    samples = noise()
    late = -np.concatenate([np.zeros((7, 2)), samples[:-7]]) * 10 ** (-1 / 20)
    ids = [_send(blank, name, audio(data, subtype="FLOAT")).json["id"] for name, data in (("a", samples), ("b", late))]
    made = blank.post("/api/comparisons", json={"reference_id": ids[0], "render_id": ids[1]})
    drain()
    pair = blank.get(f"/api/comparisons/{made.json['id']}").json
    assert pair is not None
    found = {r["measure"]: r["value"] for r in pair["readings"] if r["channel"] == "all"}
    assert found["delay"] == pytest.approx(7, abs=0.01)
    assert found["gain"] == pytest.approx(-1, abs=0.001)
    assert found["polarity"] == -1


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"", "x.wav cannot be read as audio: it is empty."),
        (b"this is a letter, not a sound " * 40, "x.wav cannot be read as audio: its format is not known"),
        (audio(noise(), subtype="PCM_16")[:-5000], "x.wav cannot be read as audio: it breaks off 5000 bytes before"),
        (audio(np.zeros((0, 2))), "x.wav cannot be read as audio: it has no frames."),
        (audio(noise(0.01, 9)), "x.wav was not kept: it has 9 channels, and up to 8 are taken."),
        (audio(np.zeros((61 * 60 * 4000, 1)), 4000, subtype="PCM_16"), "x.wav was not kept: it lasts 61.0 minutes"),
    ],
)
def test_a_file_that_does_not_do_is_refused_in_a_sentence(blank: FlaskClient, data: bytes, words: str) -> None:
    answer = _send(blank, "x.wav", data)
    assert answer.status_code == 422
    assert answer.json["detail"].startswith(words)
    assert blank.get("/api/comparisons").json == {"comparisons": []}


def test_files_that_cannot_be_laid_over_each_other_are_refused(blank: FlaskClient) -> None:
    mono, stereo = _send(blank, "m", audio(noise(channels=1))), _send(blank, "s", audio(noise()))
    slow = _send(blank, "r", audio(noise(), rate=44_100))
    for other, words in (
        (mono, "The reference has 2 channels and the render 1 channel"),
        (slow, "The reference is at 48000 Hz"),
    ):
        body = {"reference_id": stereo.json["id"], "render_id": other.json["id"]}
        answer = blank.post("/api/comparisons", json=body)
        assert answer.status_code == 422
        assert answer.json is not None
        assert answer.json["detail"].startswith(words)


def test_samples_that_are_not_finite_are_counted_and_nothing_else_is_measured(blank: FlaskClient) -> None:
    broken = noise()
    broken[100, 0], broken[200, 1] = np.nan, np.inf
    ids = [
        _send(blank, name, audio(data, subtype="FLOAT")).json["id"] for name, data in (("a", noise()), ("b", broken))
    ]
    made = blank.post("/api/comparisons", json={"reference_id": ids[0], "render_id": ids[1]})
    drain()
    pair = blank.get(f"/api/comparisons/{made.json['id']}").json
    assert pair is not None
    assert pair["state"] == "done", pair["why"]
    residual = next(r for r in pair["readings"] if r["measure"] == "residual_rms" and r["channel"] == "all")
    assert (residual["value"], residual["why"]) == (None, "the file has NaN or infinite samples")


def test_a_file_over_the_limit_is_refused_before_it_is_read(blank: FlaskClient) -> None:
    answer = blank.post("/api/uploads?name=x.wav", environ_overrides={"CONTENT_LENGTH": str(4 << 30)})
    assert answer.status_code == 413
    assert answer.json is not None
    assert answer.json["detail"] == "x.wav has 4.3 GB, and 3.2 GB are taken; nothing was kept."


def test_a_connection_that_drops_leaves_nothing_behind(server: Server, tmp_path: Path) -> None:
    host = urlsplit(server.address)
    before = query(server.database, "SELECT count(*) FROM upload")
    data = audio(noise())
    lines = ("POST /api/uploads?name=x.wav HTTP/1.1", f"Host: {host.netloc}", f"Content-Length: {len(data)}",
             "Connection: close", "", "")  # fmt: skip
    client = sign(create_app().test_client())
    cookie = client.get_cookie("kind_echo")
    assert cookie is not None
    lines = (*lines[:2], f"Cookie: kind_echo={cookie.value}", f"X-CSRFToken: {client.environ_base['HTTP_X_CSRFTOKEN']}",  # type: ignore[assignment]
             *lines[2:])  # fmt: skip
    head = "\r\n".join(lines)
    with socket.create_connection((str(host.hostname), host.port or 80)) as line:
        line.sendall(head.encode() + data[: len(data) // 2])
        line.shutdown(socket.SHUT_WR)
        answer = line.makefile("rb").read().decode()
    assert answer == ""  # whoever is gone is told nothing
    assert query(server.database, "SELECT count(*) FROM upload") == before
