"""Plans as YAML files: checked, kept as a revision, and written out for version control."""

import getpass
import os
from datetime import UTC, datetime
from pathlib import Path

import click
from sqlalchemy.orm import Session

from kind_echo.bench.plans import (
    TEMPLATES,
    PlanDocument,
    PlanNotFound,
    cost_of,
    differences,
    document_of,
    find_plan,
    latest_revision,
    plan_from,
    plan_of_effect,
    read_yaml,
    save_plan,
    unfold,
    unrenderable,
    write_yaml,
)
from kind_echo.cli.measuring.sensitivity import read_wanted
from kind_echo.cli.server.database import clear_error_without_database
from kind_echo.core.registry.errors import BadParameter
from kind_echo.database.sessions import transaction

_FILE = click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))


@click.group("plan")
def plan_command() -> None:
    """Plans as YAML files, for version control."""


@plan_command.command("check")
@_FILE
def check(file: Path) -> None:
    """Say whether the plan in FILE can be used, what a run of it takes, and how it differs from the newest revision."""
    with clear_error_without_database(), transaction() as session:
        document = read_yaml(file.read_text(encoding="utf-8"))
        cost = cost_of(session, document, unfold(session, document))
        kept = plan_of_effect(session, document.effect, document.plan)
        click.echo(f"{document.effect}, {document.plan}: {cost.cells} cells, {cost.renders} renders")
        if kept is not None:
            newest = latest_revision(session, kept.id)
            said = differences(document_of(session, newest), document)
            click.echo("\n".join(said) or f"As in revision {newest.number}")
        _say_unrenderable(session, document)


@plan_command.command("keep")
@_FILE
@click.option("--who", default=None, help="Who keeps it; the account's name unless given.")
def keep(file: Path, who: str | None) -> None:
    """Keep the plan in FILE as the newest revision of its name; one that is as the newest makes no other."""
    with clear_error_without_database(), transaction() as session:
        document = read_yaml(file.read_text(encoding="utf-8"))
        revision = save_plan(session, document, who=who or getpass.getuser(), now=datetime.now(UTC))
        click.echo(f"{document.effect}, {document.plan}: revision {revision.number}")
        _say_unrenderable(session, document)


def _say_unrenderable(session: Session, document: PlanDocument) -> None:
    """One line on standard error for each host in which no known machine has the effect: its cells would wait."""
    for host in unrenderable(session, document):
        click.echo(
            f"kind-echo: no known machine can render {document.effect} in {host}; its cells would wait", err=True
        )


@plan_command.command("sensitivity")
@click.argument("plan", metavar="FILE|PLAN")
@click.option("--effect", help="Of plans of that name the one of this effect.")
@click.option("--wanted", multiple=True, metavar="FAULT=SIZE",
              help="End with 1 unless it is noticed from there on; may be repeated.")  # fmt: skip
@click.option("--jobs", type=click.IntRange(1, 1000), help="Processes that plant faults; one a core unless given.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
@click.option("--csv", "as_csv", is_flag=True, help="Print CSV: a line for each cell and fault.")
def sensitivity(
    plan: str, effect: str | None, wanted: tuple[str, ...], jobs: int | None, as_json: bool, as_csv: bool
) -> None:
    """Say from which size on planted faults would be noticed by a plan: a YAML FILE, or one that is kept by its name.

    Nothing is rendered: faults go into copies of the approved references, and are judged by the limits of the plan.
    """
    from kind_echo.cli.server.sensitivity import tell_plan

    if as_json and as_csv:
        raise BadParameter("csv", as_csv, "without --json")
    asked = read_wanted(wanted)
    output = "json" if as_json else "csv" if as_csv else ""
    with clear_error_without_database():
        with transaction() as session:
            document = _document(session, plan, effect)
        tell_plan(document, asked, jobs or os.cpu_count() or 1, output)


def _document(session: Session, plan: str, effect: str | None) -> PlanDocument:
    if Path(plan).is_file():
        return read_yaml(Path(plan).read_text(encoding="utf-8"))
    kept = find_plan(session, plan) if effect is None else plan_of_effect(session, effect, plan)
    if kept is None:
        raise PlanNotFound(f"{plan} of {effect}")
    return document_of(session, latest_revision(session, kept.id))


@plan_command.command("write")
@click.argument("effect")
@click.argument("plan")
def write(effect: str, plan: str) -> None:
    """Write the newest revision of PLAN of EFFECT as YAML."""
    with clear_error_without_database(), transaction() as session:
        kept = plan_of_effect(session, effect, plan)
        if kept is None:
            raise PlanNotFound(f"{plan} of {effect}")
        click.echo(write_yaml(document_of(session, latest_revision(session, kept.id))), nl=False)


@plan_command.command("template")
@click.argument("template", type=click.Choice([one.key for one in TEMPLATES]))
@click.argument("effect")
def template_of(template: str, effect: str) -> None:
    """Write the plan that TEMPLATE makes for EFFECT as YAML; nothing is kept."""
    with clear_error_without_database(), transaction() as session:
        click.echo(write_yaml(plan_from(session, template, effect)), nl=False)
