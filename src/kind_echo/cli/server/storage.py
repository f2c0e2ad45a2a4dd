"""Commands for the space that audio takes: what takes it, what may go, and where it is kept."""

import json
from dataclasses import asdict
from datetime import UTC, datetime
from typing import cast

import click
from rich.table import Table

from kind_echo.bench.storage import (
    Dropped,
    Place,
    current_rule,
    drop_audio,
    drop_unused,
    move_audio,
    pack_audio,
    set_rule,
    sweep_objects,
    what_takes_space,
    would_drop,
    would_drop_in_all,
)
from kind_echo.cli.measuring.printing import console_for_tables
from kind_echo.cli.server.database import clear_error_without_database
from kind_echo.core.registry.errors import BadParameter
from kind_echo.database.sessions import transaction

_EVERY = 1000
"""Pieces after which a long command says how far it is."""


@click.group("storage")
def storage_command() -> None:
    """What takes the space, how long audio is kept, and where.

    Needs the address by which the database's owner comes to it.
    """


@storage_command.command("show")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def show(as_json: bool) -> None:
    """What takes the space, and the rule in force."""
    with clear_error_without_database(), transaction() as session:
        space, rule = what_takes_space(session), current_rule(session)
    if as_json:
        plans = [{"effect": effect, "plan": plan, **asdict(share)} for effect, plan, share in space.plans]
        document = asdict(space) | {"plans": plans, "rule": asdict(rule)}
        click.echo(json.dumps(document, default=str))
        return
    table = Table("", "pieces", "MB", box=None)
    for share in space.parts:
        table.add_row(share.name, _pieces(share.pieces), _megabytes(share.bytes))
    for effect, plan, share in space.plans:
        table.add_row(f"  {effect}, {plan}", _pieces(share.pieces), _megabytes(share.bytes))
    for share in space.people:
        table.add_row(f"  files of {share.name}", _pieces(share.pieces), _megabytes(share.bytes))
    console_for_tables().print(table)
    click.echo(f"Unpacked, all audio would take {_megabytes(space.raw)} MB; {space.dropped} pieces were dropped.")
    click.echo(_rule_text(rule.keep_runs))


@storage_command.command("rule")
@click.option("--keep-runs", metavar="N|none", help="Newest runs of a plan that keep the audio of passed renders.")
@click.option("--person-gigabytes", metavar="GB|none", help="The most that one person's files may take.")
@click.option("--all-gigabytes", metavar="GB|none", help="The most that all audio may take.")
def rule_command(keep_runs: str | None, person_gigabytes: str | None, all_gigabytes: str | None) -> None:
    """Set the rule; what is not given stays as it is, and 'none' is no limit."""
    with clear_error_without_database(), transaction() as session:
        rule = current_rule(session)
        runs = rule.keep_runs if keep_runs is None else _number("keep-runs", keep_runs)
        sizes = [
            (None if held is None else held / 1e9) if given is None else _number(name, given)
            for name, given, held in (
                ("person-gigabytes", person_gigabytes, rule.person_bytes),
                ("all-gigabytes", all_gigabytes, rule.all_bytes),
            )
        ]
        whole = None if runs is None else int(runs)
        rule = set_rule(session, whole, sizes[0], sizes[1], who="command line", now=datetime.now(UTC))
    click.echo(_rule_text(rule.keep_runs))


@storage_command.command("dry-run")
@click.option("--keep-runs", type=click.IntRange(1, 10_000), help="The rule to try instead of the one in force.")
def dry_run(keep_runs: int | None) -> None:
    """What the rule would drop now; nothing is dropped."""
    with clear_error_without_database(), transaction() as session:
        runs = keep_runs if keep_runs is not None else current_rule(session).keep_runs
        if runs is None:
            raise click.UsageError("No rule is set; name one: --keep-runs N.")
        plans, whole = would_drop(session, runs), would_drop_in_all(session, runs)
    for effect, plan, part in plans:
        click.echo(f"{effect}, {plan}: {_dropped_text(part)}")
    click.echo(f"In all {_dropped_text(whole)} would be dropped; nothing was.")


@storage_command.command("drop")
def drop() -> None:
    """Drop what the rule in force says, and what nothing refers to; the workers do it once a day."""
    with clear_error_without_database():
        now = datetime.now(UTC)
        passed, unused, objects = drop_audio(now), drop_unused(now), sweep_objects(now)
    click.echo(f"Dropped: {_dropped_text(passed)} of renders that passed, {_dropped_text(unused)} of deleted files.")
    if objects:
        click.echo(f"{objects} objects that no audio names were deleted.")


@storage_command.command("pack")
def pack() -> None:
    """Pack audio that older versions kept as it came; services may go on meanwhile."""
    with clear_error_without_database():
        packed = pack_audio(_say)
    click.echo(f"{packed} pieces were packed.")


@storage_command.command("move")
@click.option("--to", type=click.Choice(["objects", "database"]), required=True, help="Where all audio is to be.")
def move(to: str) -> None:
    """Move all audio to the object store or back; it may be stopped, and begun again."""
    with clear_error_without_database():
        moved = move_audio(cast(Place, to), _say)
    click.echo(f"{moved} pieces of audio were moved.")


def _say(done: int) -> None:
    if done % _EVERY == 0:
        click.echo(f"{done} so far", err=True)


def _number(name: str, text: str) -> float | None:
    if text == "none":
        return None
    try:
        return float(text)
    except ValueError:
        raise BadParameter(name, text, "a number, or none") from None


def _rule_text(keep_runs: int | None) -> str:
    if keep_runs is None:
        return "No rule drops audio."
    return f"Audio of renders that pass is kept for the newest {keep_runs} runs of each plan."


def _dropped_text(dropped: Dropped) -> str:
    return f"{dropped.pieces} pieces, {_megabytes(dropped.bytes)} MB"


def _pieces(count: int | None) -> str:
    return "" if count is None else str(count)


def _megabytes(size: int) -> str:
    return f"{size / 1e6:.1f}"
