"""The doors: every route as nobody, as each role and with each token; forged requests; what answers carry."""

import re
from datetime import UTC, datetime, timedelta
from types import SimpleNamespace
from typing import Any

import pytest
from flask.testing import FlaskClient

from kind_echo.bench.accounts import ROLES, SCOPES, Caller
from kind_echo.bench.queue import analyse_cells
from kind_echo.database.accounts import Token
from kind_echo.database.models import Event
from kind_echo.database.sessions import transaction
from kind_echo.web.app import create_app
from kind_echo.web.security import rates
from kind_echo.web.security.doors import route_key
from kind_echo.web.security.reach import REACH
from kind_echo.web.security.sessions import PROXIES_VARIABLE, SECRET_VARIABLE, BadSecretFile, CannotCountSignIns
from tests.conftest import drain
from tests.signing import person, sign, token

_CALLERS = ["nobody", *ROLES, *SCOPES]


def _as(app: Any, who: str) -> FlaskClient:
    client: FlaskClient = app.test_client()
    if who in ROLES:
        return sign(client, f"Who may {who}", who)
    if who in SCOPES:
        client.environ_base["HTTP_AUTHORIZATION"] = f"Bearer {token(who)}"
    return client


def _caller(who: str) -> Caller:
    return Caller(who, role=who if who in ROLES else None, scope=who if who in SCOPES else None)


def test_no_route_is_unlisted_and_nothing_is_listed_that_is_none() -> None:
    app = create_app()
    routes = {
        route_key(rule.rule, method)
        for rule in app.url_map.iter_rules()
        for method in rule.methods or () if method not in ("HEAD", "OPTIONS")
    }  # fmt: skip
    assert routes == set(REACH)
    documented = {f"{m.upper()} {path}" for path, ways in app.api_doc["paths"].items() for m in ways}
    assert documented <= routes


@pytest.mark.parametrize("who", _CALLERS)
def test_every_route_lets_in_whom_the_table_says(empty: str, who: str) -> None:
    app = create_app()
    for key, reach in REACH.items():
        method, path = key.split(" ")
        asked = re.sub(r"\{address\}", "a" * 64, re.sub(r"\{(?:path)\}", "plans", path))
        answer = _as(app, who).open(
            re.sub(r"\{\w+\}", "999999", asked), method=method, json={} if method == "POST" else None
        )
        admitted = reach.is_open or (who != "nobody" and reach.admits(_caller(who)))
        refusals = (401,) if who == "nobody" else (403,)
        assert (answer.status_code not in (401, 403)) if admitted else (answer.status_code in refusals), (key, who)


def test_a_route_that_nobody_listed_lets_nobody_in(empty: str) -> None:
    app = create_app()
    app.add_url_rule("/api/forgotten", view_func=lambda: "secret")
    for who in _CALLERS:
        answer = _as(app, who).get("/api/forgotten")
        assert (answer.status_code in (401, 403), "secret" in answer.text) == (True, False), who


def test_a_change_that_the_page_did_not_mean_is_refused(blank: FlaskClient) -> None:
    meant = blank.environ_base.pop("HTTP_X_CSRFTOKEN")
    other = sign(create_app().test_client(), "Ivo K.", "keep").environ_base["HTTP_X_CSRFTOKEN"]
    for header in ({}, {"X-CSRFToken": "x"}, {"X-CSRFToken": other}):
        answer = blank.post("/api/people", json={"name": "Mallory", "role": "keep"}, headers=header)
        assert (answer.status_code, answer.json["title"]) == (400, "OtherSession"), header
    names = [one["name"] for one in blank.get("/api/people").json["people"]]
    assert "Mallory" not in names
    made = blank.post("/api/people", json={"name": "Juno B.", "role": "look"}, headers={"X-CSRFToken": meant})
    assert made.status_code == 201


def test_an_answer_on_its_way_brings_no_session_back_and_one_in_use_is_renewed_each_day(
    blank: FlaskClient, monkeypatch: pytest.MonkeyPatch
) -> None:
    with blank.session_transaction() as kept:
        kept.permanent = True
    assert "Set-Cookie" in blank.get("/api/runs").headers
    assert "Set-Cookie" not in blank.get("/api/runs").headers
    tomorrow = SimpleNamespace(now=lambda zone: datetime.now(zone) + timedelta(days=1))
    monkeypatch.setattr("kind_echo.web.security.sessions.datetime", tomorrow)
    assert "Set-Cookie" in blank.get("/api/runs").headers
    assert "Set-Cookie" not in blank.get("/api/runs").headers


