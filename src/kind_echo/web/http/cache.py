"""Answers that many ask for at once: made once, kept for a moment, and never more of them than a limit of bytes."""

import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Hashable, Sized
from dataclasses import dataclass, field
from typing import Generic, TypeVar

Answer = TypeVar("Answer", bound=Sized)


class Writes:
    """Counts the requests that may have changed something, so that who changed it finds it changed."""

    def __init__(self) -> None:
        self.count = 0

    def note(self) -> None:
        """One more. Two threads that count at once may count one: what both wrote is committed by then."""
        self.count += 1


writes = Writes()


@dataclass
class _Entry(Generic[Answer]):
    making: threading.Lock = field(default_factory=threading.Lock)
    body: Answer | None = None
    made: float = 0.0

    @property
    def size(self) -> int:
        return len(self.body) if self.body is not None else 0


class AnswerCache(Generic[Answer]):
    """Answers by key; the length of one is the bytes that it takes.

    Args:
        most_bytes: of all answers together; the ones not asked for the longest go first.
        seconds: how old an answer may be.
    """

    def __init__(self, most_bytes: int, seconds: float) -> None:
        self._most_bytes, self._seconds = most_bytes, seconds
        self._entries: OrderedDict[Hashable, _Entry[Answer]] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: Hashable, make: Callable[[], Answer]) -> Answer:
        """The answer of a key; `make` is called by one of all who ask for it, and the others wait for that one."""
        with self._lock:
            entry = self._entries.setdefault(key, _Entry())
            self._entries.move_to_end(key)
        with entry.making:
            if entry.body is not None and time.monotonic() - entry.made < self._seconds:
                return entry.body
            # Counted from before it is made: what changes meanwhile may not be in it.
            made = time.monotonic()
            try:
                body = make()
            except BaseException:
                self._forget(key, entry)
                raise
            entry.body, entry.made = body, made
        self._trim()
        return body

    def _forget(self, key: Hashable, entry: _Entry[Answer]) -> None:
        """What could not be made takes no place: keys that are refused are without number."""
        with self._lock:
            if self._entries.get(key) is entry:
                del self._entries[key]

    def _trim(self) -> None:
        with self._lock:
            held = sum(entry.size for entry in self._entries.values())
            while held > self._most_bytes and len(self._entries) > 1:
                _, oldest = self._entries.popitem(last=False)
                held -= oldest.size
