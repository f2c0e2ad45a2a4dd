"""A command that waits for a run ends when machines have done what they can, and says what people have to do."""

import subprocess
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor, wait
from datetime import UTC, datetime
from pathlib import Path

import pytest
from junitparser import JUnitXml
from sqlalchemy import select

from kind_echo.bench.machines import add_build, add_effect, hosts_for
from kind_echo.bench.plans import plan_from, save_plan
from kind_echo.cli.exits import TimeOut
from kind_echo.cli.server.outputs import Outputs
from kind_echo.cli.server.waiting import Progress, wait_for
from kind_echo.database.models import Effect, Reference
from kind_echo.database.sessions import URL_VARIABLE, transaction
from kind_echo.renderers.contract import OfferedEffect
from tests.conftest import drain, kind_echo

NOW = datetime(2026, 5, 4, 12, tzinfo=UTC)


def run(url: str, *words: str) -> subprocess.CompletedProcess[str]:
    return kind_echo("run", *words, **{URL_VARIABLE: url})  # type: ignore[arg-type]


def run_beside_a_worker(url: str, *words: str) -> subprocess.CompletedProcess[str]:
    with ThreadPoolExecutor(1) as beside:
        done = beside.submit(run, url, *words)
        while not done.done():
            drain()
            wait([done], timeout=0.5)
        return done.result()


def test_waiting_ends_when_only_people_can_bring_it_on() -> None:
    steps: Iterator[Progress] = iter(
        [Progress(10, 3), Progress(10, 6, 2, {"Almanac 7": 1}), Progress(10, 7, 2, {"A": 1})]
    )
    over = wait_for(lambda: next(steps), 0.0, None)
    assert (over.finished, over.held_up) == (7, 3)
    assert over.needs("Skerry 3") == [
        "2 cells are rendered by hand: bring the files of its render kit back.",
        "1 cell is in A: no known machine has Skerry 3 there.",
    ]
    assert Progress(4, 4).needs("Skerry 3") == []
    assert "stopped by Nora F." in Progress(4, 1, stopped_by="Nora F.").needs("Skerry 3")[0]


def test_a_run_that_was_stopped_fails_whatever_fails_otherwise() -> None:
    lenient = Outputs(None, None, ("fail",))
    assert lenient.holds_up(Progress(4, 1, stopped_by="Nora F."))
    assert not lenient.holds_up(Progress(4, 1, for_kit=3))
    assert Outputs(None, None, ("fail", "waiting")).holds_up(Progress(4, 1, for_kit=3))


def test_waiting_gives_up_after_its_time() -> None:
    with pytest.raises(TimeOut, match="5 of 8 cells are not finished after 0 s; the run goes on"):
        wait_for(lambda: Progress(8, 3), 0.01, 0.0)


def test_a_new_effect_is_rendered_told_that_it_has_no_reference_and_the_command_returns(
    demo: str, tmp_path: Path
) -> None:
    """Nothing is approved: the run is finished all the same. Measures that need no reference are judged without one."""
    with transaction() as session:
        effect = session.scalars(select(Effect).where(Effect.name == "Plumb")).one()
        for key in ("null", "transfer"):
            plan = plan_from(session, key, "Plumb").model_copy(update={"plan": f"New {key}"})
            one = plan.conditions[0].model_copy(update={"rates": [48_000], "modes": ["offline"]})
            save_plan(session, plan.model_copy(update={"conditions": [one]}), who="Nora F.", now=NOW)
        for reference in session.scalars(select(Reference).where(Reference.effect_id == effect.id)):
            reference.retired_at = NOW
    null = run_beside_a_worker(demo, "New null", "1.0", "--timeout", "60")
    assert null.returncode == 1
    assert "No reference is approved yet" in null.stdout
    files = {"--junit": "junit.xml", "--summary": "summary.md", "--report": "report.html", "--plots": "plots"}
    outputs = [word for option, name in files.items() for word in (option, str(tmp_path / name))]
    outputs += ["--fail-on", "fail"]
    again = run_beside_a_worker(demo, "New null", "1.0", "--timeout", "60", *outputs)
    assert again.returncode == 0, again.stderr
    suites = JUnitXml.fromfile(str(tmp_path / "junit.xml"))
    assert (sum(suite.skipped for suite in suites), suites.failures) == (suites.tests, 0)
    assert "No reference yet" in (tmp_path / "report.html").read_text()
    # Of what was compared with nothing there is what was measured beside its signal to draw, and no pair.
    assert all(path.name.endswith(".measured.svg") for path in (tmp_path / "plots").iterdir())
    assert "waiting | No reference is approved yet" in (tmp_path / "summary.md").read_text()
    transfer = run_beside_a_worker(demo, "New transfer", "1.0", "--timeout", "60")
    assert transfer.returncode == 0, transfer.stdout + transfer.stderr
    assert "Pass" in transfer.stdout


def test_a_run_that_nobody_renders_ends_with_3_when_its_time_is_over(demo: str) -> None:
    late = run(demo, "Null regression", "2.1.0-rc2", "--everything", "--timeout", "1", "--json")
    assert late.returncode == 3
    assert "not finished after 1 s; the run goes on" in late.stderr
    assert '"error"' in late.stdout


def test_a_build_that_no_known_machine_has_is_told_and_not_waited_for(demo: str) -> None:
    with transaction() as session:
        add_build(session, "Skerry", "9.9", "", who="Nora F.", now=NOW)
    done = run(demo, "Null regression", "9.9")
    assert done.returncode == 1
    assert "no known machine has Skerry 9.9 there" in done.stdout


def test_templates_choose_hosts_in_which_a_known_machine_has_the_effect(demo: str) -> None:
    with transaction() as session:
        add_effect(session, OfferedEffect("Elsewhere", "urn:elsewhere", "", (), ("1",)))
        effects = {
            name: session.scalars(select(Effect).where(Effect.name == name)).one() for name in ("Skerry", "Elsewhere")
        }
        skerry = {host.renderer for host in hosts_for(session, effects["Skerry"])}
        nowhere = {host.renderer for host in hosts_for(session, effects["Elsewhere"])}
    assert skerry == {"stand-in"}
    assert nowhere == {"by hand"}  # people can, with a kit
