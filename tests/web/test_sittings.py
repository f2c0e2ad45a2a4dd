"""Blind tests over the API: sittings that nobody can see through, panels, grades."""

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

from kind_echo.bench.listening import ListeningRequest, begin, find_sitting, new_test, sittings
from kind_echo.bench.listening.tests import Method
from kind_echo.core.registry.errors import BadParameter
from kind_echo.database.models import Sitting
from kind_echo.database.sessions import transaction
from tests.conftest import as_service, point_at
from tests.web.listeners import R, ask_for, keep, make_sound

NOW = datetime.now(UTC)


def _make(client: FlaskClient, *specs: str, kind: str = "abx", **also: Any) -> int:
    asked = ask_for(*specs, passage=None, start=2.0, end=2.3, by=also.pop("by", "loudness_integrated"), snap=False)
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
    sound = make_sound()
    test = _make(nora, keep(sound), keep(sound * [1.0, 0.98]), trials=40)
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
    first = np.frombuffer(everything[0][0], "<f4")  # type: ignore[assignment]
    again = np.frombuffer(everything[1][0], "<f4")
    assert 0 < np.abs(first - again).max() <= 4 * 2**-23


def test_a_sitting_ends_with_the_odds_that_its_right_answers_have(nora: FlaskClient) -> None:
    sound = make_sound()
    test = _make(nora, keep(sound), keep(sound * 0.8), trials=10, by="none")
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
    sound = make_sound()
    test = _make(nora, keep(sound), keep(sound * 0.8), trials=5)
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
    sound = make_sound()
    test = _make(nora, keep(sound), keep(sound * 0.8), trials=5)
    waits = Barrier(6)

    def sit(_: int) -> int:
        waits.wait()
        with transaction() as session:
            return begin(session, test, who="Nora F.", now=NOW).id

    with ThreadPoolExecutor(6) as pool:
        assert len(set(pool.map(sit, range(6)))) == 1
    assert _sit(nora, test)["trial"]["number"] == 1


def test_a_sitting_is_its_listeners_alone(nora: FlaskClient, tove: FlaskClient) -> None:
    sound = make_sound()
    test = _make(nora, keep(sound), keep(sound * 0.8), trials=5)
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
    sound = make_sound()
    a, b = keep(sound), keep(sound * 0.8)
    first, second, longer = _make(nora, a, b, trials=6), _make(tove, a, b, trials=6), _make(nora, a, b, trials=7)
    for client, test in ((nora, first), (tove, second), (nora, longer)):
        sitting = _sit(client, test)
        while sitting["trial"]:
            sitting = _answer(client, sitting, choice=_hidden(sitting))
    results = nora.get(f"/api/listening/tests/{second}/results").json
    assert [(one["who"], one["odds"]["trials"]) for one in results["by_person"]] == [("Nora F.", 6), ("Tove L.", 6)]
    assert (results["pooled"]["correct"], results["pooled"]["trials"]) == (12, 12)
    # Both tests showed what they came to before the other was begun.
    assert results["pooled"]["corrected"]
    assert 1 / 4096 < results["pooled"]["p"] < 0.05


def _answer_all(client: FlaskClient, test: int) -> Any:
    sitting = _sit(client, test)
    while sitting["trial"]:
        sitting = _answer(client, sitting, choice=_hidden(sitting))
    return sitting


def test_sittings_of_a_person_are_set_beforehand_and_their_odds_told_after_the_last(nora: FlaskClient) -> None:
    sound = make_sound()
    a, b = keep(sound), keep(sound * 0.8)
    test = _make(nora, a, b, trials=6, sittings=2)
    _answer_all(nora, test)
    between = nora.get(f"/api/listening/tests/{test}/results").json
    assert ([one["odds"] for one in between["sittings"]], between["by_person"], between["pooled"]) == ([None], [], None)
    assert between["sittings"][0]["note"] == "sitting 1 of 2, odds after the last"
    _answer_all(nora, test)
    after = nora.get(f"/api/listening/tests/{test}/results").json
    assert after["pooled"]["p"] == pytest.approx(2**-12)
    assert not after["pooled"]["corrected"]
    told = nora.get(f"/api/listening/tests/{test}").json
    assert (told["sat"], told["sittings"]) == (2, 2)
    third = nora.post(f"/api/listening/tests/{test}/sittings")
    assert (third.status_code, "twice" in third.text or "2 times" in third.text) == (409, True)


def test_who_makes_the_same_test_again_has_odds_corrected_for_looking(nora: FlaskClient) -> None:
    """Also where the first test was deleted: its answers go on to count."""
    sound = make_sound()
    a, b = keep(sound), keep(sound * 0.8)
    first = _make(nora, a, b, trials=6)
    _answer_all(nora, first)
    assert nora.delete(f"/api/listening/tests/{first}").status_code == 204
    assert nora.get(f"/api/listening/tests/{first}").status_code == 404
    assert first not in [one["id"] for one in nora.get("/api/listening/tests").json["tests"]]
    second = _make(nora, a, b, trials=6)
    _answer_all(nora, second)
    results = nora.get(f"/api/listening/tests/{second}/results").json
    assert results["sittings"][1]["odds"] is None
    assert results["pooled"]["corrected"]
    assert (results["pooled"]["correct"], results["pooled"]["p"] > 2**-12) == (12, True)


