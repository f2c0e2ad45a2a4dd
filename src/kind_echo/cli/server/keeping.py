"""Commands for who keeps an installation: backup, restore, and the rights of its database roles."""

from pathlib import Path

import click

from kind_echo.cli.server.database import clear_error_without_database
from kind_echo.database.backup import backup, restore
from kind_echo.database.grants import grant
from kind_echo.database.migrate import migrate
from kind_echo.database.sessions import transaction


@click.command("backup")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
def backup_command(file: Path) -> None:
    """Write all that Kind Echo keeps to FILE, as pg_dump's custom format; services may go on meanwhile."""
    click.echo(f"{file}: {backup(file) / 1e6:.1f} MB")


@click.command("restore")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
def restore_command(file: Path) -> None:
    """Bring an empty database to what the backup in FILE holds, and then to this version's shape."""
    with clear_error_without_database():
        restore(file)
        migrate()
    click.echo("Restored. Grant the services' roles their rights again: kind-echo grant --help.")


@click.command("grant")
@click.option("--web", default=None, metavar="ROLE", help="The role that the web server comes to the database with.")
@click.option("--worker", default=None, metavar="ROLE", help="The role that workers come to the database with.")
def grant_command(web: str | None, worker: str | None) -> None:
    """Give database roles exactly the rights that each service must have; needs the owner's address."""
    if web is None and worker is None:
        raise click.UsageError("Name a role: --web, --worker, or both.")
    with clear_error_without_database(), transaction() as session:
        if web is not None:
            grant(session, "web", web)
        if worker is not None:
            grant(session, "worker", worker)
    click.echo("Granted.")
