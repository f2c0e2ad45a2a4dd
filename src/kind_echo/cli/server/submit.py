"""The command of build servers: tell a server of a build, run a plan on it there, and wait for the verdicts."""

import hashlib
import json
import shlex
import signal
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from types import FrameType, SimpleNamespace

import click

from kind_echo.cli.exits import LimitBroken, TimeOut
from kind_echo.cli.server.artefacts import plugin_options, send_artefact
from kind_echo.cli.server.outputs import Outputs, run_outputs
from kind_echo.cli.server.sheet import Sheet, SheetCell
from kind_echo.cli.server.waiting import TIMEOUT
from kind_echo.cli.server.watching import RunThere
from kind_echo.cli.workers.http import SERVER_VARIABLE, Server, read_token
from kind_echo.core.registry.errors import BadParameter
from kind_echo.renderers.plugins.standards import is_plugin
from kind_echo.wording.conditions import whole_condition_text
from kind_echo.wording.outcomes import Outcome, outcome_of_cell

_BLOCK = 1 << 20


@click.command("submit")
@click.argument("effect")
@click.argument("plan")
@click.argument("version", metavar="BUILD")
@click.option("--server", envvar=SERVER_VARIABLE, required=True, metavar="ADDRESS",
              help=f"Where the page is; {SERVER_VARIABLE} unless given.")  # fmt: skip
@click.option("--note", default="", help="What the build is, if the server does not know it yet.")
@click.option("--everything", is_flag=True, help="Render all cells; else only what changed since earlier runs.")
@click.option("--artefact", default="", metavar="FILE|TEXT",
              help="What the build is made of: a file or a word. Submitted again, it joins its run. A plug-in is "
              "uploaded, for machines that run such: that needs a token to upload.")  # fmt: skip
@plugin_options
@click.option("--against", default="", metavar="BUILD", help="Compare with another build, not with references.")
@click.option("--run", "number", type=click.IntRange(1), metavar="NUMBER", help="Go on waiting for a run.")
@click.option("--no-wait", is_flag=True, help="Leave once it is enqueued.")
@TIMEOUT
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
@run_outputs
def submit_command(
    effect: str, plan: str, version: str, server: str, note: str, everything: bool, artefact: str, system: str,
    signature: Path | None, against: str,
    number: int | None, no_wait: bool, timeout: float | None, as_json: bool, outputs: Outputs,
) -> None:  # fmt: skip
    """Run PLAN of EFFECT on BUILD on a server; exits with 1 unless every cell passes or is decided on.

    It ends when all that machines can render is rendered and judged: what then needs a person is told, and exits with 1
    too. A run that is under way on the same build is joined. Needs a token to submit, in KIND_ECHO_TOKEN or in the file
    that KIND_ECHO_TOKEN_FILE names.
    """
    if against == version:
        raise BadParameter("against", against, f"another build than {version}")
    for name, path in (("evidence", outputs.evidence), ("report", outputs.report), ("plots", outputs.plots)):
        if against and path is not None:
            raise BadParameter(name, str(path), "without --against: it is of a run and its references")
    there = Server(server, read_token())
    run = RunThere(there, effect, plan, timeout)
    if number is not None:
        run.go_on_with(number, version)
    else:
        build_id = run.tell_of_build(version, note)
        if is_plugin(Path(artefact)):
            made_of = send_artefact(there, build_id, Path(artefact), system, signature)
        else:
            made_of = _made_of(artefact)
        run.start(build_id, everything=everything, artefact=made_of)
    if no_wait:
        told: dict[str, object] = {"verdicts": None, "need_somebody": 0, "needs": [], "cells": None}
        click.echo(_told(run, told) if as_json else f"{'Joined' if run.joined else 'Enqueued'}: {run.address}")
        return
    with _says_how_to_go_on(run, shlex.join(["kind-echo", "submit", effect, plan, version, "--run"])):
        progress = run.wait()
        if against:
            run.lay_over(against)
    sheet = run.sheet
    assert sheet is not None
    needs = progress.needs(f"{effect} {version}")
    outcomes = _outcomes(sheet, there.address)
    waiting = sum(bool(cell["needs_you"]) for cell in sheet["cells"]) + progress.held_up
    over = f"{plan} on {effect} {version}{f' against {against}' if against else ''}"
    outputs.write(outcomes, over, run.address)
    if outputs.evidence is not None:
        audio = "all" if outputs.all_audio else "trouble"
        run.save(f"/api/runs/{run.number}/evidence.zip?audio={audio}", outputs.evidence)
    if outputs.report is not None:
        run.save(f"/api/reports/runs/{run.number}{outputs.report.suffix.lower()}", outputs.report)
    if outputs.plots is not None:
        run.save_all(f"/api/reports/runs/{run.number}/plots.zip", outputs.plots)
    if as_json:
        told = {"verdicts": _counted(sheet), "need_somebody": waiting, "needs": needs}
        click.echo(
            _told(run, told | {"cells": [_cell_told(*both) for both in zip(sheet["cells"], outcomes, strict=True)]})
        )
    else:
        _print_findings(sheet)
        click.echo("\n".join([*needs, f"{waiting} of {len(sheet['cells'])} cells need somebody: {run.address}"]))
    if outputs.fails(outcomes) or outputs.holds_up(progress):
        raise LimitBroken


