"""What the pair page shows beside the null: the account of a difference, and the curves that a signal measures."""

from typing import Any

import pytest
from flask.testing import FlaskClient


def _cells(looking: FlaskClient, version: str, signal: str) -> list[dict[str, Any]]:
    runs = looking.get("/api/runs").json["runs"]
    run = next(r for r in runs if r["build"]["version"] == version)
    sheet: Any = looking.get(f"/api/runs/{run['id']}").json
    cases = {c["id"] for c in sheet["cases"] if c["signal"] == signal}
    return [c for c in sheet["cells"] if c["case_id"] in cases and not c["unfit"]]


def _pair(looking: FlaskClient, cell: dict[str, Any]) -> Any:
    return looking.get(f"/api/cells/{cell['id']}").json


def _values(pair: Any) -> dict[str, Any]:
    return {r["measure"]: r["value"] for r in pair["readings"] if r["channel"] == "all"}


def test_one_sample_late_and_a_little_loud_is_said_in_words(looking: FlaskClient) -> None:
    pair = _pair(looking, _cells(looking, "2.1.0-rc1", "Sine sweep")[0])
    assert pair["explanation"] == "1 sample late, 0.07 dB up"
    found = _values(pair)
    assert found["account_raw"] > found["account_delay"] > found["account_gain"] + 60
    assert found["gain_1k"] == pytest.approx(4.2, abs=0.5)


def test_a_sweep_gives_the_responses_of_both_sides_and_a_tone_its_lines(looking: FlaskClient) -> None:
    sweep = _pair(looking, _cells(looking, "2.1.0-rc1", "Sine sweep")[0])
    drawn = {(curve["name"], curve["side"]) for curve in sweep["curves"]}
    assert {("magnitude", "render"), ("magnitude", "reference"), ("residual_bands", "difference")} <= drawn
    assert {("momentary", "render"), ("phase", "reference")} <= drawn
    tones = [c for c in _cells(looking, "2.1.0-rc2", "Steady tone 997 Hz") if c["verdict"] == "Fail"]
    tone = _pair(looking, tones[0])
    assert ("aliases", "render") in {(curve["name"], curve["side"]) for curve in tone["curves"]}
    found = _values(tone)
    assert found["alias_worst_level"] > -60
    assert found["fundamental_frequency"] == pytest.approx(997, abs=0.001)
    assert found["render_factor"] > 0


def test_every_curve_is_numbers_of_one_length(looking: FlaskClient) -> None:
    pair = _pair(looking, _cells(looking, "2.1.0-rc2", "Bell buoy strikes")[0])
    for curve in pair["curves"]:
        assert len(curve["x"]) == len(curve["y"]) <= 2001
        assert all(isinstance(value, float | int) for value in curve["y"])
