"""Listening over the API: sides side by side, sittings that nobody can see through, panels, grades, notes."""

import json
import zlib
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from threading import Barrier
from typing import Any

import numpy as np
import pytest
from flask.testing import FlaskClient
from sqlalchemy import text
from sqlalchemy.exc import ProgrammingError

from kind_echo.audio_io.encoding import ENCODINGS
from kind_echo.bench.listening import begin, find_sitting, new_test, sittings
from kind_echo.bench.listening import sides as listening_sides
from kind_echo.bench.listening.sides import Asked
from kind_echo.bench.listening.tests import Way
from kind_echo.core.audio.resampling import resample
from kind_echo.core.audio.source import ArraySource
from kind_echo.core.delays.delay import find_delays
from kind_echo.core.registry.errors import BadParameter
from kind_echo.database.blobs import store_content
from kind_echo.database.models import Sitting
from kind_echo.database.sessions import transaction
from kind_echo.web.app import create_app
from tests.conftest import as_service, point_at, query
from tests.signing import sign

R = 48_000
NOW = datetime.now(UTC)


def _sound(seconds: float = 4.0, channels: int = 2) -> np.ndarray:
    """Noise that is loudest from 2 to 3 s."""
    frames = round(seconds * R)
    noise = np.random.default_rng(3).normal(size=(frames, channels)) * 0.02
    noise[2 * R : 3 * R] *= 5
    return noise


def _keep(samples: np.ndarray, rate: int = R) -> str:
    with transaction() as session:
        return store_content(session, ArraySource(samples, rate), ENCODINGS["FLOAT"]).sha256


@pytest.fixture
def nora(empty: str) -> FlaskClient:
    return sign(create_app().test_client())


@pytest.fixture
def tove(empty: str, nora: FlaskClient) -> FlaskClient:
    return sign(create_app().test_client(), "Tove L.")


def _asked(*specs: str, **also: Any) -> dict[str, Any]:
    return {"sides": [{"spec": spec, "name": f"side {i}"} for i, spec in enumerate(specs, 1)]} | also


def _sides(client: FlaskClient, *specs: str, **also: Any) -> Any:
    reply = client.post("/api/listening/sides", json=_asked(*specs, **also))
    assert reply.status_code == 200, reply.text
    return reply.json


def _clip(client: FlaskClient, heard: Any, side: int, **also: Any) -> np.ndarray:
    query = {key: heard[key] for key in ("rate", "channels", "start", "stop")} | also
    reply = client.get("/api/listening/clip", query_string=query | {"parts": json.dumps(heard["sides"][side]["parts"])})
    assert reply.status_code == 200, reply.text
    return np.frombuffer(reply.data, "<f4").reshape(-1, heard["channels"])


def test_sides_are_lined_up_and_at_one_level_over_the_loudest_passage(nora: FlaskClient) -> None:
    sound = _sound()
    late = np.concatenate([np.zeros((512, 2)), sound[:-512]]) * 0.5
    heard = _sides(nora, _keep(sound), _keep(late))
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
    rendered = _sides(nora, _keep(sound), _keep(late), align="as rendered", by="none")
    assert [side["gain"] for side in rendered["sides"]] == [0.0, 0.0]
    assert [side["delay"] for side in rendered["sides"]] == [0, 0]


def test_a_difference_a_lossy_copy_another_rate_and_one_channel_stand_side_by_side(nora: FlaskClient) -> None:
    sound = _sound()
    a, half, soft = _keep(sound), _keep(sound.mean(axis=1, keepdims=True)), _keep(sound * 0.9)
    other_rate = _keep(resample(sound, R, 44_100), 44_100)
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
    reply = nora.post("/api/listening/sides", json=_asked(_keep(_sound())) | also)
    assert (reply.status_code, words in reply.text) == (status, True), reply.text