def test_a_token_is_shown_once_ends_and_is_revoked(blank: FlaskClient) -> None:
    made: Any = blank.post("/api/tokens", json={"name": "nightly", "scope": "submit", "days": 30}).json
    assert made["secret"].startswith("kindecho_")
    assert made["secret"] not in blank.get("/api/tokens").text
    program = create_app().test_client()
    program.environ_base["HTTP_AUTHORIZATION"] = f"Bearer {made['secret']}"
    assert program.get("/api/runs").status_code == 200
    assert program.get("/api/me").json["name"] == "nightly (token)"
    with transaction() as session:
        kept = session.get_one(Token, made["token"]["id"])
        assert made["secret"] not in (kept.digest, kept.name)
        assert kept.used_at is not None
        kept.ends_at = datetime.now(UTC) - timedelta(seconds=1)
    assert program.get("/api/runs").status_code == 401
    with transaction() as session:
        session.get_one(Token, made["token"]["id"]).ends_at = datetime.now(UTC) + timedelta(days=1)
    assert blank.post(f"/api/tokens/{made['token']['id']}/revoke", json={}).status_code == 200
    assert program.get("/api/runs").status_code == 401
    with transaction() as session:
        assert [e.what for e in session.query(Event).order_by(Event.id)][-2:] == ["token made", "token revoked"]


def test_a_cookie_beside_a_token_counts_for_nothing(blank: FlaskClient) -> None:
    """Else a page could leave out the token against forged requests by sending any Authorization header."""
    blank.environ_base.pop("HTTP_X_CSRFTOKEN")
    for secret in ("wrong", token("read")):
        answer = blank.post(
            "/api/people", json={"name": "M", "role": "keep"}, headers={"Authorization": f"Bearer {secret}"}
        )
        assert answer.status_code in (401, 403)


def test_references_and_renderers_are_kept_by_keepers(client: FlaskClient) -> None:
    worker = sign(create_app().test_client(), "Tove L.", "work")
    runs: Any = worker.get("/api/runs").json
    run = next(r for r in runs["runs"] if r["build"]["version"] == "2.1.0-rc2")
    sheet: Any = worker.get(f"/api/runs/{run['id']}").json
    broken = [c["id"] for c in sheet["cells"] if c["verdict"] == "Fail" and not c["unfit"]][:1]
    said = {"cell_ids": broken, "kind": "reference"}
    refused: Any = worker.post("/api/decisions", json=said)
    assert (refused.status_code, refused.json["title"]) == (403, "NotAllowed")
    assert worker.post("/api/decisions", json=said | {"kind": "accepted"}).status_code == 201
    approved: Any = client.post("/api/decisions", json=said).json
    assert worker.post(f"/api/acts/{approved['id']}/undo").status_code == 403
    assert client.post(f"/api/acts/{approved['id']}/undo").status_code == 200


def test_a_build_server_tells_of_a_build_and_runs_it(client: FlaskClient) -> None:
    program = client.application.test_client()
    program.environ_base["HTTP_AUTHORIZATION"] = f"Bearer {token('submit', 'builds')}"
    body = {"effect": "Skerry", "version": "2.1.0-rc3", "note": "nightly"}
    build: Any = program.post("/api/builds", json=body).json
    assert program.post("/api/builds", json=body | {"note": "another"}).json == build
    plans: Any = program.get("/api/plans").json
    plan = next(plan for plan in plans["plans"] if plan["name"] == "Null regression")
    assert plan["builds"][-1]["version"] == "2.1.0-rc3"
    run = program.post("/api/runs", json={"plan_id": plan["id"], "build_id": build["id"]})
    assert run.status_code == 201
    with transaction() as session:
        assert session.query(Event).order_by(Event.id.desc()).first().who == "builds (token)"
    assert program.post("/api/builds", json={"effect": "Nothing", "version": "1"}).status_code == 404


@pytest.mark.parametrize("path", ["/..%2fapp.py", "/..%2f..%2f__init__.py", "/%2e%2e/app.py", "/" + "x" * 300,
                                  "/assets/..%2f..%2fapp.py", "/" + "%F0%9F%8E%B5" * 200, "/nul%00byte"])  # fmt: skip
