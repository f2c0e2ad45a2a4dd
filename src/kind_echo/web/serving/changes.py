"""Changes of runs as PostgreSQL tells them: one connection for all who listen, and no thread for any of them."""

import asyncio
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager

import psycopg
import structlog

from kind_echo.bench.runs import CHANNEL
from kind_echo.database.sessions import database_url

_AGAIN_SECONDS = 1.0
_log = structlog.get_logger("kind_echo.web")


class Listener:
    """Somebody who waits for changes of one run.

    Attributes:
        woken: set when there is something to look at: a change, or the end.
        changed: whether the run changed since it was last looked at.
        ended: the database went away, and changes may have been missed.
    """

    def __init__(self) -> None:
        self.woken = asyncio.Event()
        self.changed = False
        self.ended = False

    def change(self) -> None:
        """The run changed."""
        self.changed = True
        self.woken.set()

    def end(self) -> None:
        """Nothing more will be heard."""
        self.ended = True
        self.woken.set()


class Changes:
    """Who listens to which run, and the one connection that hears of all."""

    def __init__(self) -> None:
        self._listeners: dict[int, set[Listener]] = {}
        self._connected = False
        self._connections = 0
        self._revisions: Counter[int] = Counter()

    def revision(self, run_id: int | None) -> tuple[int, int] | None:
        """Something that is another after every change of a run, or of any; None while changes may be missed."""
        if not self._connected:
            return None
        return self._connections, self._revisions.total() if run_id is None else self._revisions[run_id]

    @contextmanager
    def listening(self, run_id: int) -> Iterator[Listener]:
        """Hear of a run's changes until the block ends; ended from the start while the database is away."""
        listener = Listener()
        if not self._connected:
            listener.end()
        self._listeners.setdefault(run_id, set()).add(listener)
        try:
            yield listener
        finally:
            waiting = self._listeners[run_id]
            waiting.discard(listener)
            if not waiting:
                del self._listeners[run_id]

    async def follow(self) -> None:
        """Hear what the database tells, for as long as the server runs; connect again whenever it has gone away."""
        while True:
            try:
                await self._hear()
            except (psycopg.Error, OSError) as error:
                if self._connected:
                    _log.warning("changes are not heard: the database is away", error=type(error).__name__)
            finally:
                self._connected = False
                for listeners in self._listeners.values():
                    for listener in listeners:
                        listener.end()
            await asyncio.sleep(_AGAIN_SECONDS)

    async def _hear(self) -> None:
        connection = await psycopg.AsyncConnection.connect(
            database_url(), autocommit=True, connect_timeout=5, keepalives_idle=10, keepalives_interval=5
        )
        async with connection:
            await connection.execute(f"LISTEN {CHANNEL}")
            self._connections += 1
            self._connected = True
            async for note in connection.notifies():
                self._revisions[int(note.payload)] += 1
                for listener in self._listeners.get(int(note.payload), ()):
                    listener.change()
