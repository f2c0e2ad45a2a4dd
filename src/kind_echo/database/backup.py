"""Backup and restore of the whole database, by PostgreSQL's own tools; audio and queue are in it."""

import os
import re
import shutil
import subprocess
import tempfile
from collections.abc import Sequence
from pathlib import Path
from urllib.parse import unquote, urlsplit

from sqlalchemy import text

from kind_echo.core.registry.errors import KindEchoError
from kind_echo.database.sessions import database_url, engine


class BackupFailed(KindEchoError):
    """A backup or a restore did not come to its end; what was there before is as it was."""


def backup(target: Path) -> int:
    """Write the whole database to a file that its owner alone can read; its size in bytes.

    The file is there whole or not at all; one of that name is replaced only when the new one is whole.

    Raises:
        BackupFailed: pg_dump is not there, or failed.
    """
    try:
        with tempfile.NamedTemporaryFile(dir=target.parent, prefix=f".{target.name}.", delete=False) as file:
            made = Path(file.name)
    except OSError as error:
        raise BackupFailed(f"{target} cannot be written ({error.strerror}).") from error
    try:
        _call("pg_dump", ["--format=custom", "--compress=1", "--no-owner", "--no-privileges", f"--file={made}"])
        with made.open("rb") as file:
            os.fsync(file.fileno())
        made.replace(target)
    finally:
        made.unlink(missing_ok=True)
    return target.stat().st_size


def restore(source: Path) -> None:
    """Bring an empty database to what a backup holds, in one transaction.

    Raises:
        BackupFailed: the database is not empty, the file is no backup, or pg_restore failed; then nothing is changed.
    """
    with engine().connect() as connection:
        here = "SELECT count(*) FROM pg_class WHERE relnamespace = 'public'::regnamespace"
        if connection.scalar(text(here)):
            raise BackupFailed("The database is not empty, and a restore would mix the two; restore into a new one.")
    engine().dispose()
    wanted = ["--exit-on-error", "--single-transaction", "--no-owner", "--no-privileges"]
    _call("pg_restore", [*wanted, f"--dbname={_server()['PGDATABASE']}", str(source)])


def _call(program: str, arguments: Sequence[str]) -> None:
    """The password goes by the environment, which other accounts cannot read as they can read arguments."""
    found = _program(program)
    done = subprocess.run(
        [found, "--no-password", *arguments], env=os.environ | _server(), capture_output=True, text=True, check=False
    )
    if done.returncode != 0:
        said = done.stderr.strip().splitlines()
        raise BackupFailed(f"{program} failed: {said[0] if said else 'it says nothing'}.")


def _program(name: str) -> str:
    """The newest of Debian's, for a dump must not be made by a tool that is older than the server."""
    folders = sorted(Path("/usr/lib/postgresql").glob("*/bin"), key=_version, reverse=True)
    found = shutil.which(name, path=os.pathsep.join(map(str, folders))) or shutil.which(name)
    if found is None:
        raise BackupFailed(f"{name} is not installed; it comes with PostgreSQL's client package.")
    return found


def _version(folder: Path) -> int:
    number = re.match(r"\d+", folder.parent.name)
    return int(number.group()) if number else 0


def _server() -> dict[str, str]:
    address = urlsplit(database_url())
    given = {
        "PGHOST": address.hostname,
        "PGPORT": str(address.port) if address.port else None,
        "PGUSER": unquote(address.username) if address.username else None,
        "PGPASSWORD": unquote(address.password) if address.password else None,
        "PGDATABASE": address.path.lstrip("/") or None,
    }
    return {name: value for name, value in given.items() if value}