def test_a_panel_counts_each_person_once(nora: FlaskClient, tove: FlaskClient) -> None:
    sound = make_sound()
    a, b = keep(sound), keep(sound * 0.8)
    until = (datetime.now(UTC) + timedelta(days=2)).isoformat()
    panel = _make(nora, a, b, trials=6, until=until)
    for client in (nora, tove):
        _answer_all(client, panel)
    assert nora.post(f"/api/listening/tests/{panel}/sittings").status_code == 409
    with transaction() as session:
        session.execute(text("UPDATE listening_test SET until = now() - interval '1 minute'"))
    results = nora.get(f"/api/listening/tests/{panel}/results").json
    assert (results["pooled"]["trials"], results["pooled"]["p"]) == (12, pytest.approx(2**-12))
    assert not results["pooled"]["corrected"]


def test_a_day_without_a_time_zone_is_refused(nora: FlaskClient) -> None:
    sound = make_sound()
    body = {
        "asked": ask_for(keep(sound), keep(sound * 0.8)),
        "kind": "abx",
        "name": "x",
        "until": "2030-01-01T00:00:00",
    }
    reply = nora.post("/api/listening/tests", json=body)
    assert (reply.status_code, "timezone" in reply.text) == (422, True)


def test_a_sequential_sitting_ends_at_a_bound_and_does_not_pool(nora: FlaskClient) -> None:
    """Right each time: ln(0.8/0.05)/ln(1.4) = 8.2, so nine answers. Wald's formula by hand."""
    sound = make_sound()
    test = _make(nora, keep(sound), keep(sound * 0.8), trials=0)
    sitting = _sit(nora, test)
    while sitting["trial"]:
        sitting = _answer(nora, sitting, choice=_hidden(sitting))
    results = nora.get(f"/api/listening/tests/{test}/results").json
    assert results["sittings"][0]["odds"]["words"] == "Evidence against guessing after 9 answers."
    assert results["pooled"] is None


def test_the_results_of_a_panel_are_hidden_from_everybody_until_its_day(nora: FlaskClient, tove: FlaskClient) -> None:
    sound = make_sound()
    until = (NOW + timedelta(days=2)).isoformat()
    test = _make(nora, keep(sound), keep(sound * 0.8), trials=5, until=until)
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
    past = {"asked": ask_for(keep(sound), keep(sound * 0.8)), "kind": "abx", "name": "x", "until": NOW.isoformat()}
    assert nora.post("/api/listening/tests", json=past).status_code == 422


def test_bs_1534_hides_the_reference_and_two_anchors_in_a_drawn_order(nora: FlaskClient) -> None:
    sound = make_sound()
    test = _make(nora, keep(sound), keep(sound * [0.5, 1.0]), kind="rating", scale="BS.1534", trials=3, by="none")
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
    sound = make_sound()
    sides = [{"spec": keep(sound * gain), "name": "take.wav"} for gain in ([1.0, 1.0], [0.5, 1.0], [0.25, 1.0])]
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
    sound = make_sound()
    specs = keep(sound), keep(sound * 0.5), keep(sound * [0.7, 1.0])
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
    sound = make_sound()
    test = _make(nora, *(keep(sound * [g, 1.0]) for g in (1.0, 0.9, 0.8)), kind="order")
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
    sound = make_sound()
    same, count = also.pop("same", False), also.pop("sides", 2)
    specs = [keep(sound * (1.0 if same else 1.0 - 0.1 * i)) for i in range(count)]
    body = {"asked": ask_for(*specs, by="none"), "kind": "abx", "name": "x"} | also
    reply = nora.post("/api/listening/tests", json=body)
    assert (reply.status_code in (409, 422), words in reply.text) == (True, True), reply.text


def test_trials_and_answers_are_nobodys_to_change(empty: str) -> None:
    """The web server's own role: it adds what is drawn and answered, and can neither change nor delete it."""
    from kind_echo.database.grants import grant

    sound = make_sound()
    specs = [(keep(sound), "a"), (keep(sound * 0.8), "b")]
    with transaction() as session:
        grant(session, "web", "kind_echo_web")
    point_at(as_service(empty, "web"))
    with transaction() as session:
        test = new_test(session, specs, ListeningRequest(), Method("abx", 5), name="x", who="Nora F.", now=NOW)
        sitting = begin(session, test.id, who="Nora F.", now=NOW)
        find_sitting(session, sitting.id, "Nora F.")
    for command in ("UPDATE trial SET slots = '[]'", "DELETE FROM trial_answer", "UPDATE trial_clip SET slot = 0",
                    "UPDATE listening_test SET until = NULL"):  # fmt: skip
        with pytest.raises(ProgrammingError, match="permission denied"), transaction() as session:
            session.execute(text(command))
    with pytest.raises(BadParameter):
        Method("abx", 201)
