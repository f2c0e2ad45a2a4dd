"""Ways in: passwords, links, how guesses are slowed, and what ends a session."""

import threading
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from typing import Any

import pytest
from argon2 import PasswordHasher
from flask.testing import FlaskClient
from sqlalchemy import text

from kind_echo.bench.accounts import add_person, change_person, credentials, local_link, open_link, use_link
from kind_echo.bench.accounts.people import CannotSignIn, LastAdministrator, PersonExists
from kind_echo.core.registry.errors import BadParameter
from kind_echo.database.accounts import Person, SignInLink
from kind_echo.database.sessions import transaction
from kind_echo.web.app import create_app
from kind_echo.web.security import devices, hashing
from tests.conftest import wait_until
from tests.signing import NOW, person, sign

_GOOD = "a lantern over the wet slipway"


@pytest.fixture
def quick_hashes(monkeypatch: pytest.MonkeyPatch) -> None:
    """What is tested is who is let in; the cost of a guess is that of the hash, which is not ours."""
    monkeypatch.setattr(credentials, "_hasher", PasswordHasher(time_cost=1, memory_cost=1024, parallelism=1))
    credentials._unknown_hash.cache_clear()


@pytest.fixture
def door(empty: str) -> FlaskClient:
    """Somebody who stands before the page, with an account and a password."""
    with transaction() as session:
        made = add_person(session, "Nora F.", "keep", who="test", now=NOW)
        use_link(session, made.secret, _GOOD, NOW, near=False)
    return _fresh(create_app().test_client())


def _fresh(client: FlaskClient) -> FlaskClient:
    client.environ_base["HTTP_X_CSRFTOKEN"] = client.get("/api/me").json["forgery_token"]
    return client


def _try(client: FlaskClient, name: str = "Nora F.", password: str = _GOOD) -> Any:
    return client.post("/api/sign-in", json={"name": name, "password": password})


def test_a_name_in_any_capitals_and_its_password_let_in(door: FlaskClient) -> None:
    assert door.get("/api/runs").status_code == 401
    answer = _try(door, "nora f.")
    assert (answer.status_code, answer.json["name"], answer.json["role"]) == (200, "Nora F.", "keep")
    assert door.get("/api/runs").status_code == 200
    door.environ_base["HTTP_X_CSRFTOKEN"] = answer.json["forgery_token"]
    assert door.post("/api/sign-out").json["name"] is None
    assert door.get("/api/runs").status_code == 401


def test_what_is_wrong_is_told_neither_by_words_nor_by_work(door: FlaskClient, monkeypatch: pytest.MonkeyPatch) -> None:
    """One password is checked, against a hash of the same cost, whether there is such an account or not."""
    person("Never Chose", "look")
    with transaction() as session:
        shut = add_person(session, "Shut Out", "look", who="test", now=NOW)
        use_link(session, shut.secret, _GOOD, NOW, near=False)
        change_person(session, shut.person.id, who="test", now=NOW, disabled=True)
    costs: list[str] = []

    class Counting:
        def verify(self, kept: str, password: str) -> bool:
            costs.append(kept.rsplit("$", 2)[0])  # the kind of hash and its cost, without salt and hash
            return real.verify(kept, password)

        def hash(self, password: str) -> str:
            return real.hash(password)

    real = credentials._hasher
    monkeypatch.setattr(credentials, "_hasher", Counting())
    tries = (
        ("Nora F.", "wrong"),
        ("Nobody", _GOOD),
        ("Never Chose", _GOOD),
        ("Shut Out", _GOOD),
        ("Nora F.", "x" * 1999),
    )
    answers = {(answer.status_code, answer.text) for answer in (_try(door, *one) for one in tries)}
    assert len(answers) == 1
    assert next(iter(answers))[0] == 401
    assert len(costs) == len(tries)
    assert len(set(costs)) == 1


@pytest.mark.usefixtures("quick_hashes")
def test_guesses_are_slowed(door: FlaskClient) -> None:
    statuses = [_try(door, password=f"guess {n}").status_code for n in range(14)]
    assert statuses == [401] * 10 + [429] * 4
    assert _try(door).status_code == 429  # even the right one waits, so that no guess can be told from it
    elsewhere = {"REMOTE_ADDR": "192.0.2.9"}
    body = {"name": "NORA F. ", "password": "guess"}
    # Nobody is locked out elsewhere by who guesses here; but a name is guessed at 100 times an hour at most.
    assert door.post("/api/sign-in", json=body, environ_base=elsewhere).status_code == 401
    for i in range(95):
        door.post("/api/sign-in", json=body, environ_base={"REMOTE_ADDR": f"192.0.2.{10 + i // 8}"})
    assert door.post("/api/sign-in", json=body, environ_base={"REMOTE_ADDR": "192.0.2.99"}).status_code == 429
    assert door.post("/api/sign-in", json=body | {"name": "Ivo"}, environ_base=elsewhere).status_code == 401


