"""Answers that many ask for at once: made once, kept for a moment, and never more of them than a limit of bytes."""

import threading
import time
from collections.abc import Callable, Hashable, Sized
from contextlib import suppress
from dataclasses import dataclass
from typing import Any, Generic, TypeVar
from weakref import WeakValueDictionary

from cachetools import TLRUCache

Answer = TypeVar("Answer", bound=Sized)


class Writes:
    """Counts the requests that may have changed something, so that who changed it finds it changed."""

    def __init__(self) -> None:
        self.count = 0

    def note(self) -> None:
        """One more. Two threads that count at once may count one: what both wrote is committed by then."""
        self.count += 1


writes = Writes()


@dataclass(frozen=True)
class _CachedAnswer(Generic[Answer]):
    made: float
    body: Answer


class AnswerCache(Generic[Answer]):
    """Answers by key; the length of one is the bytes that it takes.

    Args:
        most_bytes: of all answers together; the ones not asked for the longest go first.
        seconds: how old an answer may be, from before it was made: what changes meanwhile may not be in it.
    """

    def __init__(self, most_bytes: int, seconds: float) -> None:
        self._kept: TLRUCache[Hashable, _CachedAnswer[Answer]] = TLRUCache(
            most_bytes,
            ttu=lambda _, kept, __: kept.made + seconds,
            timer=time.monotonic,
            getsizeof=lambda kept: len(kept.body),
        )
        self._making: WeakValueDictionary[Hashable, Any] = WeakValueDictionary()
        self._lock = threading.Lock()

    def get(self, key: Hashable, make: Callable[[], Answer]) -> Answer:
        """The answer of a key; `make` is called by one of all who ask for it, and the others wait for that one."""
        with self._lock:
            making = self._making.setdefault(key, threading.Lock())
        with making:
            with self._lock:
                kept = self._kept.get(key)
            if kept is not None:
                return kept.body
            made = time.monotonic()
            body = make()
            with self._lock, suppress(ValueError):  # one that is greater than all of the cache is not kept
                self._kept[key] = _CachedAnswer(made, body)
        return body