def _made_of(artefact: str) -> str:
    """What a build is made of: the digest of a file, or the word that was given."""
    path = Path(artefact)
    if not artefact or not path.is_file():
        return artefact
    with path.open("rb") as file:
        return f"sha256:{hashlib.file_digest(file, 'sha256').hexdigest()}"


@contextmanager
def _says_how_to_go_on(run: RunThere, command: str) -> Iterator[None]:
    """Where the waiting ends before the run does, say that the run goes on, and how to wait for it again."""

    def stop(number: int, frame: FrameType | None) -> None:
        raise KeyboardInterrupt

    before = signal.signal(signal.SIGTERM, stop)
    try:
        yield
    except (KeyboardInterrupt, TimeOut):
        click.echo(f"The run goes on: {run.address}\nTo wait for it again: {command} {run.number}", err=True)
        raise
    finally:
        signal.signal(signal.SIGTERM, before)


def _told(run: RunThere, rest: dict[str, object]) -> str:
    said = {"command": "submit", "run": run.number, "address": run.address, "joined": run.joined}
    return json.dumps(said | rest)


def _counted(sheet: Sheet) -> dict[str, int]:
    """Cells by verdict, as the sheet shows them: against another build they are not those of the run."""
    names = {key: key.replace("_", " ").capitalize() for key in sheet["run"]["verdicts"]}
    names |= {"passed": "Pass", "failed": "Fail"}
    return {key: sum(cell["verdict"] == name for cell in sheet["cells"]) for key, name in names.items()}


def _cell_told(cell: SheetCell, outcome: Outcome) -> dict[str, object]:
    """A cell as JSON for build servers."""
    return {
        "cell": cell["id"], "case": outcome.suite, "condition": outcome.name, "verdict": cell["verdict"],
        "status": outcome.status, "why": outcome.message, "needs_somebody": cell["needs_you"],
        "told": list(outcome.lines),
    }  # fmt: skip


def _outcomes(sheet: Sheet, address: str) -> list[Outcome]:
    """Each cell of a sheet, with the headline of the finding that it is of."""
    cases = {one["id"]: f"{one['signal']}, {one['setting']}" for one in sheet["cases"]}
    conditions = {
        one["id"]: whole_condition_text(SimpleNamespace(**{"hosting": "", **one})) for one in sheet["conditions"]
    }
    headlines = {cell: one["headline"] for one in sheet["findings"] for cell in one["cells"]}
    return [
        outcome_of_cell(
            cases[cell["case_id"]], conditions[cell["condition_id"]], cell["verdict"], cell["why"], _decision(cell),
            cell["ink"],
            [*([headlines[cell["id"]]] if cell["id"] in headlines else []), f"{address}/cells/{cell['id']}"],
        )
        for cell in sheet["cells"]
    ]  # fmt: skip


def _decision(cell: SheetCell) -> str | None:
    """What was decided on a cell and holds, in words."""
    decision = cell["decision"]
    if decision is None or not decision["holds"]:
        return None
    until = f" until {decision['until']}" if decision["until"] else ""
    return f"{decision['kind']}{until} by {decision['who']}{f': {why}' if (why := decision['why']) else ''}"


def _print_findings(sheet: Sheet) -> None:
    for finding in sheet["findings"]:
        cells = len(finding["cells"])
        what = "1 cell" if cells == 1 else f"{cells} cells"
        click.echo(f"{finding['headline']}: {what}, {finding['where']}; {finding['undecided']} undecided")