def test_an_address_tells_nothing_of_the_disk(blank: FlaskClient, path: str) -> None:
    """A file that there is, one that there is not, and a name that no disk takes are answered alike."""
    there, none = blank.get(path), blank.get(path.replace("app", "none").replace("__init__", "none"))
    assert there.status_code in (200, 404)
    assert (there.status_code, there.headers["Content-Type"]) == (none.status_code, none.headers["Content-Type"])
    assert "create_app" not in there.text


def test_who_is_not_let_in_is_not_told_the_version(blank: FlaskClient) -> None:
    nobody = blank.application.test_client()
    for path in ("/healthz", "/readyz"):
        assert nobody.get(path).json == {"status": "ok"}


_UNSEEN = ("a\u202eb", "a\nb", "a\x00b", "a\u2066b", "a\x1b[31mb", "a/b")


@pytest.mark.parametrize("name", _UNSEEN)
@pytest.mark.parametrize(
    ("address", "body"),
    [
        ("/api/hosts", {"version": "1", "description": "", "modes": ["offline"]}),
        ("/api/people", {"role": "look"}),
        ("/api/tokens", {"scope": "read", "days": 1}),
        ("/api/signals", {"request": {"kind": "silence"}}),
    ],
)
def test_no_name_holds_what_is_not_seen(blank: FlaskClient, address: str, body: dict[str, Any], name: str) -> None:
    answer = blank.post(address, json=body | {"name": name})
    assert answer.status_code == 422, answer.text


@pytest.mark.parametrize("name", _UNSEEN)
def test_no_machine_has_or_offers_a_name_that_is_not_seen(empty: str, name: str) -> None:
    client = _as(create_app(), "render")
    host = {"name": "Host", "version": "1", "modes": ["offline"]}
    effect: dict[str, Any] = {"name": "Effect", "versions": ["1"], "parameters": [{"name": "drive", "default": 0.0}]}

    def arrive(machine: str = "machine", **offer: Any) -> int:
        offers = [{"queue": "lv2", "hosts": [host], "effects": [effect]} | offer]
        return client.post("/api/machines", json={"machine": machine, "process": 1, "offers": offers}).status_code

    assert arrive() == 201
    assert arrive(machine=name) == 422
    assert arrive(hosts=[host | {"name": name}]) == arrive(effects=[effect | {"name": name}]) == 422
    # A plug-in's parameter may be called with a slash, as in Boost/Cut.
    assert arrive(effects=[effect | {"parameters": [{"name": name, "default": 0.0}]}]) == (201 if "/" in name else 422)
    assert arrive(effects=[effect | {"parameters": [{"name": "drive", "default": 10**400}]}]) == 422
    assert arrive(effects=[effect | {"channels": [0]}]) == 422


@pytest.mark.parametrize("path", ["/", "/api/runs", "/api/me", "/api/nothing", "/healthz", "/assets/none.js"])
def test_every_answer_says_what_a_browser_may_do_with_it(blank: FlaskClient, path: str) -> None:
    headers = blank.get(path).headers
    policy = dict(part.split(" ", 1) for part in headers["Content-Security-Policy"].split("; "))
    assert (policy["default-src"], policy["script-src"]) == ("'none'", "'self'")
    assert (policy["frame-ancestors"], policy["base-uri"], policy["form-action"]) == ("'none'", "'none'", "'self'")
    assert "http" not in headers["Content-Security-Policy"]
    assert (headers["X-Content-Type-Options"], headers["X-Frame-Options"]) == ("nosniff", "DENY")
    assert headers["Referrer-Policy"] == "same-origin"
    assert re.fullmatch("[0-9a-f]{32}", headers["X-Request-ID"])
    assert ("Strict-Transport-Security" in headers) is False


def test_headers_of_a_proxy_are_believed_only_when_it_is_there(empty: str, monkeypatch: pytest.MonkeyPatch) -> None:
    said = {"X-Forwarded-Proto": "https", "X-Forwarded-Prefix": "/echo", "X-Forwarded-For": "192.0.2.7"}
    straight = create_app().test_client()
    answer = straight.get("/api/me", headers=said)
    assert "Secure" not in answer.headers["Set-Cookie"]
    assert "HttpOnly; Path=/; SameSite=Strict" in answer.headers["Set-Cookie"]
    monkeypatch.setenv(PROXIES_VARIABLE, "1")
    behind = create_app().test_client()
    answer = behind.get("/api/me", headers=said)
    assert "Secure; HttpOnly; Path=/echo/; SameSite=Strict" in answer.headers["Set-Cookie"]
    assert "Strict-Transport-Security" in answer.headers
    page = behind.get("/runs/1", headers=said).text
    assert 'content="/echo/"' in page
    assert re.findall('(?:src|href)="([^"]*)"', page)
    assert all(link.startswith("/echo/") for link in re.findall('(?:src|href)="([^"]*)"', page))
    monkeypatch.setenv(PROXIES_VARIABLE, "many")
    with pytest.raises(CannotCountSignIns):
        create_app()


