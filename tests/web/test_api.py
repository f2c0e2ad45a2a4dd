"""The API: sheets, pairs, audio by range, decisions, and one shape for every error."""

import json
from datetime import date
from typing import Any

import numpy as np
import pytest
from flask.testing import FlaskClient
from openapi_spec_validator import validate
from ops.cluster import Cluster
from sqlalchemy import select

from kind_echo.bench.sheets import sheet_of
from kind_echo.database.migrate import migrate
from kind_echo.database.models import Cell, Run
from kind_echo.database.sessions import transaction
from kind_echo.web.app import create_app
from kind_echo.web.http.addresses import MapQuery, StripQuery
from kind_echo.web.runs.schemas import CellBody
from kind_echo.web.runs.sheet_views import cell_json
from tests.conftest import drain, point_at
from tests.signing import sign


def _get(client: FlaskClient, path: str) -> Any:
    answer = client.get(path)
    assert answer.status_code == 200, answer.text
    return answer.json


def _failing(client: FlaskClient, version: str = "2.1.0-rc2") -> list[dict[str, Any]]:
    run = next(r for r in _get(client, "/api/runs")["runs"] if r["build"]["version"] == version)
    cells = _get(client, f"/api/runs/{run['id']}")["cells"]
    return [c for c in cells if c["verdict"] == "Fail" and not c["unfit"]]


def test_the_document_is_valid_openapi(blank: FlaskClient) -> None:
    """OpenAPI Specification 3.1, by the public validator."""
    validate(_get(blank, "/api/openapi.json"))


def test_runs_come_a_page_at_a_time_and_of_one_effect_if_asked(looking: FlaskClient) -> None:
    everything = _get(looking, "/api/runs")
    assert everything["effects"] == sorted({run["effect"] for run in everything["runs"]})
    for effect in (None, everything["effects"][0]):
        wanted = [run["id"] for run in everything["runs"] if effect in (None, run["effect"])]
        found: list[int] = []
        older = True
        while older:
            asked = {"most": 2} | ({"effect": effect} if effect else {}) | ({"before": found[-1]} if found else {})
            page: Any = looking.get("/api/runs", query_string=asked).json
            found += [run["id"] for run in page["runs"]]
            older = page["older"]
        assert found == wanted
    assert looking.get("/api/runs?most=0").status_code == 422


def test_runs_and_sheet_count_the_same(looking: FlaskClient) -> None:
    runs = [r for r in _get(looking, "/api/runs")["runs"] if r["plan"] == "Null regression"]
    assert [r["build"]["version"] for r in runs] == ["2.1.0-rc2", "2.1.0-rc1", "2.0.3"]
    sheet = _get(looking, f"/api/runs/{runs[0]['id']}")
    assert sheet["run"]["verdicts"] == runs[0]["verdicts"]
    assert (len(sheet["cases"]), len(sheet["conditions"]), len(sheet["cells"])) == (6, 12, 72)
    assert sum(len(finding["cells"]) for finding in sheet["findings"]) == runs[0]["verdicts"]["failed"]
    assert sum(cell["needs_you"] for cell in sheet["cells"]) == runs[0]["needs_you"] == 6
    assert sheet["before"]["version"] == "2.1.0-rc1"


def test_cells_are_written_as_the_document_of_the_api_says(looking: FlaskClient) -> None:
    """Those of a large sheet are written past the model that the document is made of."""
    with transaction() as session:
        for run in session.scalars(select(Run)):
            for cell in sheet_of(session, run, date(2026, 12, 1), "rms").cells:
                assert json.loads(cell_json(cell)) == json.loads(CellBody.model_validate(cell).model_dump_json())


