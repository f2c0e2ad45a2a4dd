"""What is served beside the API: the page at every address, its headers, live changes, and the registry."""

import gzip
import re
from typing import Any

import brotli  # type: ignore[import-untyped]
import pytest
from flask.testing import FlaskClient

from kind_echo.core.registry.measures import MEASURES
from kind_echo.database.sessions import transaction
from tests.conftest import drain, query


@pytest.mark.parametrize("path", ["/", "/runs/3", "/cells/12?from=1&to=9", "/references", "/no/such/view"])
def test_every_view_has_an_address_of_its_own(blank: FlaskClient, path: str) -> None:
    answer = blank.get(path)
    assert answer.status_code == 200
    assert '<div id="root">' in answer.text


def test_the_page_asks_nothing_of_any_other_host_and_runs_no_inline_script(blank: FlaskClient) -> None:
    answer = blank.get("/")
    policy = answer.headers["Content-Security-Policy"]
    assert "default-src 'none'; script-src 'self';" in policy
    assert answer.headers["X-Content-Type-Options"] == "nosniff"
    assert "://" not in answer.text.replace("http://www.w3.org", "")


def test_a_file_of_a_page_that_is_no_more_is_not_there(blank: FlaskClient) -> None:
    """Were the page itself sent instead, a browser would take it for a script, and show nothing."""
    assert blank.get("/assets/index-of-yesterday.js").status_code == 404


def test_the_first_load_is_sent_small_to_who_can_unpack_it(blank: FlaskClient) -> None:
    """All that the page names in its head, packed in either way: the same bytes, and fewer than 120 kB as Brotli."""
    named = re.findall(r'(?:src|href)="(/assets/[^"]+)"', blank.get("/").text)
    assert sum(name.endswith(".js") for name in named) >= 2
    total = 0
    for name in named:
        plain = blank.get(name, headers={"Accept-Encoding": "identity"})
        assert "Content-Encoding" not in plain.headers
        for kind, unpack in (("br", brotli.decompress), ("gzip", gzip.decompress)):
            packed = blank.get(name, headers={"Accept-Encoding": kind})
            assert packed.headers["Content-Encoding"] == kind
            assert packed.content_type == plain.content_type
            assert "Accept-Encoding" in packed.headers["Vary"]
            assert unpack(packed.data) == plain.data
            total += len(packed.data) if kind == "br" else 0
        assert blank.get(f"{name}.br").status_code == 404
    assert total < 120_000


def test_the_registry_is_served_as_it_is_declared(blank: FlaskClient) -> None:
    served: Any = blank.get("/api/measures").json
    assert [m["key"] for m in served["measures"]] == list(MEASURES)
    assert all(m["definition"] and m["source"] for m in served["measures"])


def test_an_empty_bench_is_no_error(blank: FlaskClient) -> None:
    for key in ("runs", "plans", "references", "comparisons"):
        assert blank.get(f"/api/{key}").json[key] == []
    assert blank.get("/api/acts/latest").json == {"act": None}


def test_behind_another_server_a_stream_is_a_head_that_lets_the_browser_ask_again(looking: FlaskClient) -> None:
    answer = looking.get("/api/runs/1/events")
    assert answer.content_type.startswith("text/event-stream")
    assert answer.text == "retry: 2000\n\n"
    assert looking.get("/api/runs/999/events").status_code == 404


def test_a_sheet_that_is_known_already_is_not_sent_again(looking: FlaskClient) -> None:
    first = looking.get("/api/runs/1")
    again = looking.get("/api/runs/1", headers={"If-None-Match": first.headers["ETag"]})
    assert (again.status_code, again.data) == (304, b"")
    packed = looking.get("/api/runs/1", headers={"Accept-Encoding": "gzip"})
    assert gzip.decompress(packed.data) == first.data
    assert len(packed.data) < len(first.data) / 3


def test_a_run_is_started_once_for_each_request(client: FlaskClient, demo: str) -> None:
    plans: Any = client.get("/api/plans").json
    plan = next(plan for plan in plans["plans"] if plan["name"] == "Null regression")
    body = {"plan_id": plan["id"], "build_id": plan["builds"][0]["id"]}
    made = client.post("/api/runs", json=body)
    assert made.status_code == 201
    assert made.json is not None
    assert (made.json["cells"], made.json["verdicts"]["waiting"]) == (72, 72)
    waiting = query(demo, "SELECT count(*) FROM procrastinate_jobs WHERE status = 'todo' AND task_name = 'prepare_run'")
    assert waiting == [(3,)]  # one for each host, for a machine may have some of them alone
    sheet: Any = client.get(f"/api/runs/{made.json['id']}").json
    assert {cell["state"] for cell in sheet["cells"]} == {"waiting"}
    assert [s["version"] for s in sheet["siblings"]] == ["2.0.3", "2.1.0-rc1", "2.1.0-rc2"]


def test_a_job_done_twice_does_no_harm(client: FlaskClient, demo: str) -> None:
    before = query(demo, "SELECT id, verdict, why, ink FROM cell ORDER BY id")
    from kind_echo.bench.queue import analyse_cells, render_cells

    with transaction() as session:
        for number in (1, 2, 100):
            analyse_cells(session, [number])
            render_cells(session, "stand-in", 0, [number])
    drain()
    assert query(demo, "SELECT id, verdict, why, ink FROM cell ORDER BY id") == before
