"""Code from outside: the example adds a measure, a kind of signal and a renderer, in processes that import it."""

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import PROJECT


def _run(*words: object, extension: str = "extension") -> "subprocess.CompletedProcess[str]":
    given = os.environ | {"KIND_ECHO_EXTENSIONS": extension, "PYTHONPATH": str(PROJECT / "examples")}
    return subprocess.run(
        [sys.executable, "-c", "from kind_echo.cli.main import main; main()", *map(str, words)],
        capture_output=True, text=True, check=False, env=given,
    )  # fmt: skip


@pytest.fixture(scope="module")
def square(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("extending") / "square.wav"
    made = _run("signal", "square", path, "--frequency", 500, "--seconds", 2, "--level", -12)
    assert made.returncode == 0, made.stderr
    return path


def test_a_kind_and_a_measure_from_outside_are_as_those_from_inside(square: Path) -> None:
    """500 periods a second cross zero 1,000 times: each edge but the first. Peak and RMS of a square are one."""
    measured = _run("measure", square, "--json")
    assert measured.returncode == 0, measured.stderr
    readings = {
        one["measure"]: one["value"] for one in json.loads(measured.stdout)["readings"] if one["channel"] == "all"
    }
    assert readings["zero_crossings"] == pytest.approx(999.5)
    assert readings["crest_factor"] == pytest.approx(0.0, abs=0.01)
    assert "Zero crossings" in _run("measure", square).stdout


def test_without_the_extension_nothing_of_it_is_there(square: Path) -> None:
    assert _run("signal", "square", square, extension="").returncode == 2
    assert "zero_crossings" not in _run("measure", square, "--json", extension="").stdout


_ASKED = """
import extension
from kind_echo.core.registry.versions import versions_of
from kind_echo.core.signals import all_kinds, make_request, synthesise
from kind_echo.renderers.contract import RenderRequest
from kind_echo.renderers.machine import offers
signal = synthesise(make_request("square", seconds=0.1), 48000)
asked = RenderRequest("Inverter", "1.0", {}, "Inside", "1", "offline", 48000, 512, signal)
assert (offers()["inverter"].renderer.render(asked).samples == -signal).all()
assert "zero_crossings 1" in versions_of(["levels"]) and "zero_crossings 1" not in versions_of(["tone"])
assert list(all_kinds()["square"].form()) == ["frequency", "level", "seconds", "lead_in", "tail", "placement"]
"""


def test_a_renderer_from_outside_is_offered_and_kept_results_hang_on_the_measure() -> None:
    given = os.environ | {"PYTHONPATH": str(PROJECT / "examples")}
    done = subprocess.run([sys.executable, "-c", _ASKED], capture_output=True, text=True, check=False, env=given)
    assert done.returncode == 0, done.stderr


@pytest.mark.parametrize(("name", "told"), [("none_such", "No module named"), ("extension,extension2", "extension2")])
def test_an_extension_that_cannot_be_imported_is_said(name: str, told: str, square: Path) -> None:
    refused: Any = _run("measure", square, extension=name)
    assert refused.returncode == 2
    assert told in refused.stderr
    assert "Traceback" not in refused.stderr
