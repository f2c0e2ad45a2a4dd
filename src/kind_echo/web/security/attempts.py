"""Where the library of rate limits counts: in the database, so that web processes agree and none forgets."""

from typing import Any

from limits.storage import MovingWindowSupport, Storage
from sqlalchemy.exc import DBAPIError

from kind_echo.bench.accounts import (
    KEEP_SECONDS,
    add_attempts,
    admit_attempts,
    count_attempts,
    forget_attempts,
    oldest_attempt,
)
from kind_echo.database.sessions import transaction

ADDRESS = "kind-echo-database://"


class AttemptsInDatabase(Storage, MovingWindowSupport):
    """Attempts by key, each with its time; windows begin where the oldest attempt in them stands."""

    STORAGE_SCHEME = ["kind-echo-database"]  # noqa: RUF012 - the library's own protocol

    def __init__(self, uri: str | None = None, wrap_exceptions: bool = False, **_: Any) -> None:
        super().__init__(uri, wrap_exceptions=wrap_exceptions)

    @property
    def base_exceptions(self) -> type[Exception]:
        """What goes wrong with a database."""
        return DBAPIError

    def acquire_entry(self, key: str, limit: int, expiry: int, amount: int = 1) -> bool:
        """Count attempts, unless the window has no room for them."""
        with transaction() as session:
            return admit_attempts(session, key, limit, expiry, amount)

    def get_moving_window(self, key: str, limit: int, expiry: int) -> tuple[float, int]:
        """When the oldest attempt of the window was made, as Unix time, and how many there are."""
        with transaction() as session:
            return oldest_attempt(session, key, expiry)

    def incr(self, key: str, expiry: int, amount: int = 1) -> int:
        """Count attempts; how many there are in the window now."""
        with transaction() as session:
            add_attempts(session, key, amount)
            return count_attempts(session, key, expiry)

    def get(self, key: str) -> int:
        """How many attempts are kept."""
        with transaction() as session:
            return count_attempts(session, key)

    def get_expiry(self, key: str) -> float:
        """When the oldest attempt that is kept counts no more, as Unix time."""
        return self.get_moving_window(key, 0, KEEP_SECONDS)[0] + KEEP_SECONDS

    def check(self) -> bool:
        """Whether the database answers."""
        try:
            self.get("")
        except DBAPIError:
            return False
        return True

    def reset(self) -> int | None:
        """Forget all attempts; how many there were."""
        with transaction() as session:
            return forget_attempts(session)

    def clear(self, key: str) -> None:
        """Forget the attempts by a key."""
        with transaction() as session:
            forget_attempts(session, key)