def test_a_pair_gives_its_sides_readings_and_limits(looking: FlaskClient) -> None:
    cell = _failing(looking)[0]
    pair = _get(looking, f"/api/cells/{cell['id']}")
    assert pair["cell"]["reference_version"] == "2.0.3"
    residual = next(r for r in pair["readings"] if r["measure"] == "residual_rms" and r["channel"] == "all")
    assert residual["judgement"] == "broken"
    assert residual["limit"]["at_most"] == -120
    assert residual["value"] == pytest.approx(cell["value"])


def test_audio_by_range_is_the_difference_of_its_sides(looking: FlaskClient) -> None:
    pair = _get(looking, f"/api/cells/{_failing(looking)[0]['id']}")

    def samples(side: str) -> Any:
        address = pair[side]["address"]
        data = looking.get(f"/api/audio/{address}/samples?start=20000&stop=20064").data
        return np.frombuffer(data, "<f4").astype(float)

    np.testing.assert_allclose(samples("render") - samples("reference"), samples("difference"), atol=2e-7)
    strip = _get(looking, f"/api/audio/{pair['render']['address']}/waveform?start=0&stop=80000&columns=100")
    assert len(strip["low"][0]) == 100
    assert min(strip["low"][0]) < 0 < max(strip["high"][0])
    close = _get(looking, f"/api/audio/{pair['render']['address']}/waveform?start=20000&stop=20016&columns=800")
    np.testing.assert_allclose(close["samples"][0], samples("render")[:16], atol=1e-7)
    np.testing.assert_allclose(close["curve"][0][:: close["curve_points"]], close["samples"][0], atol=1e-3)
    spectrum = _get(looking, f"/api/audio/{pair['render']['address']}/spectrum?start=8000&stop=80000")
    loudest = spectrum["frequencies"][int(np.argmax(spectrum["levels"]))]
    assert loudest == pytest.approx(997, rel=0.01)


def test_approving_and_undoing_through_the_api(client: FlaskClient) -> None:
    ids = [cell["id"] for cell in _failing(client)]
    made = client.post("/api/decisions", json={"cell_ids": ids, "kind": "reference", "why": "meant"})
    assert (made.status_code, made.json["cells"]) == (201, len(ids))
    drain()
    assert _failing(client) == []
    act = _get(client, "/api/acts/latest")["act"]
    other = sign(client.application.test_client(), "Ivo K.")
    assert other.post(f"/api/acts/{act['id']}/undo", json={}).status_code == 200
    again = client.post(f"/api/acts/{act['id']}/undo", json={})
    assert (again.status_code, again.json["detail"]) == (409, "It was not undone: Ivo K. has undone it already.")
    drain()
    assert len(_failing(client)) == len(ids)
    references = _get(client, "/api/references")["references"]
    history = _get(client, f"/api/references/{references[0]['id']}/history")["references"]
    assert history[-1]["approved_by"] == "Demo bench"


