"""Each fault that a check of fitness is to find is planted in a plug-in, and found; a clean one passes whole."""

import json
from pathlib import Path

import pytest

from kind_echo.core.registry.offer_documents import ParameterDocument
from kind_echo.renderers.plugins import fitness
from kind_echo.renderers.plugins.fitness import bypass_setting, check_fitness, end_settings, random_settings
from kind_echo.renderers.plugins.hosting import describe
from tests.conftest import kind_echo
from tests.renderers.plugins import FETCHED, STANDARDS, build_clap, needs_fetched

# The fault, and what else it breaks of itself.
FAULTS = {
    "blocks": {"blocks"}, "instances": {"instances"}, "input": {"input"}, "state": {"state"},
    "first block": {"first block"}, "decay": {"decay"}, "reset": {"reset"},
    "silence": {"silence", "falls silent"}, "falls silent": {"falls silent"}, "rates": {"rates"}, "ends": {"ends"},
    "random": {"random"}, "bypass": {"bypass"}, "loads": {"loads"}, "latency": {"latency", "bypass"}, "clean": set(),
}  # fmt: skip


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return build_clap(tmp_path_factory.mktemp("fitness"))


@pytest.mark.parametrize(("fault", "broken"), FAULTS.items())
def test_a_planted_fault_is_found_and_named(
    built: Path, fault: str, broken: set[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(fitness, "MOST_LOADING_SECONDS", 0.6)  # the slow one takes longer
    about = next(one for one in describe(built) if one.id == f"fault.{fault}")
    asked = None if fault == "clean" else {fault, "reset", "silence", "falls silent", "bypass"}
    checks = list(check_fitness(built, about, asked))
    assert {one.key for one in checks if one.passed is False} == broken, checks
    assert {one.key for one in checks} == (asked or set(FAULTS) - {"clean"})


@needs_fetched
@pytest.mark.parametrize("key", STANDARDS)
def test_a_real_plugin_is_fit_in_every_standard(key: str) -> None:
    path = FETCHED / "builds" / "lantern" / "1.0.0" / f"lantern.{key}"
    (about,) = describe(path)
    failed = {one.key: one.told for one in check_fitness(path, about) if one.passed is False}
    assert set(failed) == ({"state"} if key == "clap" else set())  # it keeps none there, which is a fault of it


def test_settings_reach_both_ends_and_are_the_same_each_time() -> None:
    parameters: list[ParameterDocument] = [
        {"name": "Drive", "least": 0.0, "greatest": 24.0}, {"name": "Mode", "choices": ["Off", "Soft", "Hard"]},
        {"name": "Bypass", "least": 0.0, "greatest": 1.0, "bypass": 1.0},
    ]  # fmt: skip
    ends = end_settings(parameters)
    assert ends["Drive at its greatest"] == {"Drive": 24.0}
    assert ends["Mode at its least"] == {"Mode": "Off"}
    drawn = random_settings(parameters)
    assert len(drawn) == 5
    assert drawn == random_settings(parameters)
    assert all(0 <= one["Drive"] <= 24 and one["Mode"] in ("Off", "Soft", "Hard") for one in drawn.values())
    assert all("Bypass" not in one for one in drawn.values())
    assert bypass_setting(parameters) == {"Bypass": 1.0}
    assert bypass_setting(parameters[:2]) is None


def test_the_command_line_says_pass_or_fail_and_ends_so(built: Path) -> None:
    clean = kind_echo("plugin", built, "--id", "fault.clean", "--fitness")
    assert clean.returncode == 0, clean.stderr
    assert "  pass  Bypassed, it changes no bit: every sample the same" in clean.stdout
    bad = kind_echo("plugin", built, "--id", "fault.bypass", "--fitness", "--json")
    assert bad.returncode == 1
    told = json.loads(bad.stdout)
    assert (told["passed"], [one["check"] for one in told["checks"] if one["passed"] is False]) == (False, ["bypass"])
    nobody = kind_echo("plugin", built, "--id", "nobody", "--fitness")
    assert (nobody.returncode, "the identifier of a plug-in in gain.clap" in nobody.stderr) == (2, True)
