"""The command that brings the database up to date; on its own, for it needs nothing of what renders and measures."""

import click
from sqlalchemy.exc import OperationalError

from kind_echo.store.migrate import migrate

NO_DATABASE = "The database does not answer; start it with 'make demo', or see what KIND_ECHO_DATABASE_URL points at."


@click.command("migrate")
def migrate_command() -> None:
    """Bring the database to the shape that this version needs."""
    try:
        migrate()
    except OperationalError as error:
        raise click.ClickException(NO_DATABASE) from error
