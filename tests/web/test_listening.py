"""Listening over the API: sides side by side, passages, notes, and what stands in a report."""

import json
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
import pytest
from flask.testing import FlaskClient

from kind_echo.bench.listening import sides as listening_sides
from kind_echo.core.audio.resampling import resample
from kind_echo.core.audio.source import ArraySource
from kind_echo.core.delays.delay import find_delays
from tests.conftest import query
from tests.web.listeners import R, ask_for, keep, make_sound


def _sides(client: FlaskClient, *specs: str, **also: Any) -> Any:
    reply = client.post("/api/listening/sides", json=ask_for(*specs, **also))
    assert reply.status_code == 200, reply.text
    return reply.json


def _clip(client: FlaskClient, heard: Any, side: int, **also: Any) -> np.ndarray:
    query = {key: heard[key] for key in ("rate", "channels", "start", "stop")} | also
    reply = client.get("/api/listening/clip", query_string=query | {"parts": json.dumps(heard["sides"][side]["parts"])})
    assert reply.status_code == 200, reply.text
    return np.frombuffer(reply.data, "<f4").reshape(-1, heard["channels"])


def test_sides_are_lined_up_and_at_one_level_over_the_loudest_passage(nora: FlaskClient) -> None:
    sound = make_sound()
    late = np.concatenate([np.zeros((512, 2)), sound[:-512]]) * 0.5
    heard = _sides(nora, keep(sound), keep(late))
    assert heard["start"] / R == pytest.approx(1.0, abs=1.01)  # 3 s of which the loud second is one
    assert heard["start"] <= 2 * R
    assert heard["stop"] >= 3 * R
    first, second = heard["sides"]
    assert (second["delay"], second["gain"]) == (512, 0.0)
    assert first["gain"] == pytest.approx(-6.02, abs=0.01)
    assert abs(first["error"]) < 0.01
    one, other = (_clip(nora, heard, i) * 10 ** (heard["sides"][i]["gain"] / 20) for i in (0, 1))
    inner = slice(600, -600)
    assert np.abs(one - other)[inner].max() < 1e-3 * np.abs(one).max()
    rendered = _sides(nora, keep(sound), keep(late), align="as rendered", by="none")
    assert [side["gain"] for side in rendered["sides"]] == [0.0, 0.0]
    assert [side["delay"] for side in rendered["sides"]] == [0, 0]


def test_a_difference_a_lossy_copy_another_rate_and_one_channel_stand_side_by_side(nora: FlaskClient) -> None:
    sound = make_sound()
    a, half, soft = keep(sound), keep(sound.mean(axis=1, keepdims=True)), keep(sound * 0.9)
    other_rate = keep(resample(sound, R, 44_100), 44_100)
    specs = (a, half, f"{a}~opus-96", other_rate, f"{a}!{soft}")
    heard = _sides(nora, *specs, passage=None, start=1.0, end=2.0, snap=False)
    assert [len(side["parts"]) for side in heard["sides"]] == [1, 1, 1, 1, 2]
    whole = _clip(nora, heard, 0)
    assert whole.shape == (R, 2)
    assert np.array_equal(_clip(nora, heard, 1)[:, 0], _clip(nora, heard, 1)[:, 1])
    lossy, resampled, difference = (_clip(nora, heard, i) for i in (2, 3, 4))
    assert 0.3 < np.sum(lossy * whole) / np.sum(whole**2) < 1.2  # Opus keeps noise, not its every sample
    assert "opus at 96 kbit/s" in heard["sides"][2]["notes"]
    assert np.abs(resampled - whole)[600:-600].std() < 0.35 * whole.std()  # what lies above 22 kHz is gone
    assert "resampled from 44.1 kHz" in heard["sides"][3]["notes"]
    assert difference == pytest.approx(0.1 * whole, abs=1e-6)
    band = _clip(nora, heard, 0, low=1000, high=2000)
    level = np.abs(np.fft.rfft(band[:, 0])) ** 2
    assert level[891:2245].sum() > 0.999 * level.sum()