def test_the_key_of_sessions_is_kept_from_others(tmp_path: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "key"
    monkeypatch.setenv(SECRET_VARIABLE, str(path))
    for content, mode, words in ((None, 0, "cannot be read"), ("k" * 40, 0o644, "chmod 600"), ("short", 0o600, "32")):
        if content is not None:
            path.write_text(content)
            path.chmod(mode)
        with pytest.raises(BadSecretFile, match=words):
            create_app()


def test_texts_and_numbers_that_cannot_be_kept_are_no_failure_of_the_server(blank: FlaskClient) -> None:
    for method, path, body in (
        ("POST", "/api/people", {"name": "a\x00b", "role": "look"}),
        ("POST", "/api/hosts", {"name": "a\x00b", "version": "1", "modes": ["offline"]}),
        ("POST", "/api/signals", {"name": "a\x00b", "request": {"kind": "bells"}}),
        ("GET", "/api/runs/99999999999999999999", None),
        ("POST", "/api/decisions", {"cell_ids": [10**30], "kind": "fault"}),
        ("POST", "/api/uploads?name=%00", None),
    ):
        answer = blank.open(path, method=method, json=body)
        assert 400 <= answer.status_code < 500, (path, answer.text)


def test_a_role_that_changes_and_a_person_who_is_shut_out_count_at_once(blank: FlaskClient) -> None:
    other = sign(blank.application.test_client(), "Tove L.", "work")
    number = person("Tove L.", "work").id
    assert other.post("/api/plans/read", json={"yaml": "x"}).status_code == 422
    blank.post(f"/api/people/{number}/change", json={"role": "keep"})
    assert other.get("/api/people").status_code == 200
    blank.post(f"/api/people/{number}/change", json={"disabled": True})
    assert other.get("/api/runs").status_code == 401
    blank.post(f"/api/people/{number}/change", json={"disabled": False})
    assert other.get("/api/runs").status_code == 401  # that session has ended for good


def test_metrics_are_read_with_a_token(looking: FlaskClient) -> None:
    program = looking.application.test_client()
    assert program.get("/metrics").status_code == 401
    program.environ_base["HTTP_AUTHORIZATION"] = f"Bearer {token('read')}"
    text = program.get("/metrics").text
    done = re.search(r'^kind_echo_job_seconds_count\{task="render_cell"\} (\d+)', text, re.MULTILINE)
    assert done is not None
    assert int(done.group(1)) > 300
    assert "kind_echo_workers" in text
    assert program.get("/readyz").json["status"] == "ok"


def test_files_come_in_no_faster_than_is_taken(empty: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(rates, "_UPLOAD_LIMIT", "3 per minute")
    app = create_app()
    client, other = sign(app.test_client()), sign(app.test_client(), "Tove L.", "work")
    statuses = [client.post("/api/uploads?name=x", data=b"no sound").status_code for _ in range(5)]
    assert statuses == [422, 422, 422, 429, 429]
    assert other.post("/api/uploads?name=x", data=b"no sound").status_code == 422  # each by themselves


def test_attempts_that_fail_are_counted(client: FlaskClient, monkeypatch: pytest.MonkeyPatch) -> None:
    def break_down(*_: object) -> None:
        raise ValueError("the disk is full")

    monkeypatch.setattr(jobs_of(), "judge_now", break_down)
    before = _failures(client)
    with transaction() as session:
        analyse_cells(session, [1])
    drain()
    assert _failures(client) == before + 1


def jobs_of() -> Any:
    """The jobs; imported late, for they want a database."""
    from kind_echo.bench.jobs import handlers as jobs

    return jobs


def _failures(client: FlaskClient) -> float:
    found = re.search(
        r'^kind_echo_job_failures_total\{task="analyse_cell"\} (\S+)', client.get("/metrics").text, re.MULTILINE
    )
    return float(found.group(1)) if found else 0.0
