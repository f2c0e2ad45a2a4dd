"""Checking passwords by turns: each check takes 64 MB and a core, and others are to be answered meanwhile."""

import threading
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager

from flask import request

from kind_echo.core.registry.errors import Unavailable

AT_ONCE = 3
"""Checks that are made at one time."""

MOST_WAITING = 6
"""That are made or wait for their turn; whoever else comes is to come again."""

MOST_OF_AN_ADDRESS = 2
"""Of those: one address must not take the turns of all others."""

_AGAIN_SECONDS = 2


class TooManySignIns(Unavailable):
    """More people sign in at this moment than passwords are checked for."""

    retry_after = _AGAIN_SECONDS

    def __init__(self) -> None:
        super().__init__("Too many are signing in at this moment. Nothing was counted; try again in a few seconds.")


class Turns:
    """Who checks a password, and who waits to."""

    def __init__(self) -> None:
        self._running = threading.BoundedSemaphore(AT_ONCE)
        self._lock = threading.Lock()
        self._here: Counter[str] = Counter()

    @contextmanager
    def one(self, address: str) -> Iterator[None]:
        """Wait for a turn, and have it until the block ends. Raises TooManySignIns."""
        with self._lock:
            if self._here.total() >= MOST_WAITING or self._here[address] >= MOST_OF_AN_ADDRESS:
                raise TooManySignIns
            self._here[address] += 1
        try:
            with self._running:
                yield
        finally:
            with self._lock:
                self._here[address] -= 1
                if not self._here[address]:
                    del self._here[address]


_turns = Turns()


@contextmanager
def hashing_turn() -> Iterator[None]:
    """A turn of whoever sends this request. Raises TooManySignIns."""
    with _turns.one(request.remote_addr or "nowhere"):
        yield
