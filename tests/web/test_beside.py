"""One cell beside another: looking asks for the comparison once, and a worker makes it."""

from typing import Any

from flask.testing import FlaskClient

from tests.conftest import drain, query


def _cells_of(client: FlaskClient, version: str) -> list[dict[str, Any]]:
    runs: Any = client.get("/api/runs").json
    run = next(r for r in runs["runs"] if (r["build"]["version"], r["plan"]) == (version, "Null regression"))
    sheet: Any = client.get(f"/api/runs/{run['id']}").json
    return [cell for cell in sheet["cells"] if not cell["unfit"]]


def test_a_pair_that_nobody_has_compared_is_compared_by_a_worker_and_once(client: FlaskClient, demo: str) -> None:
    one, other = (_cells_of(client, version)[0] for version in ("2.1.0-rc2", "2.1.0-rc1"))
    address = f"/api/cells/{one['id']}?beside={other['id']}"
    waits: list[Any] = [client.get(address).json for _ in range(3)]
    assert [pair["state"] for pair in waits] == ["analysing"] * 3
    assert waits[0]["why"].startswith("Beside ")
    assert query(demo, "SELECT count(*) FROM procrastinate_jobs WHERE task_name = 'compare_cells'") == [(1,)]
    drain(["analysis"])
    pair: Any = client.get(address).json
    assert pair["state"] == "done"
    assert pair["causes"][0]["cause"] == "delay"
    assert query(demo, "SELECT count(*) FROM procrastinate_jobs WHERE status = 'todo'") == [(0,)]


def test_sides_of_two_rates_cannot_be_compared_and_no_job_tries(client: FlaskClient, demo: str) -> None:
    cells = _cells_of(client, "2.1.0-rc2")
    refused = {client.get(f"/api/cells/{cells[0]['id']}?beside={cell['id']}").status_code for cell in cells}
    assert refused == {200, 422}
    tried = query(demo, "SELECT count(*) FROM procrastinate_jobs WHERE task_name = 'compare_cells'")
    assert 0 < int(str(tried[0][0])) < len(cells)
