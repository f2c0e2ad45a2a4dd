"""What commands that need the database have in common; it imports nothing that renders or measures."""

from collections.abc import Iterator
from contextlib import contextmanager

from sqlalchemy.exc import OperationalError

from kind_echo.cli.exits import NoAnswer

NO_DATABASE = "The database does not answer; start it with 'make demo', or see what KIND_ECHO_DATABASE_URL points at."


@contextmanager
def clear_error_without_database() -> Iterator[None]:
    """One line instead of a traceback where the database does not answer. Raises NoAnswer."""
    try:
        yield
    except OperationalError as error:
        raise NoAnswer(NO_DATABASE) from error
