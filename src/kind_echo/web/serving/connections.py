"""Connections: how many there may be, of one address and in all, and how long one may take to say what it wants."""

import asyncio
import os
import resource
from collections import Counter
from dataclasses import dataclass
from typing import ClassVar

from uvicorn.protocols.http.h11_impl import H11Protocol

from kind_echo.core.registry.errors import BadParameter
from kind_echo.web.security.sessions import PROXIES_VARIABLE

CONNECTIONS_VARIABLE = "KIND_ECHO_CONNECTIONS"
"""How many connections there may be in all, and of one address: as 1000/200."""

_IN_ALL, _OF_AN_ADDRESS = 1000, 200
_OTHER_FILES = 512  # that a server has open beside its connections: to the database, for uploads, of the page
_HEAD_SECONDS = 15.0
_FULL = b"HTTP/1.1 503 Service Unavailable\r\nretry-after: 5\r\nconnection: close\r\ncontent-length: 0\r\n\r\n"


@dataclass(frozen=True)
class ConnectionLimits:
    """The most connections at one time; of one address None where a proxy stands before all."""

    in_all: int
    of_an_address: int | None


def limits_of_connections() -> ConnectionLimits:
    """What the environment says, or the usual. Behind a proxy all come from its address. Raises BadParameter."""
    said = os.environ.get(CONNECTIONS_VARIABLE, f"{_IN_ALL}/{_OF_AN_ADDRESS}")
    in_all, _, each = said.partition("/")
    if not (in_all.isdigit() and each.isdigit() and 1 <= int(each) <= int(in_all) <= 100_000):
        raise BadParameter(CONNECTIONS_VARIABLE, said, "two numbers as 1000/200, the first from 1 to 100000")
    behind = os.environ.get(PROXIES_VARIABLE, "0") != "0"
    return ConnectionLimits(int(in_all), None if behind else int(each))


def allow_files(connections: int) -> None:
    """Let this process have as many files open as so many connections need, where the system lets it."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = connections + _OTHER_FILES
    if soft != resource.RLIM_INFINITY and soft < wanted:
        most = wanted if hard == resource.RLIM_INFINITY else min(wanted, hard)
        resource.setrlimit(resource.RLIMIT_NOFILE, (most, hard))


class LimitedProtocol(H11Protocol):
    """HTTP/1.1 that takes no more connections than it may, and closes one whose request's head does not come."""

    limits: ClassVar[ConnectionLimits] = ConnectionLimits(_IN_ALL, _OF_AN_ADDRESS)
    _open: ClassVar[Counter[str]] = Counter()

    _late: asyncio.TimerHandle | None = None
    _address: str | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """Begin to wait for a head, or send away who is one too many."""
        super().connection_made(transport)
        peer = transport.get_extra_info("peername")
        address = str(peer[0]) if isinstance(peer, tuple) else ""  # of a socket in the file system there is none
        most = self.limits.of_an_address if address else None
        if self._open.total() >= self.limits.in_all or (most is not None and self._open[address] >= most):
            transport.write(_FULL)
            transport.close()
            return
        self._address = address
        self._open[address] += 1
        self._late = self.loop.call_later(_HEAD_SECONDS, self._give_up)

    def data_received(self, data: bytes) -> None:
        """Wait on while a head is half there."""
        if self._address is None:
            return
        waited = self.cycle
        super().data_received(data)
        if self.cycle is not waited:
            self._stop_waiting()
        elif self._late is None and self.cycle is not None and self.cycle.response_complete:
            self._late = self.loop.call_later(_HEAD_SECONDS, self._give_up)

    def connection_lost(self, exc: Exception | None) -> None:
        """Nobody is waited for."""
        self._stop_waiting()
        if self._address is not None:
            self._open[self._address] -= 1
            if not self._open[self._address]:
                del self._open[self._address]
            self._address = None
        super().connection_lost(exc)

    def _stop_waiting(self) -> None:
        if self._late is not None:
            self._late.cancel()
            self._late = None

    def _give_up(self) -> None:
        self._late = None
        if not self.transport.is_closing():
            self.transport.close()