@pytest.mark.parametrize(
    ("method", "path", "body", "status", "words"),
    [
        ("get", "/api/runs/999", None, 404, "There is no run 999."),
        ("get", "/api/runs/1?measure=hum", None, 400, "There is no measure named 'hum'."),
        ("post", "/api/runs/999/change", {"change": "stop"}, 404, "There is no run 999."),
        ("post", "/api/renders", {"cell_ids": [999999]}, 404, "There is no cell 999999."),
        ("get", "/api/cells/999999", None, 404, "There is no cell 999999."),
        ("get", "/api/nothing", None, 404, "There is nothing at /api/nothing."),
        ("get", "/api/audio/feed/samples?start=0&stop=4", None, 404, "There is no audio feed in the database."),
        ("post", "/api/runs", {"plan_id": 1, "build_id": 999}, 404, "There is no build 999"),
        ("post", "/api/runs", {"plan_id": 1, "build_id": 1, "who": "N"}, 422, "who: Extra inputs are not permitted"),
        (
            "post",
            "/api/decisions",
            {"cell_ids": [], "kind": "fault"},
            422,
            "cell_ids: List should have at least 1",
        ),
        ("post", "/api/comparisons", {"reference_id": 998, "render_id": 999}, 404, "There is no uploaded file 998."),
        ("get", "/api/runs/999/kit", None, 404, "There is no run 999."),
        ("get", "/api/runs/1/kit.zip", None, 404, "Run 1 has no cell whose host is rendered in by hand."),
        ("post", "/api/kit-files/9/assign", {"cell_id": 1}, 404, "There is no returned file 9."),
        ("post", "/api/effects", {"name": "Nothing"}, 404, "No machine that was seen lately has an effect named"),
        ("post", "/api/hosts", {"name": "Dunlin", "version": "5", "modes": ["offline"]}, 409, "The host Dunlin 5"),
        ("post", "/api/signals", {"name": "x", "request": {"kind": "hum"}}, 422, "kind=hum is invalid"),
        (
            "post",
            "/api/signals",
            {"name": "x", "request": {"kind": "clicks", "frequency": float("nan")}},
            422,
            "request.frequency.float: Input should be a finite number",
        ),
    ],
)
def test_an_error_is_a_problem_document_with_a_sentence(
    looking: FlaskClient, method: str, path: str, body: object, status: int, words: str
) -> None:
    """RFC 9457: media type, status and detail."""
    answer = looking.open(path, method=method.upper(), json=body) if body else looking.get(path)
    assert answer.content_type == "application/problem+json"
    assert answer.json is not None
    assert (answer.status_code, answer.json["status"]) == (status, status)
    assert answer.json["detail"].startswith(words)


def test_an_absent_database_is_a_problem_and_passes(own_cluster: Cluster) -> None:
    point_at(own_cluster.url)
    migrate()
    client = sign(create_app().test_client())
    port = int((own_cluster.folder / "port").read_text())
    own_cluster.stop("immediate")
    gone = client.get("/api/runs")
    assert client.get("/healthz").status_code == 200
    assert client.get("/readyz").status_code == 503
    own_cluster.start(port)
    assert client.get("/readyz").status_code == 200
    assert (gone.status_code, gone.json["title"]) == (503, "DatabaseUnavailable")
    assert client.get("/api/runs").status_code == 200


def test_a_reader_who_comes_back_is_sent_the_cells_that_changed(client: FlaskClient) -> None:
    run = client.get("/api/runs").get_json()["runs"][0]["id"]
    whole = client.get(f"/api/runs/{run}").get_json()
    assert whole["since"] is None
    same = client.get(f"/api/runs/{run}?since={whole['version']}").get_json()
    assert (same["version"], same["since"], same["cells"]) == (whole["version"], whole["version"], [])
    number = whole["cells"][0]["id"]
    with transaction() as session:
        cell = session.get_one(Cell, number)
        cell.why = "Something else"
    now = client.get(f"/api/runs/{run}?since={whole['version']}").get_json()
    assert [cell["id"] for cell in now["cells"]] == [number]
    again = client.get(f"/api/runs/{run}").get_json()
    held = {cell["id"]: cell for cell in whole["cells"]} | {cell["id"]: cell for cell in now["cells"]}
    assert list(held.values()) == again["cells"]
    assert {**now, "cells": 0, "since": 0} == {**again, "cells": 0, "since": 0}
    assert len(client.get(f"/api/runs/{run}?since=unknown").get_json()["cells"]) == len(whole["cells"])


def test_runs_are_found_by_words_and_say_what_changed_since_the_run_before(looking: FlaskClient) -> None:
    found = _get(looking, "/api/runs?text=null+rc2")
    assert {(run["plan"], run["build"]["version"]) for run in found["runs"]} == {("Null regression", "2.1.0-rc2")}
    assert _get(looking, "/api/runs?text=100%25")["runs"] == []
    (run,) = found["runs"]
    earlier = _get(looking, f"/api/runs/{run['since']['run_id']}")
    assert earlier["run"]["build"]["version"] == run["since"]["version"] == "2.1.0-rc1"
    now, then = run["verdicts"]["failed"], earlier["run"]["verdicts"]["failed"]
    assert run["since"]["more"]["failed"] == now - then != 0