@pytest.mark.parametrize(
    ("also", "status", "words"),
    [
        ({"sides": [{"spec": "nothing", "name": "x"}]}, 404, "nothing"),
        ({"passage": None}, 422, "passage"),
        ({"passage": None, "start": 9.0, "end": 10.0}, 422, "within the 4.00 s"),
        ({"passage": None, "start": 0.0, "end": 40.0}, 422, "at most 30 s"),
        ({"low": 2000, "high": 1000}, 422, "band"),
        ({"low": 2000}, 422, "two frequencies"),
        ({"sides": [{"spec": "a!b!c", "name": "x"}]}, 422, "two with !"),
        ({"sides": [{"spec": "a~flac-3", "name": "x"}]}, 422, "CODEC-BITRATE"),
        ({"sides": []}, 422, "sides"),
    ],
)
def test_what_cannot_be_listened_to_is_refused_in_a_sentence(
    nora: FlaskClient, also: dict[str, Any], status: int, words: str
) -> None:
    reply = nora.post("/api/listening/sides", json=ask_for(keep(make_sound())) | also)
    assert (reply.status_code, words in reply.text) == (status, True), reply.text


def test_passages_are_found_or_said_not_to_be(nora: FlaskClient) -> None:
    sound = make_sound()
    changed = sound.copy()
    changed[: R // 2] *= 1.5
    a, b, silent = keep(sound), keep(changed), keep(np.zeros((R, 2)))
    heard = _sides(nora, a, b, passage="differs most")
    assert heard["start"] < R // 2
    assert _sides(nora, a, a, passage="differs most")["found"] == "the first two sides do not differ"
    assert _sides(nora, silent, passage="loudest")["found"] == "the first side is silent"
    assert _sides(nora, a, passage="first event")["stop"] > 0
    assert _sides(nora, a, passage="quietest")["stop"] > 0
    tiny = _sides(nora, keep(sound[:3]), passage="whole")
    assert tiny["stop"] == 3


def test_what_is_no_number_is_silence_and_what_is_beyond_full_scale_comes_down(nora: FlaskClient) -> None:
    broken = make_sound()
    broken[100_000:100_100] = np.nan
    broken[110_000] = np.inf
    heard = _sides(nora, keep(make_sound() * 30), keep(broken), passage=None, start=2.0, end=2.5, snap=False)
    assert "played as silence" in heard["sides"][1]["notes"]
    assert max(side["peak"] for side in heard["sides"]) <= 1e-6
    assert np.isfinite(_clip(nora, heard, 1)).all()


def test_a_long_file_is_lined_up_where_it_sounds(nora: FlaskClient) -> None:
    """2 minutes of silence, then 1 s of sound: more than is searched whole, and nothing at its start."""
    sound = np.concatenate([np.zeros((120 * R, 1)), make_sound(2.0, 1)])
    late = np.concatenate([np.zeros((77, 1)), sound[:-77]])
    heard = _sides(nora, keep(sound), keep(late))
    assert heard["sides"][1]["delay"] == 77
    assert heard["start"] / R > 115


def test_a_delay_is_looked_for_once_however_often_the_passage_changes(
    nora: FlaskClient, monkeypatch: pytest.MonkeyPatch
) -> None:
    looked: list[int] = []

    def counted(*pair: ArraySource) -> Any:
        looked.append(1)
        return find_delays(*pair)  # type: ignore[arg-type]

    monkeypatch.setattr(listening_sides, "find_delays", counted)
    sound = make_sound() * 0.9
    late = np.concatenate([np.zeros((33, 2)), sound[:-33]])
    sides = keep(sound), keep(late)
    for also in ({}, {"passage": None, "start": 0.2, "end": 0.9}, {"by": "rms"}, {"align": "fraction"}):
        assert _sides(nora, *sides, **also)["sides"][1]["delay"] == pytest.approx(33, abs=0.01)
    assert len(looked) == 1


def test_a_short_file_and_a_long_one_are_lined_up_on_one_time_axis(nora: FlaskClient) -> None:
    """15 s against 25 s, on both sides of what is searched whole, over a passage late in both; channels that cancel."""
    rng = np.random.default_rng(4)
    sound = rng.normal(size=(25 * R, 1)) * 0.05 * [1.0, -1.0]
    late = np.concatenate([np.zeros((90, 2)), sound[:-90]])
    for one, other, delay in ((sound[: 15 * R], late, 90), (late, sound[: 15 * R], -90)):
        heard = _sides(nora, keep(one), keep(other), passage=None, start=12.0, end=13.0)
        assert heard["sides"][1]["delay"] == delay
    short = _sides(nora, keep(sound), keep(sound[: 2 * R]), passage=None, start=20.0, end=21.0)["sides"][1]
    assert (short["delay"], short["why"].split(";")[0]) == (None, "too little of it lies beside the first side")
    assert short["peak"] is None


def test_notes_are_kept_by_whom_and_words_are_the_keepers(nora: FlaskClient, tove: FlaskClient) -> None:
    note = {"subject": "cells/12", "side": "Render", "second": 1.25, "text": "harsh, from the second strike on"}
    made = nora.post("/api/listening/notes", json=note)
    assert made.status_code == 201
    found = tove.get("/api/listening/notes?subject=cells/12").json
    assert [(one["who"], one["text"]) for one in found["notes"]] == [("Nora F.", note["text"])]
    assert "harsh" in found["words"]
    assert nora.post("/api/listening/words", json={"words": ["grainy", " wet ", ""]}).json["words"] == ["grainy", "wet"]
    assert tove.get("/api/listening/notes?subject=cells/12").json["words"] == ["grainy", "wet"]
    assert nora.delete(f"/api/listening/notes/{made.json['id']}").status_code == 204
    assert nora.delete(f"/api/listening/notes/{made.json['id']}").status_code == 404


def test_what_was_heard_of_a_run_stands_in_its_report_and_nothing_of_another(client: FlaskClient, demo: str) -> None:
    run, cell = query(
        demo,
        "SELECT run_id, min(id) FROM cell WHERE reference_id IS NOT NULL AND ink > 0 GROUP BY 1 ORDER BY 1 LIMIT 1",
    )[0]
    pair = client.get(f"/api/cells/{cell}").json
    note = {"subject": f"cells/{cell}", "side": "Render", "second": 0.5, "text": "dull"}
    assert client.post("/api/listening/notes", json=note).status_code == 201
    asked = ask_for(pair["reference"]["sha256"], pair["render"]["sha256"])
    tomorrow = (datetime.now(UTC) + timedelta(days=1)).isoformat()
    for subject, until in ((f"cells/{cell}", None), (f"runs/{run}", tomorrow), ("cells/999999", None)):
        made = client.post(
            "/api/listening/tests",
            json={"asked": asked, "kind": "abx", "name": subject, "subject": subject, "until": until},
        )
        assert made.status_code == 201, made.text
    found = client.get(f"/api/listening/runs/{run}").json
    assert [(one["cell_id"], one["note"]["text"]) for one in found["notes"]] == [(cell, "dull")]
    hidden, shown = found["tests"]
    assert (hidden["cell_id"], hidden["results"]) == (None, None)
    assert (shown["cell_id"], shown["test"]["name"], shown["results"]["sittings"]) == (cell, f"cells/{cell}", [])
    about = client.get("/api/listening/notes", query_string={"subject": f"cells/{cell}"}).json
    assert [one["name"] for one in about["tests"]] == [f"cells/{cell}"]
    assert client.get("/api/listening/runs/999999").status_code == 404
