"""The command of build servers: tell a server of a build, run a plan on it there, and wait for the verdicts."""

import json
import time
from typing import Any
from urllib.parse import urlencode

import click

from kind_echo.cli.http import SERVER_VARIABLE, NoAnswer, Server, read_token
from kind_echo.cli.main import LimitBroken

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
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def submit_command(
    effect: str, plan: str, version: str, server: str, note: str, everything: bool, no_wait: bool, as_json: bool
) -> None:
    """Run PLAN of EFFECT on BUILD on a server; exits with 1 unless every cell passes or is decided on.

    Needs a token to submit, in KIND_ECHO_TOKEN or in the file that KIND_ECHO_TOKEN_FILE names.
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
    sheet = None if no_wait else _wait(there, run["id"])
    troubled = [] if sheet is None else [cell for cell in sheet["cells"] if cell["needs_you"]]
    if as_json:
        verdicts = None if sheet is None else sheet["run"]["verdicts"]
        said = {"command": "submit", "run": run["id"], "address": address, "verdicts": verdicts}
        click.echo(json.dumps(said | {"need_somebody": len(troubled)}))
    elif sheet is None:
        click.echo(f"Enqueued: {address}")
    else:
        for finding in sheet["findings"]:
            cells = len(finding["cells"])
            what = "1 cell" if cells == 1 else f"{cells} cells"
            click.echo(f"{finding['headline']}: {what}, {finding['where']}; {finding['undecided']} undecided")
        click.echo(f"{len(troubled)} of {len(sheet['cells'])} cells need somebody: {address}")
    if troubled:
        raise LimitBroken


def _wait(server: Server, run_id: int) -> dict[str, Any]:
    asked = urlencode({"measure": "residual_rms"})
    answered = time.monotonic()
    while True:
        try:
            sheet: dict[str, Any] = server.get(f"/api/runs/{run_id}?{asked}")
            answered = time.monotonic()
            run = sheet["run"]
            if run["finished"] == run["cells"] and run["verdicts"]["waiting"] == 0:
                return sheet
            if run["stopped_by"]:
                raise click.ClickException(f"the run was stopped by {run['stopped_by']}")
        except NoAnswer:
            if time.monotonic() - answered > _PATIENCE_SECONDS:
                raise
        time.sleep(_POLL_SECONDS)
