"""Where limits of rates count: a table, so that several web processes agree, and none forgets by starting anew."""

import hashlib
from typing import Any

from limits.storage import MovingWindowSupport, Storage
from sqlalchemy import text
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from kind_echo.database.sessions import transaction

ADDRESS = "kind-echo-database://"

_WITHIN = "key = :key AND at > clock_timestamp() - make_interval(secs => :seconds)"
_KEEP_SECONDS = 3600
"""Longer than any window; what is older counts for nothing."""


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
            # Attempts by one key are counted one after the other: two at once must not both be the last.
            session.execute(text("SELECT pg_advisory_xact_lock(hashtextextended(:key, 0))"), {"key": _kept(key)})
            if _count(session, key, expiry) + amount > limit:
                return False
            _add(session, key, amount)
            return True

    def get_moving_window(self, key: str, limit: int, expiry: int) -> tuple[float, int]:
        """When the oldest attempt of the window was made, as Unix time, and how many there are."""
        with transaction() as session:
            query = text(
                "SELECT extract(epoch FROM coalesce(min(at), clock_timestamp()))::float8, count(*) "
                f"FROM attempt WHERE {_WITHIN}"
            )
            start, count = session.execute(query, {"key": _kept(key), "seconds": expiry}).one()
        return float(start), int(count)

    def incr(self, key: str, expiry: int, amount: int = 1) -> int:
        """Count attempts; how many there are in the window now."""
        with transaction() as session:
            _add(session, key, amount)
            return _count(session, key, expiry)

    def get(self, key: str) -> int:
        """How many attempts are kept."""
        with transaction() as session:
            return _count(session, key, _KEEP_SECONDS)

    def get_expiry(self, key: str) -> float:
        """When the oldest attempt that is kept counts no more, as Unix time."""
        return self.get_moving_window(key, 0, _KEEP_SECONDS)[0] + _KEEP_SECONDS

    def check(self) -> bool:
        """Whether the database answers."""
        try:
            with transaction() as session:
                session.execute(text("SELECT 1"))
        except DBAPIError:
            return False
        return True

    def reset(self) -> int | None:
        """Forget all attempts; how many there were."""
        with transaction() as session:
            return len(session.execute(text("DELETE FROM attempt RETURNING id")).all())

    def clear(self, key: str) -> None:
        """Forget the attempts by a key."""
        with transaction() as session:
            session.execute(text("DELETE FROM attempt WHERE key = :key"), {"key": _kept(key)})


def _kept(key: str) -> str:
    """A key as it is kept: a name that somebody tried may be of any length and hold any character."""
    return hashlib.sha256(key.encode("utf-8", "surrogatepass")).hexdigest()[:32]


def _count(session: Session, key: str, seconds: int) -> int:
    query = text(f"SELECT count(*) FROM attempt WHERE {_WITHIN}")
    return int(session.scalar(query, {"key": _kept(key), "seconds": seconds}) or 0)


def _add(session: Session, key: str, amount: int) -> None:
    old = text("DELETE FROM attempt WHERE at < clock_timestamp() - make_interval(secs => :seconds)")
    session.execute(old, {"seconds": _KEEP_SECONDS})
    new = text("INSERT INTO attempt (key, at) SELECT :key, clock_timestamp() FROM generate_series(1, :amount)")
    session.execute(new, {"key": _kept(key), "amount": amount})