@pytest.mark.usefixtures("quick_hashes")
def test_a_name_under_attack_from_one_address_stays_open_from_another(door: FlaskClient) -> None:
    """Whatever one address may try in an hour is far from what a name may be tried with from all."""
    attacker, owner = {"REMOTE_ADDR": "192.0.2.66"}, {"REMOTE_ADDR": "192.0.2.7"}
    body = {"name": "Nora F.", "password": "guess"}
    for _ in range(15):  # as if a minute had passed each time
        for _ in range(12):
            door.post("/api/sign-in", json=body, environ_base=attacker)
        with transaction() as session:
            session.execute(text("UPDATE attempt SET at = at - interval '61 seconds'"))
    refused = door.post("/api/sign-in", json=body | {"password": _GOOD}, environ_base=attacker)
    assert refused.status_code == 429
    right = door.post("/api/sign-in", json=body | {"password": _GOOD}, environ_base=owner)
    assert right.status_code == 200


@pytest.mark.usefixtures("quick_hashes")
def test_a_browser_that_signed_in_before_stays_open_under_attack_from_everywhere(door: FlaskClient) -> None:
    assert _try(door).status_code == 200
    body = {"name": "Nora F.", "password": "guess"}
    stranger = _fresh(door.application.test_client())
    for i in range(130):
        stranger.post("/api/sign-in", json=body, environ_base={"REMOTE_ADDR": f"192.0.2.{i // 9}"})
    assert stranger.post("/api/sign-in", json=body | {"password": _GOOD}).status_code == 429
    known = _fresh(door.application.test_client())
    cookie = door.get_cookie(devices.COOKIE)
    assert cookie is not None
    known.set_cookie(devices.COOKIE, cookie.value)
    answer = _try(known)
    assert answer.status_code == 200
    known.environ_base["HTTP_X_CSRFTOKEN"] = answer.json["forgery_token"]
    # It is worth nothing for another name, and no way around the limit of guesses.
    assert [_try(known, password="guess").status_code for _ in range(11)] == [401] * 10 + [429]
    assert known.post("/api/sign-in", json={"name": "Ivo", "password": "guess"}).status_code == 401


@pytest.mark.usefixtures("quick_hashes")
def test_ever_other_names_from_one_address_are_slowed(door: FlaskClient) -> None:
    statuses = [_try(door, name=f"somebody {n}", password="guess").status_code for n in range(34)]
    assert statuses == [401] * 30 + [429] * 4
    elsewhere = {"REMOTE_ADDR": "192.0.2.9"}
    right = door.post("/api/sign-in", json={"name": "Nora F.", "password": _GOOD}, environ_base=elsewhere)
    assert right.status_code == 200


def test_passwords_are_checked_a_few_at_a_time_and_no_address_takes_all_turns() -> None:
    turns, held = hashing.Turns(), threading.Event()
    inside, most = [0], [0]
    lock = threading.Lock()

    def check(address: str) -> str:
        try:
            with turns.one(address):
                with lock:
                    inside[0] += 1
                    most[0] = max(most[0], inside[0])
                held.wait(10)
                with lock:
                    inside[0] -= 1
                return "checked"
        except hashing.TooManySignIns:
            return "sent away"

    with ThreadPoolExecutor(40) as pool:
        flood = [pool.submit(check, "192.0.2.66") for _ in range(24)]
        wait_until(lambda: sum(one.done() for one in flood) == 24 - hashing.MOST_OF_AN_ADDRESS, 10, "the flood")
        others = [pool.submit(check, f"192.0.2.{n}") for n in range(hashing.MOST_WAITING)]
        left = hashing.MOST_WAITING - hashing.MOST_OF_AN_ADDRESS
        wait_until(lambda: sum(one.done() for one in others) == len(others) - left, 10, "the others")
        held.set()
        results = [one.result() for one in [*flood, *others]]
    assert results.count("checked") == hashing.MOST_WAITING
    assert most[0] <= hashing.AT_ONCE


def test_who_knows_the_password_is_not_counted_as_one_who_guesses(door: FlaskClient) -> None:
    visits = [_fresh(door.application.test_client()) for _ in range(14)]
    assert [_try(visit).status_code for visit in visits] == [200] * 14


def test_a_copy_of_the_cookie_is_worth_nothing_once_its_session_was_signed_out(door: FlaskClient) -> None:
    copied, other = _fresh(door.application.test_client()), _fresh(door.application.test_client())
    door.environ_base["HTTP_X_CSRFTOKEN"] = _try(door).json["forgery_token"]
    _try(other)
    cookie = door.get_cookie("kind_echo")
    assert cookie is not None
    copied.set_cookie("kind_echo", cookie.value)
    assert copied.get("/api/runs").status_code == 200
    assert door.post("/api/sign-out").status_code == 200
    assert copied.get("/api/runs").status_code == 401
    assert other.get("/api/runs").status_code == 200  # another of the same person's goes on


