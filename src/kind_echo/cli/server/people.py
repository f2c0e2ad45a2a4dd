"""People and tokens on the command line, for who has the database: the first account is made so."""

import getpass
from datetime import UTC, datetime
from typing import cast

import click

from kind_echo.bench.accounts import (
    LINK_DAYS,
    ROLES,
    SCOPES,
    Invited,
    Role,
    Scope,
    add_person,
    all_people,
    change_person,
    local_link,
    make_token,
    page_address,
    person_named,
    reset_person,
)
from kind_echo.cli.server.database import clear_error_without_database
from kind_echo.database.sessions import transaction


def link_text(secret: str) -> str:
    """The address that lets somebody in, once."""
    return f"{page_address()}/sign-in#{secret}"


@click.group("people")
def people_command() -> None:
    """Accounts: who may come in, and how far."""


@people_command.command("list")
def list_people() -> None:
    """Everybody, by name."""
    with clear_error_without_database(), transaction() as session:
        for person in all_people(session):
            state = "disabled" if person.disabled_at else "" if person.password_hash else "has not chosen a password"
            click.echo(f"{person.name}\t{person.role}\t{state}".rstrip())


@people_command.command("add")
@click.argument("name")
@click.option("--role", type=click.Choice(ROLES), default="work", show_default=True)
def add(name: str, role: str) -> None:
    """Make an account for NAME, and print the link by which they choose a password."""
    with clear_error_without_database(), transaction() as session:
        _tell(add_person(session, name, cast(Role, role), who=getpass.getuser(), now=datetime.now(UTC)))


@people_command.command("disable")
@click.argument("name")
def disable(name: str) -> None:
    """Let NAME in no more; all their sessions end, and what they decided stays."""
    _shut(name, disabled=True)
    click.echo(f"{name} can no longer sign in.")


@people_command.command("enable")
@click.argument("name")
def enable(name: str) -> None:
    """Let NAME in again."""
    _shut(name, disabled=False)
    click.echo(f"{name} can sign in again.")


@people_command.command("reset")
@click.argument("name")
def reset(name: str) -> None:
    """Take NAME's password away, end their sessions, and print a link to choose another."""
    with clear_error_without_database(), transaction() as session:
        person = person_named(session, name)
        _tell(reset_person(session, person.id, who=getpass.getuser(), now=datetime.now(UTC)))


@people_command.command("demo-link")
@click.argument("name")
def demo_link(name: str) -> None:
    """Print a link that signs NAME in without a password: once, within twelve hours, and on this machine alone."""
    with clear_error_without_database(), transaction() as session:
        person = person_named(session, name)
        if person.disabled_at is not None:
            raise click.ClickException(f"{person.name} can no longer sign in")
        click.echo(link_text(local_link(session, person, datetime.now(UTC))))


@click.command("token")
@click.argument("name")
@click.option("--scope", type=click.Choice(SCOPES), required=True, help="What it reaches.")
@click.option("--days", default=90, show_default=True, help="How long it lasts.")
def token_command(name: str, scope: str, days: int) -> None:
    """Make a token called NAME for a build server or a render machine, and print it; it is not kept."""
    with clear_error_without_database(), transaction() as session:
        made = make_token(session, name, cast(Scope, scope), days, who=getpass.getuser(), now=datetime.now(UTC))
    click.echo(made.secret)


def _shut(name: str, *, disabled: bool) -> None:
    with clear_error_without_database(), transaction() as session:
        person = person_named(session, name)
        change_person(session, person.id, who=getpass.getuser(), now=datetime.now(UTC), disabled=disabled)


def _tell(invited: Invited) -> None:
    click.echo(f"{invited.person.name}, role {invited.person.role}. This link works once, for {LINK_DAYS} days:")
    click.echo(link_text(invited.secret))