def test_passages_are_found_or_said_not_to_be(nora: FlaskClient) -> None:
    sound = _sound()
    changed = sound.copy()
    changed[: R // 2] *= 1.5
    a, b, silent = _keep(sound), _keep(changed), _keep(np.zeros((R, 2)))
    heard = _sides(nora, a, b, passage="differs most")
    assert heard["start"] < R // 2
    assert _sides(nora, a, a, passage="differs most")["found"] == "the first two sides do not differ"
    assert _sides(nora, silent, passage="loudest")["found"] == "the first side is silent"
    assert _sides(nora, a, passage="first event")["stop"] > 0
    tiny = _sides(nora, _keep(sound[:3]), passage="whole")
    assert tiny["stop"] == 3


def test_what_is_no_number_is_silence_and_what_is_beyond_full_scale_comes_down(nora: FlaskClient) -> None:
    broken = _sound()
    broken[100_000:100_100] = np.nan
    broken[110_000] = np.inf
    heard = _sides(nora, _keep(_sound() * 30), _keep(broken), passage=None, start=2.0, end=2.5, snap=False)
    assert "played as silence" in heard["sides"][1]["notes"]
    assert max(side["peak"] for side in heard["sides"]) <= 1e-6
    assert np.isfinite(_clip(nora, heard, 1)).all()


def test_a_long_file_is_lined_up_where_it_sounds(nora: FlaskClient) -> None:
    """2 minutes of silence, then 1 s of sound: more than is searched whole, and nothing at its start."""
    sound = np.concatenate([np.zeros((120 * R, 1)), _sound(2.0, 1)])
    late = np.concatenate([np.zeros((77, 1)), sound[:-77]])
    heard = _sides(nora, _keep(sound), _keep(late))
    assert heard["sides"][1]["delay"] == 77
    assert heard["start"] / R > 115


def test_a_delay_is_looked_for_once_however_often_the_passage_changes(
    nora: FlaskClient, monkeypatch: pytest.MonkeyPatch
) -> None:
    looked: list[int] = []

    def counted(*pair: ArraySource) -> Any:
        looked.append(1)
        return find_delays(*pair)

    monkeypatch.setattr(listening_sides, "find_delays", counted)
    sound = _sound() * 0.9
    late = np.concatenate([np.zeros((33, 2)), sound[:-33]])
    sides = _keep(sound), _keep(late)
    for also in ({}, {"passage": None, "start": 0.2, "end": 0.9}, {"by": "rms"}, {"align": "fraction"}):
        assert _sides(nora, *sides, **also)["sides"][1]["delay"] == pytest.approx(33, abs=0.01)
    assert len(looked) == 1


def test_a_short_file_and_a_long_one_are_lined_up_on_one_time_axis(nora: FlaskClient) -> None:
    """15 s against 25 s, on both sides of what is searched whole, over a passage late in both; channels that cancel."""
    rng = np.random.default_rng(4)
    sound = rng.normal(size=(25 * R, 1)) * 0.05 * [1.0, -1.0]
    late = np.concatenate([np.zeros((90, 2)), sound[:-90]])
    for one, other, delay in ((sound[: 15 * R], late, 90), (late, sound[: 15 * R], -90)):
        heard = _sides(nora, _keep(one), _keep(other), passage=None, start=12.0, end=13.0)
        assert heard["sides"][1]["delay"] == delay
    short = _sides(nora, _keep(sound), _keep(sound[: 2 * R]), passage=None, start=20.0, end=21.0)["sides"][1]
    assert (short["delay"], short["why"].split(";")[0]) == (None, "too little of it lies beside the first side")
    assert short["peak"] is None


def _make(client: FlaskClient, *specs: str, kind: str = "abx", **also: Any) -> int:
    asked = _asked(*specs, passage=None, start=2.0, end=2.3, by=also.pop("by", "loudness_integrated"), snap=False)
    body = {"asked": asked, "kind": kind, "name": "A test"} | also
    reply = client.post("/api/listening/tests", json=body)
    assert reply.status_code == 201, reply.text
    return int(reply.json["id"])


def _sit(client: FlaskClient, test: int) -> Any:
    return client.post(f"/api/listening/tests/{test}/sittings").json


def _answer(client: FlaskClient, sitting: Any, **given: Any) -> Any:
    body = {"number": sitting["trial"]["number"], "switches": 3, "seconds": 4.5} | given
    reply = client.post(f"/api/listening/sittings/{sitting['id']}/answers", json=body)
    assert reply.status_code == 200, reply.text
    return reply.json


def _hear(client: FlaskClient, sitting: Any) -> list[bytes]:
    return [client.get(f"/api/listening/heard/{slot['address']}").data for slot in sitting["trial"]["slots"]]


def _hidden(sitting: Any) -> int:
    """What stands behind X, from the database: no answer of the server tells it."""
    with transaction() as session:
        trial = session.get_one(Sitting, sitting["id"]).drawn[-1]
        return int(trial.slots[1]["side"])


def _headers(reply: Any) -> dict[str, str]:
    """But for the number of the request, which is drawn anew for each."""
    return {name: value for name, value in reply.headers if name != "X-Request-ID"}


def test_nothing_that_a_listener_receives_tells_which_side_it_is(nora: FlaskClient) -> None:
    """All that came for the trials where X is the first is compared with all that came where it is the second."""
    sound = _sound()
    test = _make(nora, _keep(sound), _keep(sound * [1.0, 0.98]), trials=40)
    sitting, came, bodies = _sit(nora, test), {0: [], 1: []}, {0: [], 1: []}  # type: ignore[var-annotated]
    while sitting["trial"]:
        hidden = _hidden(sitting)
        first, x, second = _hear(nora, sitting)
        replies = [nora.get(f"/api/listening/heard/{slot['address']}") for slot in sitting["trial"]["slots"]]
        came[hidden].append((first, x, second, [_headers(reply) for reply in replies]))
        bodies[hidden].append(sitting)
        sitting = _answer(nora, sitting, choice=0)
    assert min(len(came[0]), len(came[1])) > 5
    everything = [one for both in came.values() for one in both]
    # One length, one set of headers, no byte string twice, no address twice.
    assert {len(data) for one in everything for data in one[:3]} == {round(0.3 * R) * 8}
    assert len({json.dumps(headers) for one in everything for headers in one[3]}) == 1
    assert len({data for one in everything for data in one[:3]}) == 3 * len(everything)
    assert max(abs(len(zlib.compress(one[1])) - len(zlib.compress(one[0]))) for one in everything) < 2000
    # The body of a trial has the same words in both cases, but for numbers and addresses.
    said = {
        key: {json.dumps([[slot["label"], slot["graded"]] for slot in one["trial"]["slots"]]) for one in of}
        for key, of in bodies.items()
    }
    assert said[0] == said[1]
    addresses = [slot["address"] for of in bodies.values() for one in of for slot in one["trial"]["slots"]]
    assert len(set(addresses)) == len(addresses)
    # The noise that makes them differ lies under 24 bits.
    first = np.frombuffer(everything[0][0], "<f4")
    again = np.frombuffer(everything[1][0], "<f4")
    assert 0 < np.abs(first - again).max() <= 4 * 2**-23


def test_a_sitting_ends_with_the_odds_that_its_right_answers_have(nora: FlaskClient) -> None:
    sound = _sound()
    test = _make(nora, _keep(sound), _keep(sound * 0.8), trials=10, by="none")
    sitting = _sit(nora, test)
    for right in (True,) * 9 + (False,):
        hidden = _hidden(sitting)
        assert "right" not in json.dumps(sitting)
        sitting = _answer(nora, sitting, choice=hidden if right else 1 - hidden)
    assert (sitting["state"], sitting["trial"]) == ("done", None)
    results = nora.get(f"/api/listening/tests/{test}/results").json
    (sat,) = results["sittings"]
    assert (sat["rights"], sat["odds"]["correct"], sat["odds"]["trials"]) == ([True] * 9 + [False], 9, 10)
    assert sat["odds"]["p"] == pytest.approx(11 / 1024)
    assert sat["odds"]["words"].startswith("Evidence against guessing: by luck alone 1 sitting in 93")
    assert results["pooled"]["p"] == pytest.approx(11 / 1024)
    lines = nora.get(f"/api/listening/tests/{test}/results.csv").text.splitlines()
    assert len(lines) == 11
    assert lines[1].split(",")[1:5] == ["Nora F.", "done", "1", "Which one is this?"]


def test_a_lost_connection_loses_no_trial_and_doubles_none(nora: FlaskClient) -> None:
    sound = _sound()
    test = _make(nora, _keep(sound), _keep(sound * 0.8), trials=5)
    sitting = _sit(nora, test)
    again = _answer(nora, sitting, choice=0)
    # The reply was lost: the page sends the same answer again, and finds itself where it is.
    assert _answer(nora, sitting, choice=0) == again
    assert again["answered"] == 1
    other = nora.post(f"/api/listening/sittings/{sitting['id']}/answers", json={"number": 1, "choice": 1})
    assert (other.status_code, "trial 2 is under way" in other.text) == (409, True)
    ahead = nora.post(f"/api/listening/sittings/{sitting['id']}/answers", json={"number": 4, "choice": 1})
    assert ahead.status_code == 409
    # Another window, or the next day: the same sitting at the same trial, with the same addresses.
    assert _sit(nora, test) == again
    assert nora.get(f"/api/listening/sittings/{sitting['id']}").json == again
    assert nora.post(f"/api/listening/sittings/{sitting['id']}/break-off").json["state"] == "broken off"
    assert nora.post(f"/api/listening/sittings/{sitting['id']}/break-off").status_code == 409
    results = nora.get(f"/api/listening/tests/{test}/results").json
    assert ([one["state"] for one in results["sittings"]], results["pooled"]) == (["broken off"], None)


def test_two_windows_that_sit_down_at_once_have_one_sitting_and_one_first_trial(nora: FlaskClient) -> None:
    sound = _sound()
    test = _make(nora, _keep(sound), _keep(sound * 0.8), trials=5)
    waits = Barrier(6)

    def sit(_: int) -> int:
        waits.wait()
        with transaction() as session:
            return begin(session, test, who="Nora F.", now=NOW).id

    with ThreadPoolExecutor(6) as pool:
        assert len(set(pool.map(sit, range(6)))) == 1
    assert _sit(nora, test)["trial"]["number"] == 1


def test_a_sitting_is_its_listeners_alone(nora: FlaskClient, tove: FlaskClient) -> None:
    sound = _sound()
    test = _make(nora, _keep(sound), _keep(sound * 0.8), trials=5)
    sitting = _sit(nora, test)
    address = sitting["trial"]["slots"][1]["address"]
    assert tove.get(f"/api/listening/heard/{address}").status_code == 404
    assert tove.get(f"/api/listening/sittings/{sitting['id']}").status_code == 404
    assert (
        tove.post(f"/api/listening/sittings/{sitting['id']}/answers", json={"number": 1, "choice": 1}).status_code
        == 404
    )
    assert _sit(tove, test)["id"] != sitting["id"]


def test_sittings_of_the_same_pool_over_people_and_tests(nora: FlaskClient, tove: FlaskClient) -> None:
    sound = _sound()
    a, b = _keep(sound), _keep(sound * 0.8)
    first, second, longer = _make(nora, a, b, trials=6), _make(tove, a, b, trials=6), _make(nora, a, b, trials=7)
    for client, test in ((nora, first), (tove, second), (nora, longer)):
        sitting = _sit(client, test)
        while sitting["trial"]:
            sitting = _answer(client, sitting, choice=_hidden(sitting))
    results = nora.get(f"/api/listening/tests/{second}/results").json
    assert [(one["who"], one["odds"]["trials"]) for one in results["by_person"]] == [("Nora F.", 6), ("Tove L.", 6)]
    assert (results["pooled"]["correct"], results["pooled"]["trials"]) == (12, 12)


def test_a_sequential_sitting_ends_at_a_bound_and_does_not_pool(nora: FlaskClient) -> None:
    """Right each time: ln(0.8/0.05)/ln(1.4) = 8.2, so nine answers. Wald's formula by hand."""
    sound = _sound()
    test = _make(nora, _keep(sound), _keep(sound * 0.8), trials=0)
    sitting = _sit(nora, test)
    while sitting["trial"]:
        sitting = _answer(nora, sitting, choice=_hidden(sitting))
    results = nora.get(f"/api/listening/tests/{test}/results").json
    assert results["sittings"][0]["odds"]["words"] == "Evidence against guessing after 9 answers."
    assert results["pooled"] is None


def test_the_results_of_a_panel_are_hidden_from_everybody_until_its_day(nora: FlaskClient, tove: FlaskClient) -> None:
    sound = _sound()
    until = (NOW + timedelta(days=2)).isoformat()
    test = _make(nora, _keep(sound), _keep(sound * 0.8), trials=5, until=until)
    for client in (nora, tove):
        sitting = _sit(client, test)
        while sitting["trial"]:
            sitting = _answer(client, sitting, choice=0)
        hidden = client.get(f"/api/listening/tests/{test}/results")
        assert (hidden.status_code, "hidden from everybody until" in hidden.text) == (409, True)
        assert client.get(f"/api/listening/tests/{test}/results.csv").status_code == 409
        assert client.get(f"/api/listening/tests/{test}").json["results_hidden"] is True
    with transaction() as session:
        session.execute(text("UPDATE listening_test SET until = now() - interval '1 minute'"))
    assert len(nora.get(f"/api/listening/tests/{test}/results").json["by_person"]) == 2
    assert nora.post(f"/api/listening/tests/{test}/sittings").status_code == 409
    past = {"asked": _asked(_keep(sound), _keep(sound * 0.8)), "kind": "abx", "name": "x", "until": NOW.isoformat()}
    assert nora.post("/api/listening/tests", json=past).status_code == 422


def test_bs_1534_hides_the_reference_and_two_anchors_in_a_drawn_order(nora: FlaskClient) -> None:
    sound = _sound()
    test = _make(nora, _keep(sound), _keep(sound * [0.5, 1.0]), kind="rating", scale="BS.1534", trials=3, by="none")
    sitting, orders = _sit(nora, test), set()
    while sitting["trial"]:
        slots = sitting["trial"]["slots"]
        assert [slot["label"] for slot in slots] == ["Reference", "A", "B", "C", "D"]
        with transaction() as session:
            found = session.get_one(Sitting, sitting["id"])
            names = {s["label"]: found.test.sides[s["side"]]["name"] for s in found.drawn[-1].slots if s["graded"]}
        orders.add(tuple(names.values()))
        value = {"hidden reference": 100, "side 2": 70, "anchor, 7 kHz": 40, "anchor, 3.5 kHz": 10}
        lacking = nora.post(
            f"/api/listening/sittings/{sitting['id']}/answers",
            json={"number": sitting["trial"]["number"], "grades": {"A": 3}},
        )
        assert lacking.status_code == 422
        sitting = _answer(
            nora, sitting, grades={label: value[name] for label, name in names.items()}, notes={"A": "dull"}
        )
    results = nora.get(f"/api/listening/tests/{test}/results").json
    assert [(one["side"], one["mean"], one["count"]) for one in results["means"]] == [
        ("hidden reference", 100, 3), ("side 2", 70, 3), ("anchor, 7 kHz", 40, 3), ("anchor, 3.5 kHz", 10, 3),
    ]  # fmt: skip
    assert results["screened"] == []
    # The anchor has nothing above its edge.
    with transaction() as session:
        low = sittings._samples(session, session.get_one(Sitting, sitting["id"]).test)[-2][:, 0]
    level = np.abs(np.fft.rfft(low)) ** 2
    assert level[round(4000 * len(low) / R) :].sum() < 1e-5 * level.sum()


def test_sides_of_one_name_keep_grades_of_their_own_and_a_band_is_kept(nora: FlaskClient) -> None:
    sound = _sound()
    sides = [{"spec": _keep(sound * gain), "name": "take.wav"} for gain in ([1.0, 1.0], [0.5, 1.0], [0.25, 1.0])]
    asked = {"sides": sides, "passage": None, "start": 2.0, "end": 2.3, "low": 500, "high": 1000}
    made = nora.post("/api/listening/tests", json={"asked": asked, "kind": "order", "name": "x"}).json["id"]
    assert nora.get(f"/api/listening/tests/{made}").json["band"] == [500, 1000]
    sitting = _sit(nora, made)
    level = np.abs(np.fft.rfft(np.frombuffer(_hear(nora, sitting)[0], "<f4").reshape(-1, 2)[:, 1])) ** 2
    bins = np.arange(len(level)) * R / (2 * (len(level) - 1))
    assert level[(bins > 440) & (bins < 1130)].sum() > 0.999 * level.sum()
    _answer(nora, sitting, grades={"A": 10, "B": 50, "C": 90})
    means = nora.get(f"/api/listening/tests/{made}/results").json["means"]
    assert sorted(one["side"] for one in means) == ["take.wav", "take.wav (2)", "take.wav (3)"]
    assert sorted(one["mean"] for one in means) == [10, 50, 90]


def test_bs_1116_asks_of_one_side_at_a_time_and_for_a_full_grade(nora: FlaskClient) -> None:
    sound = _sound()
    specs = _keep(sound), _keep(sound * 0.5), _keep(sound * [0.7, 1.0])
    test = _make(nora, *specs, kind="rating", scale="BS.1116", trials=2, by="none")
    sitting, asked = _sit(nora, test), Counter()  # type: ignore[var-annotated]
    assert sitting["trials"] == 4
    while sitting["trial"]:
        with transaction() as session:
            found = session.get_one(Sitting, sitting["id"])
            names = {s["label"]: found.test.sides[s["side"]]["name"] for s in found.drawn[-1].slots if s["graded"]}
        asked.update(name for name in names.values() if name != "hidden reference")
        assert list(names) == ["A", "B"]
        low = nora.post(
            f"/api/listening/sittings/{sitting['id']}/answers",
            json={"number": sitting["trial"]["number"], "grades": {"A": 3, "B": 4}},
        )
        assert "one is the reference" in low.text
        grades = {label: 5.0 if name == "hidden reference" else 3.5 for label, name in names.items()}
        sitting = _answer(nora, sitting, grades=grades)
    assert asked == {"side 2": 2, "side 3": 2}


def test_a_hidden_order_is_graded_noted_and_then_told(nora: FlaskClient) -> None:
    sound = _sound()
    test = _make(nora, *(_keep(sound * [g, 1.0]) for g in (1.0, 0.9, 0.8)), kind="order")
    sitting = _sit(nora, test)
    assert [slot["label"] for slot in sitting["trial"]["slots"]] == ["A", "B", "C"]
    sitting = _answer(nora, sitting, grades={"A": 10, "B": 50, "C": 90})
    assert sitting["state"] == "done"
    assert sorted(one["side"] for one in nora.get(f"/api/listening/tests/{test}/results").json["means"]) == [
        "side 1", "side 2", "side 3",
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("also", "words"),
    [
        ({"trials": 4}, "could all be guessed"),
        ({"kind": "rating"}, "scale"),
        ({"kind": "rating", "scale": "BS.1116", "trials": 0}, "from 1"),
        ({"heard": 0.5}, "heard"),
        ({"sides": 1}, "two, which are to be told apart"),
        ({"sides": 3}, "two, which are to be told apart"),
        ({"same": True}, "the same to the bit"),
    ],
)
def test_a_test_that_could_prove_nothing_is_not_made(nora: FlaskClient, also: dict[str, Any], words: str) -> None:
    sound = _sound()
    same, count = also.pop("same", False), also.pop("sides", 2)
    specs = [_keep(sound * (1.0 if same else 1.0 - 0.1 * i)) for i in range(count)]
    body = {"asked": _asked(*specs, by="none"), "kind": "abx", "name": "x"} | also
    reply = nora.post("/api/listening/tests", json=body)
    assert (reply.status_code in (409, 422), words in reply.text) == (True, True), reply.text


def test_trials_and_answers_are_nobodys_to_change(empty: str) -> None:
    """The web server's own role: it adds what is drawn and answered, and can neither change nor delete it."""
    from kind_echo.database.grants import grant

    sound = _sound()
    specs = [(_keep(sound), "a"), (_keep(sound * 0.8), "b")]
    with transaction() as session:
        grant(session, "web", "kind_echo_web")
    point_at(as_service(empty, "web"))
    with transaction() as session:
        test = new_test(session, specs, Asked(), Way("abx", 5), name="x", who="Nora F.", now=NOW)
        sitting = begin(session, test.id, who="Nora F.", now=NOW)
        find_sitting(session, sitting.id, "Nora F.")
    for command in ("UPDATE trial SET slots = '[]'", "DELETE FROM trial_answer", "UPDATE trial_clip SET slot = 0",
                    "UPDATE listening_test SET until = NULL"):  # fmt: skip
        with pytest.raises(ProgrammingError, match="permission denied"), transaction() as session:
            session.execute(text(command))
    with pytest.raises(BadParameter):
        Way("abx", 201)


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
    asked = _asked(pair["reference"]["sha256"], pair["render"]["sha256"])
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