def test_another_password_ends_the_other_sessions(door: FlaskClient) -> None:
    elsewhere = _fresh(door.application.test_client())
    for client in (door, elsewhere):
        client.environ_base["HTTP_X_CSRFTOKEN"] = _try(client).json["forgery_token"]
    wrong = door.post("/api/me/password", json={"old": "wrong", "new": _GOOD + " too"})
    assert wrong.status_code == 401
    weak = door.post("/api/me/password", json={"old": _GOOD, "new": "short"})
    assert (weak.status_code, "12 to 1024 characters" in weak.text, _GOOD in weak.text) == (422, True, False)
    changed = door.post("/api/me/password", json={"old": _GOOD, "new": _GOOD + " too"})
    assert changed.status_code == 200
    assert (door.get("/api/runs").status_code, elsewhere.get("/api/runs").status_code) == (200, 401)


def test_a_link_works_once_and_sets_a_password(blank: FlaskClient) -> None:
    made: Any = blank.post("/api/people", json={"name": "Juno B.", "role": "work"}).json
    secret = made["link"].removeprefix("/sign-in#")
    guest = _fresh(blank.application.test_client())
    assert guest.post("/api/links/open", json={"secret": secret}).json == {"name": "Juno B.", "sets_password": True}
    weak = guest.post("/api/links/use", json={"secret": secret, "password": "juno b. juno b."})
    assert weak.status_code == 422
    used = guest.post("/api/links/use", json={"secret": secret, "password": _GOOD})
    assert (used.status_code, used.json["role"]) == (200, "work")
    late = _fresh(blank.application.test_client())
    assert late.post("/api/links/use", json={"secret": secret, "password": _GOOD}).status_code == 401
    assert late.post("/api/links/open", json={"secret": secret}).status_code == 401


def test_links_end_by_time_by_reset_and_away_from_this_machine(empty: str) -> None:
    with transaction() as session:
        made = add_person(session, "Juno B.", "look", who="test", now=NOW)
        with pytest.raises(CannotSignIn):
            open_link(session, made.secret, NOW + timedelta(days=8), near=True)
        local = local_link(session, made.person, NOW)
        with pytest.raises(CannotSignIn):
            use_link(session, local, None, NOW, near=False)
        change_person(session, made.person.id, who="test", now=NOW, disabled=True)
        for secret in (made.secret, local, "never made"):
            with pytest.raises(CannotSignIn):
                open_link(session, secret, NOW, near=True)
        change_person(session, made.person.id, who="test", now=NOW, disabled=False)
        again = local_link(session, made.person, NOW)
        assert use_link(session, again, None, NOW, near=True).name == "Juno B."
    client = _fresh(create_app().test_client())
    with transaction() as session:
        secret = local_link(session, session.get_one(Person, made.person.id), NOW + timedelta(days=3650))
    far = client.post("/api/links/use", json={"secret": secret}, environ_base={"REMOTE_ADDR": "192.0.2.1"})
    assert far.status_code == 401
    assert client.post("/api/links/use", json={"secret": secret}).status_code == 200


def test_no_secret_is_kept_as_it_is(empty: str) -> None:
    with transaction() as session:
        made = add_person(session, "Juno B.", "look", who="test", now=NOW)
        assert session.query(SignInLink).one().digest != made.secret
        kept = use_link(session, made.secret, _GOOD, NOW, near=False).password_hash
        assert kept is not None
        assert kept.startswith("$argon2id$v=19$m=65536,t=3,p=4$")  # RFC 9106, section 4, second recommended option
        assert _GOOD not in kept


def test_names_are_told_apart_and_somebody_always_keeps(empty: str) -> None:
    with transaction() as session:
        keeper = add_person(session, "Nora F.", "keep", who="test", now=NOW).person
        for name in ("NORA F.", " nora f. "):
            with pytest.raises(PersonExists):
                add_person(session, name, "look", who="test", now=NOW)
        for name in ("", "  ", "a\tb", "n" * 81, "a/b", "a\u202eb"):
            with pytest.raises(BadParameter):
                add_person(session, name, "look", who="test", now=NOW)
        for change in ({"disabled": True}, {"role": "work"}):
            with pytest.raises(LastAdministrator):
                change_person(session, keeper.id, who="test", now=NOW, **change)
        add_person(session, "Tove L.", "keep", who="test", now=NOW)
        change_person(session, keeper.id, who="test", now=NOW, role="look")
        assert keeper.role == "look"


def test_a_reset_takes_the_password_and_the_sessions(door: FlaskClient) -> None:
    _try(door)
    number = person("Nora F.", "keep").id
    keeper = sign(door.application.test_client(), "Tove L.", "keep")
    assert keeper.post(f"/api/people/{number}/reset").status_code == 200
    assert door.get("/api/runs").status_code == 401
    assert _try(door).status_code in (400, 401)
    assert keeper.post("/api/people/999/reset").status_code == 404
