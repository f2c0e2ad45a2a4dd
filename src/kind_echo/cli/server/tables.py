"""Commands that use the bench: runs, the demo."""

import getpass
import json
from datetime import UTC, datetime

import click
from rich.table import Table
from sqlalchemy import text
from sqlalchemy.orm import Session

from kind_echo.bench.accounts import page_address
from kind_echo.bench.decisions import standings
from kind_echo.bench.demo import load_demo
from kind_echo.bench.evidence import outcomes_of, write_evidence
from kind_echo.bench.plans import find_build, find_plan
from kind_echo.bench.reports import check_report, run_report, write_plots, write_report
from kind_echo.bench.runs import cells_of, find_run, held_up, start_run, summary_of
from kind_echo.cli.exits import LimitBroken
from kind_echo.cli.measuring.printing import console_for_tables
from kind_echo.cli.server.database import clear_error_without_database
from kind_echo.cli.server.outputs import Outputs, run_outputs
from kind_echo.cli.server.waiting import TIMEOUT, Progress, wait_for
from kind_echo.database.grants import grant_for_demo
from kind_echo.database.models import Run
from kind_echo.database.sessions import snapshot, transaction
from kind_echo.renderers.takes import installed
from kind_echo.wording.conditions import condition_text
from kind_echo.wording.outcomes import Outcome

_POLL_SECONDS = 0.5


@click.command("run")
@click.argument("plan")
@click.argument("version", metavar="BUILD")
@click.option("--who", default=None, help="Who asks for it; the account's name unless given.")
@click.option("--everything", is_flag=True, help="Render all cells; else only what changed since earlier runs.")
@click.option("--no-wait", is_flag=True, help="Leave once it is enqueued.")
@TIMEOUT
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
@run_outputs
def run_command(
    plan: str,
    version: str,
    who: str | None,
    everything: bool,
    no_wait: bool,
    timeout: float | None,
    as_json: bool,
    outputs: Outputs,
) -> None:
    """Run PLAN on BUILD and wait for the verdicts; exits with 1 unless every cell passes or is decided on.

    It ends when all that machines can render is rendered and judged; what then needs a person is told.
    """
    if outputs.report is not None:
        check_report(outputs.report)
    with clear_error_without_database():
        with transaction() as session:
            found = find_plan(session, plan)
            build = find_build(session, found, version)
            run = start_run(
                session, found.id, build.id, who=who or getpass.getuser(), now=datetime.now(UTC),
                render="everything" if everything else "what changed",
            )  # fmt: skip
            run_id, name = run.id, f"{build.effect.name} {build.version}"
        progress = None if no_wait else wait_for(lambda: _look(run_id), _POLL_SECONDS, timeout)
        needs = [] if progress is None else progress.needs(name)
        with transaction() as session:
            told = [] if progress is None else _cells(session, find_run(session, run_id))
    cells, outcomes = [cell for cell, _ in told], [outcome for _, outcome in told]
    if as_json:
        click.echo(json.dumps({"command": "run", "run": run_id, "cells": cells, "needs": needs}))
    else:
        _print_cells(run_id, cells)
        click.echo("".join(f"{line}\n" for line in needs), nl=False)
    if progress is not None:
        outputs.write(outcomes, f"{plan} on {name}")
        _keep(outputs, run_id)
    if outputs.fails(outcomes) or (progress is not None and outputs.holds_up(progress)):
        raise LimitBroken


def _keep(outputs: Outputs, run_id: int) -> None:
    """Write the bundle, the report and the plots of a run where they were asked for."""
    with snapshot() as session:
        run, now = find_run(session, run_id), datetime.now(UTC)
        if outputs.evidence is not None:
            write_evidence(session, run, outputs.evidence, now, "all" if outputs.all_audio else "trouble")
        if outputs.report is not None:
            write_report(run_report(session, run, now, address=f"{page_address()}/runs/{run_id}"), outputs.report)
        if outputs.plots is not None:
            write_plots(session, run, outputs.plots)


@click.command("load-demo")
@click.option("--worker-role", default="kind_echo_worker", metavar="ROLE",
              help="The workers' database role, if they have one: it decides as the demo's people do.")  # fmt: skip
def load_demo_command(worker_role: str) -> None:
    """Load the demo's effect, plan and runs, unless they are there."""
    with transaction() as session:
        loaded = load_demo(session, list(installed().values()), datetime.now(UTC))
        if session.scalar(text("SELECT 1 FROM pg_roles WHERE rolname = :role"), {"role": worker_role}) is not None:
            grant_for_demo(session, worker_role)
    click.echo("The demo is loaded; its runs are rendered by the workers." if loaded else "The demo is there already.")


def _look(run_id: int) -> Progress:
    with snapshot() as session:
        run = find_run(session, run_id)
        summary, held = summary_of(session, run), held_up(session, run)
        return Progress(summary.cells, summary.finished, held.kit, held.lacking, run.stopped_by)


def _cells(session: Session, run: Run) -> list[tuple[dict[str, str | None], Outcome]]:
    """Each cell as JSON tells it, and as build servers see it."""
    today = datetime.now(UTC).date()
    held = {cell_id: one.kind for cell_id, one in standings(session, run, today).items() if one.holds}
    cells = cells_of(session, run.id)
    shown = [
        {"case": f"{cell.case.signal.name}, {cell.case.setting.name}", "condition": condition_text(cell.condition),
         "verdict": cell.verdict, "why": cell.why, "decision": held.get(cell.id)}
        for cell in cells
    ]  # fmt: skip
    return list(zip(shown, outcomes_of(session, run, cells, today), strict=True))


def _print_cells(run_id: int, cells: list[dict[str, str | None]]) -> None:
    console = console_for_tables()
    counts: dict[str | None, int] = {}
    for cell in cells:
        counts[cell["verdict"]] = counts.get(cell["verdict"], 0) + 1
    table = Table(box=None, pad_edge=False)
    for column in ("Case", "Condition", "Verdict", "Why", "Decided"):
        table.add_column(column)
    for cell in cells:
        if cell["verdict"] != "Pass":
            table.add_row(cell["case"], cell["condition"], cell["verdict"], cell["why"], cell["decision"] or "")
    if table.row_count:
        console.print(table)
    counted = ", ".join(f"{count} {verdict}" for verdict, count in sorted(counts.items(), key=str))
    console.print(f"Run {run_id}: {counted or 'enqueued'}")
