"""Attempts by key, each with its time, that limits of rates are counted by: a table that all web processes share."""

import hashlib

from sqlalchemy import text
from sqlalchemy.orm import Session

KEEP_SECONDS = 3600
"""Longer than any window; what is older counts for nothing."""

_WITHIN = "key = :key AND at > clock_timestamp() - make_interval(secs => :seconds)"


def count_attempts(session: Session, key: str, seconds: int = KEEP_SECONDS) -> int:
    """How many attempts by a key there were within a time."""
    query = text(f"SELECT count(*) FROM attempt WHERE {_WITHIN}")
    return int(session.scalar(query, {"key": _kept(key), "seconds": seconds}) or 0)


def add_attempts(session: Session, key: str, amount: int) -> None:
    """Count attempts, and forget those of all keys that count no more."""
    old = text("DELETE FROM attempt WHERE at < clock_timestamp() - make_interval(secs => :seconds)")
    session.execute(old, {"seconds": KEEP_SECONDS})
    new = text("INSERT INTO attempt (key, at) SELECT :key, clock_timestamp() FROM generate_series(1, :amount)")
    session.execute(new, {"key": _kept(key), "amount": amount})


def admit_attempts(session: Session, key: str, most: int, seconds: int, amount: int) -> bool:
    """Count attempts, unless there would be more than `most` within the time; whether they were counted."""
    # Attempts by one key are counted one after the other: two at once must not both be the last.
    session.execute(text("SELECT pg_advisory_xact_lock(hashtextextended(:key, 0))"), {"key": _kept(key)})
    if count_attempts(session, key, seconds) + amount > most:
        return False
    add_attempts(session, key, amount)
    return True


def oldest_attempt(session: Session, key: str, seconds: int) -> tuple[float, int]:
    """When the oldest attempt within the time was made, as Unix time, and how many there are."""
    query = text(
        "SELECT extract(epoch FROM coalesce(min(at), clock_timestamp()))::float8, count(*) "
        f"FROM attempt WHERE {_WITHIN}"
    )
    start, count = session.execute(query, {"key": _kept(key), "seconds": seconds}).one()
    return float(start), int(count)


def forget_attempts(session: Session, key: str | None = None) -> int:
    """Forget the attempts by a key, or all; how many there were."""
    query = text("DELETE FROM attempt WHERE CAST(:key AS text) IS NULL OR key = :key RETURNING id")
    return len(session.execute(query, {"key": None if key is None else _kept(key)}).all())


def _kept(key: str) -> str:
    """A key as it is kept: a name that somebody tried may be of any length and hold any character."""
    return hashlib.sha256(key.encode("utf-8", "surrogatepass")).hexdigest()[:32]
