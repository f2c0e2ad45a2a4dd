"""Where the database is, and transactions on it."""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from typing import Any, cast

import orjson
import psycopg
from sqlalchemy import Engine, create_engine
from sqlalchemy.exc import DBAPIError, InterfaceError, OperationalError
from sqlalchemy.orm import Session

from kind_echo.audio_io.temporary import NoTemporarySpace, is_out_of_space
from kind_echo.core.registry.errors import KindEchoError, Unavailable

_DISK_FULL = "53100"  # as PostgreSQL numbers its errors
URL_VARIABLE = "KIND_ECHO_DATABASE_URL"


class NoDatabase(KindEchoError):
    """Nothing says where the database is."""

    def __init__(self) -> None:
        super().__init__(f"Set {URL_VARIABLE} to the address of the database, or start everything with 'make demo'.")


def database_url() -> str:
    """The address of the database, as psycopg takes it (postgresql://…). Raises NoDatabase."""
    url = os.environ.get(URL_VARIABLE)
    if not url:
        raise NoDatabase
    return url


@cache
def engine() -> Engine:
    """The pool of connections of this process; a connection that died is replaced when it is next wanted."""
    address = database_url().replace("postgresql://", "postgresql+psycopg://", 1)
    waiting = {"connect_timeout": 5}
    # A large sheet has tens of thousands of small JSON values.
    return create_engine(
        address, pool_pre_ping=True, pool_size=16, max_overflow=16, connect_args=waiting, json_deserializer=orjson.loads
    )


@contextmanager
def transaction() -> Iterator[Session]:
    """A session whose work is committed at the end, or undone when an error leaves the block."""
    with Session(engine(), expire_on_commit=False) as session, session.begin():
        yield session


@contextmanager
def snapshot() -> Iterator[Session]:
    """A session that only reads, and whose statements all see the database as it was at the first of them.

    For what several statements tell together: a run must not be finished in one and without verdicts in another.
    """
    with Session(engine().execution_options(isolation_level="REPEATABLE READ"), expire_on_commit=False) as session:
        yield session


def is_disk_full(error: BaseException) -> bool:
    """Whether a disk was full: the database's, or that of temporary files."""
    if isinstance(error, DBAPIError):
        return getattr(error.orig, "sqlstate", None) == _DISK_FULL
    return isinstance(error, NoTemporarySpace) or is_out_of_space(error)


def is_temporary(error: BaseException) -> bool:
    """Whether what went wrong has nothing to do with what was asked, and ends when there is space or a server again."""
    if isinstance(error, Unavailable) or (isinstance(error, DBAPIError) and error.connection_invalidated):
        return True
    return is_disk_full(error) or isinstance(error, OperationalError | InterfaceError)


def brief_message(error: BaseException) -> str:
    """An error in a line for a person, without the SQL and the values that belong in the log alone."""
    if not isinstance(error, DBAPIError):
        return str(error)
    if is_disk_full(error):
        return "the database's disk is full"
    first = str(error.orig).strip().partition("\n")[0]
    return f"the database refused it ({type(error.orig).__name__}: {first})"


def raw_connection(session: Session) -> psycopg.Connection[Any]:
    """The psycopg connection beneath a session, for a job that is to be enqueued in its transaction."""
    return cast(psycopg.Connection[Any], session.connection().connection.driver_connection)
