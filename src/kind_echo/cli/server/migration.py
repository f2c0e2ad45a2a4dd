"""The command that brings the database up to date, and makes the first account where there is none."""

from datetime import UTC, datetime

import click

from kind_echo.cli.server.database import clear_error_without_database
from kind_echo.database.migrate import migrate

FIRST_PERSON = "keeper"


@click.command("migrate")
@click.option("--no-account", is_flag=True, help="Make no first account.")
def migrate_command(no_account: bool) -> None:
    """Bring the database to the shape that this version needs; the first time, make an account and print its link."""
    with clear_error_without_database():
        migrate()
        if not no_account:
            _first_account()


def _first_account() -> None:
    from kind_echo.bench.accounts import LINK_DAYS, add_person, all_people
    from kind_echo.cli.server.people import link_text
    from kind_echo.database.sessions import transaction

    with transaction() as session:
        if all_people(session):
            return
        invited = add_person(session, FIRST_PERSON, "keep", who="first start", now=datetime.now(UTC))
    click.echo(f"The account '{FIRST_PERSON}' may add others. This link works once, for {LINK_DAYS} days:")
    click.echo(link_text(invited.secret))