def test_cells_have_pictures_that_are_as_high_as_their_residual(looking: FlaskClient) -> None:
    run = _get(looking, "/api/runs?text=null+rc2")["runs"][0]["id"]
    levels = _get(looking, f"/api/runs/{run}/pictures")["levels"]
    cell, heights = next(iter(levels.items()))
    readings = _get(looking, f"/api/cells/{cell}")["readings"]
    peak = next(r["value"] for r in readings if (r["measure"], r["channel"]) == ("residual_peak", "all"))
    assert max(heights) == pytest.approx(peak, abs=0.06)
    assert len(heights) == 32


def test_the_signal_that_went_in_is_a_side_of_its_own(looking: FlaskClient) -> None:
    run = _get(looking, "/api/runs?text=null+rc2")["runs"][0]["id"]
    cell = _get(looking, f"/api/runs/{run}")["cells"][0]["id"]
    pair = _get(looking, f"/api/cells/{cell}")
    address = pair["signal"]["address"]
    sent = looking.get(f"/api/audio/{address}/samples?start=0&stop=48000")
    samples = np.frombuffer(sent.data, "<f4")
    assert samples.shape == (48_000,)
    assert 0.1 < np.abs(samples).max() <= 1.0
    strip = _get(looking, f"/api/audio/{address}/waveform?start=0&stop=48000&columns=10")
    assert max(strip["high"][0]) == pytest.approx(samples.max())
    for wrong in ("0.signal", "x.signal", f"{10**30}.signal", "²2.signal"):
        assert looking.get(f"/api/audio/{wrong}/samples?start=0&stop=10").status_code == 404, wrong


def test_a_level_map_is_bounded_and_covers_what_is_asked(looking: FlaskClient) -> None:
    run = _get(looking, "/api/runs?text=null+rc2")["runs"][0]["id"]
    cell = _get(looking, f"/api/runs/{run}")["cells"][0]["id"]
    address = _get(looking, f"/api/cells/{cell}")["render"]["address"]
    found = _get(looking, f"/api/audio/{address}/map?start=100&stop=9000&columns=40&rows=30")
    assert (len(found["levels"]), len(found["levels"][0]), found["share"]) == (40, 30, 1.0)
    for query in (
        "start=0&stop=10&columns=99999&rows=3",
        "start=0&stop=0&columns=4&rows=3",
        "start=5&stop=2&columns=4&rows=3",
    ):
        assert looking.get(f"/api/audio/{address}/map?{query}").status_code in (400, 422)


def test_a_schema_that_its_reader_changes_is_whole_for_the_next() -> None:
    first = StripQuery.model_json_schema()
    whole = dict(first["properties"])
    first["properties"].clear()
    assert StripQuery.model_json_schema()["properties"] == whole == StripQuery.made_schema()["properties"]
    assert StripQuery.model_json_schema(mode="serialization")["properties"].keys() == whole.keys()
    assert MapQuery.model_json_schema()["properties"].keys() == whole.keys() | {"rows", "even", "quick"}


def test_a_sheet_that_has_not_changed_is_not_sent_again(looking: FlaskClient) -> None:
    run = _get(looking, "/api/runs?text=null+rc2")["runs"][0]["id"]
    first = looking.get(f"/api/runs/{run}")
    again = looking.get(f"/api/runs/{run}", headers={"If-None-Match": first.headers["ETag"]})
    assert (again.status_code, again.data) == (304, b"")
    since = looking.get(f"/api/runs/{run}?since={first.json['version']}")
    assert since.json["cells"] == []
    assert since.headers["ETag"] != first.headers["ETag"]
    other = looking.get(f"/api/runs/{run}?measure=gain", headers={"If-None-Match": first.headers["ETag"]})
    assert other.status_code == 200
