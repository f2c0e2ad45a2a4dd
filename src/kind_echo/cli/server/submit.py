"""The command of build servers: tell a server of a build, run a plan on it there, and wait for the verdicts."""

import json
import time
from types import SimpleNamespace
from typing import Any
from urllib.parse import urlencode

import click

from kind_echo.checks.outcome import Outcome
from kind_echo.cli.exits import LimitBroken, NoAnswer
from kind_echo.cli.server.outputs import Outputs, outcome_of_cell, run_outputs
from kind_echo.cli.server.waiting import TIMEOUT, Progress, wait_for
from kind_echo.cli.workers.http import SERVER_VARIABLE, Server, read_token
from kind_echo.wording.conditions import whole_condition_text

_POLL_SECONDS = 1.0
_PATIENCE_SECONDS = 300.0  # for which a server that does not answer is asked again


@click.command("submit")
@click.argument("effect")
@click.argument("plan")
@click.argument("version", metavar="BUILD")
@click.option("--server", envvar=SERVER_VARIABLE, required=True, metavar="ADDRESS",
              help=f"Where the page is; {SERVER_VARIABLE} unless given.")  # fmt: skip
@click.option("--note", default="", help="What the build is, if the server does not know it yet.")
@click.option("--everything", is_flag=True, help="Render all cells; else only what changed since earlier runs.")
@click.option("--no-wait", is_flag=True, help="Leave once it is enqueued.")
@TIMEOUT
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
@run_outputs
def submit_command(
    effect: str, plan: str, version: str, server: str, note: str, everything: bool, no_wait: bool,
    timeout: float | None, as_json: bool, outputs: Outputs,
) -> None:  # fmt: skip
    """Run PLAN of EFFECT on BUILD on a server; exits with 1 unless every cell passes or is decided on.

    It ends when all that machines can render is rendered and judged: what then needs a person is told, and exits with 1
    too. Needs a token to submit, in KIND_ECHO_TOKEN or in the file that KIND_ECHO_TOKEN_FILE names.
    """
    there = Server(server, read_token())
    plans = there.get("/api/plans")["plans"]
    found = next((one for one in plans if (one["effect"], one["name"]) == (effect, plan)), None)
    if found is None:
        raise click.ClickException(f"there is no plan {plan} of {effect} on {there.address}")
    build = there.post("/api/builds", {"effect": effect, "version": version, "note": note})
    render = "everything" if everything else "what changed"
    run = there.post("/api/runs", {"plan_id": found["id"], "build_id": build["id"], "render": render})
    address = f"{there.address}/runs/{run['id']}"
    watched = _Watched(there, run["id"])
    progress = None if no_wait else wait_for(watched.look, _POLL_SECONDS, timeout)
    sheet = watched.sheet
    needs = [] if progress is None else progress.needs(f"{effect} {version}")
    outcomes = [] if sheet is None else _outcomes(sheet, there.address)
    troubled = 0 if sheet is None else sum(bool(cell["needs_you"]) for cell in sheet["cells"])
    if sheet is not None:
        outputs.write(outcomes, f"{plan} on {effect} {version}", address)
    if as_json:
        verdicts = None if sheet is None else sheet["run"]["verdicts"]
        said = {"command": "submit", "run": run["id"], "address": address, "verdicts": verdicts}
        held_up = 0 if progress is None else progress.held_up
        click.echo(json.dumps(said | {"need_somebody": troubled + held_up, "needs": needs}))
    elif sheet is None:
        click.echo(f"Enqueued: {address}")
    else:
        _print_findings(sheet)
        waiting = troubled + (0 if progress is None else progress.held_up)
        click.echo("\n".join([*needs, f"{waiting} of {len(sheet['cells'])} cells need somebody: {address}"]))
    if outputs.fails(outcomes) or (progress is not None and outputs.holds_up(progress)):
        raise LimitBroken


def _outcomes(sheet: dict[str, Any], address: str) -> list[Outcome]:
    """Each cell of a sheet, with the headline of the finding that it is of."""
    cases = {one["id"]: f"{one['signal']}, {one['setting']}" for one in sheet["cases"]}
    conditions = {one["id"]: whole_condition_text(SimpleNamespace(**one)) for one in sheet["conditions"]}
    headlines = {cell: one["headline"] for one in sheet["findings"] for cell in one["cells"]}
    return [
        outcome_of_cell(
            cases[cell["case_id"]], conditions[cell["condition_id"]], cell["verdict"], cell["why"], _decision(cell),
            cell["ink"],
            [*([headlines[cell["id"]]] if cell["id"] in headlines else []), f"{address}/cells/{cell['id']}"],
        )
        for cell in sheet["cells"]
    ]  # fmt: skip


def _decision(cell: dict[str, Any]) -> str | None:
    """What was decided on a cell and holds, in words."""
    decision = cell["decision"]
    if decision is None or not decision["holds"]:
        return None
    until = f" until {decision['until']}" if decision["until"] else ""
    return f"{decision['kind']}{until} by {decision['who']}{f': {why}' if (why := decision['why']) else ''}"


def _print_findings(sheet: dict[str, Any]) -> None:
    for finding in sheet["findings"]:
        cells = len(finding["cells"])
        what = "1 cell" if cells == 1 else f"{cells} cells"
        click.echo(f"{finding['headline']}: {what}, {finding['where']}; {finding['undecided']} undecided")


class _Watched:
    """A run on a server; `sheet` is what was last seen of it."""

    def __init__(self, server: Server, run_id: int) -> None:
        self._server = server
        self._path = f"/api/runs/{run_id}?{urlencode({'measure': 'residual_rms'})}"
        self._answered = time.monotonic()
        self.sheet: dict[str, Any] | None = None
        self._progress = Progress(1, 0)

    def look(self) -> Progress:
        """How the run stands. Raises NoAnswer where the server has not answered for minutes."""
        try:
            sheet: dict[str, Any] = self._server.get(self._path)
        except NoAnswer:
            if time.monotonic() - self._answered > _PATIENCE_SECONDS:
                raise
            return self._progress
        self._answered, self.sheet = time.monotonic(), sheet
        run = sheet["run"]
        self._progress = Progress(run["cells"], run["finished"], sheet["for_kit"], sheet["lacking"], run["stopped_by"])
        return self._progress
