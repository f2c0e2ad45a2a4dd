"""Bodies of requests: limited before they are read, and read whole before a thread is given to them."""

import asyncio
import json
import os
import re
import shutil
import tempfile
import time
from collections.abc import Callable, Iterable, MutableMapping
from contextlib import suppress
from pathlib import Path
from typing import Any

from kind_echo.audio_io.temporary import NoTemporarySpace, is_out_of_space
from kind_echo.bench.signals import MOST_BYTES
from kind_echo.web.http.problems import status_of
from kind_echo.web.http.scope import RECEIVED
from kind_echo.web.security.reach import BodyKind, body_of
from kind_echo.web.serving.streams import Application, Message, Receive, Send

MOST_JSON = 2 << 20
"""Bytes of a body that is no file."""

MOST_OFFERED = 8 << 20
"""Bytes of what a machine says that it has: hundreds of effects, each with its parameters."""

MOST_UNSIGNED = 1 << 16
"""Bytes of a body from who has not been let in: names, passwords and links are short."""

MOST_TOGETHER = 64 << 20
"""Bytes of all bodies together that are held in memory; what comes beyond them is to come again."""

_AGAIN_SECONDS = 2
_BUSY = "The server holds as much of other requests as it may. Nothing was kept; send it again in a moment."

_SILENT_SECONDS = 20.0  # without a byte of the body
_LEAST_RATE = 4096  # bytes a second, once it has taken a while
_GRACE_SECONDS = 30.0
_READ_ON_SECONDS = 120.0
_IN_THE_MIDST = (503, 507)  # refusals that come while a body is on its way
_FORMS = (b"multipart/", b"application/x-www-form-urlencoded")


class _Refused(Exception):
    def __init__(self, status: int, title: str, detail: str) -> None:
        self.status, self.title, self.detail = status, title, detail


class _ClientGone(Exception):
    """Whoever sent it is gone."""


class Room:
    """How much memory the bodies of all requests may still take; of one event loop, which takes turns by itself."""

    def __init__(self, most: int) -> None:
        self.left = most

    def take(self, size: int) -> None:
        """Take some of it. Raises _Refused where there is not as much."""
        if size > self.left:
            raise _Refused(503, "ServerBusy", _BUSY)
        self.left -= size


class _Held:
    """What one request holds of the room."""

    def __init__(self, room: Room) -> None:
        self._room, self._size = room, 0

    def add(self, size: int) -> None:
        """Hold more. Raises _Refused."""
        self._room.take(size)
        self._size += size

    def let_go(self) -> None:
        """Hold nothing any more."""
        self._room.left += self._size
        self._size = 0


class Bodies:
    """Gives the application bodies that are there already; whoever sends slowly holds a socket and no thread."""

    def __init__(self, application: Application, admits: Callable[[MutableMapping[str, Any]], bool]) -> None:
        """Stand before an application.

        Args:
            admits: whether the application would let in who sends a request; asked, in a thread, before a file or a
                large body is read.
        """
        self._application, self._admits = application, admits
        self._room = Room(MOST_TOGETHER)

    async def __call__(self, scope: MutableMapping[str, Any], receive: Receive, send: Send) -> None:
        """One request."""
        if scope["type"] != "http" or scope["method"] in ("GET", "HEAD", "OPTIONS"):
            await self._application(scope, receive, send)
            return
        folder, held = None, _Held(self._room)
        try:
            headers = dict(scope["headers"])
            kind = body_of(scope["method"], scope["path"])
            is_file = kind == "file"
            length = _length(headers, kind)
            is_large = is_file or length is None or length > MOST_UNSIGNED
            if is_large and not await asyncio.to_thread(self._admits, scope):
                if not is_file and length is None:
                    body = await _receive_small(receive, MOST_UNSIGNED, held)  # whoever signs in may not say how much
                else:
                    body = b""  # the application says why not; nothing is read for whoever is not let in
            elif is_file and length is not None:
                folder = Path(tempfile.mkdtemp(prefix=f"kind-echo-{os.getpid()}-"))
                scope[RECEIVED] = folder / "upload"
                body = b""
                await _receive_file(receive, length, folder / "upload")
            else:
                # A file that does not say how long it is will be refused, and is not to fill the memory first.
                body = await _receive_small(receive, min(_most(headers, kind), MOST_OFFERED), held)
            await self._application(scope, _once(body, receive), send)
        except _Refused as refused:
            await _answer(send, refused, receive)
        except _ClientGone:
            return
        except OSError as error:
            if not is_out_of_space(error):
                raise
            full = NoTemporarySpace()
            await _answer(send, _Refused(status_of(full), type(full).__name__, str(full)), receive)
        finally:
            held.let_go()
            if folder is not None:
                await asyncio.to_thread(shutil.rmtree, folder, ignore_errors=True)


def _most(headers: dict[bytes, bytes], kind: BodyKind) -> int:
    """Bytes that a body may have."""
    if b"cookie" not in headers and b"authorization" not in headers:
        return MOST_UNSIGNED
    return {"json": MOST_JSON, "offers": MOST_OFFERED, "file": MOST_BYTES}[kind]


def _length(headers: dict[bytes, bytes], kind: BodyKind) -> int | None:
    """How long the body will be, as far as that is said. Raises _Refused for one that is not taken."""
    if headers.get(b"content-type", b"").lower().startswith(_FORMS):
        raise _Refused(415, "UnsupportedMediaType", "Forms are not taken: send JSON, or a file as the whole body.")
    text = headers.get(b"content-length")
    if text is None:
        return None
    length = int(text) if text.isdigit() and len(text) < 19 else MOST_BYTES + 1
    most = _most(headers, kind)
    if length > most:
        words = f"{most / 1e9:.1f} GB" if most >= 1e9 else f"{most // 1024} kB"
        raise _Refused(413, "TooLarge", f"The body has {length} bytes, and {words} are taken; nothing was kept.")
    return length


class _Pace:
    """Holds a sender to a least pace."""

    def __init__(self) -> None:
        self._begun = time.monotonic()
        self.received = 0

    async def next(self, receive: Receive) -> tuple[bytes, bool]:
        """The next piece, and whether more is to come. Raises _Refused, _ClientGone."""
        try:
            message = await asyncio.wait_for(receive(), _SILENT_SECONDS)
        except TimeoutError:
            raise self._slow() from None
        if message["type"] == "http.disconnect":
            raise _ClientGone
        piece: bytes = message.get("body", b"")
        self.received += len(piece)
        taken = time.monotonic() - self._begun
        if taken > _GRACE_SECONDS and self.received < _LEAST_RATE * taken:
            raise self._slow()
        return piece, bool(message.get("more_body", False))

    def _slow(self) -> _Refused:
        words = f"The request came too slowly: {self.received} bytes of its body arrived; nothing was kept."
        return _Refused(408, "TooSlow", words)


async def _receive_small(receive: Receive, most: int, held: _Held) -> bytes:
    pace, pieces, more = _Pace(), [], True
    while more:
        piece, more = await pace.next(receive)
        held.add(len(piece))
        pieces.append(piece)
        if pace.received > most:
            raise _Refused(413, "TooLarge", f"The body has more than {most // 1024} kB; nothing was kept.")
    return b"".join(pieces)


async def _receive_file(receive: Receive, length: int, path: Path) -> None:
    """Write a body to a file; no more than it was said to be."""
    pace, more = _Pace(), True
    with path.open("wb") as file:
        while more and pace.received <= length:
            piece, more = await pace.next(receive)
            await asyncio.to_thread(file.write, piece)


def _once(body: bytes, receive: Receive) -> Receive:
    """What the application receives: the body, then what comes after it."""
    waiting: Iterable[Message] = iter([{"type": "http.request", "body": body, "more_body": False}])

    async def given() -> Message:
        return next(iter(waiting), None) or await receive()

    return given


async def _answer(send: Send, refused: _Refused, receive: Receive) -> None:
    """A problem as the application would send it (RFC 9457); then the connection ends.

    What was begun to be sent is read to its end first, and thrown away: a connection that is closed on what has not
    been read takes the answer with it.
    """
    slug = re.sub(r"(?<=[a-z])(?=[A-Z])", "-", refused.title).lower()
    body = json.dumps(
        {
            "type": f"urn:kind-echo:problem:{slug}",
            "title": refused.title,
            "status": refused.status,
            "detail": refused.detail,
        }
    ).encode()
    headers = [
        (b"content-type", b"application/problem+json"),
        (b"content-length", str(len(body)).encode()),
        (b"cache-control", b"no-store"),
        (b"x-content-type-options", b"nosniff"),
        (b"connection", b"close"),
    ]
    if refused.status == 503:
        headers.append((b"retry-after", str(_AGAIN_SECONDS).encode()))
    await send({"type": "http.response.start", "status": refused.status, "headers": headers})
    await send({"type": "http.response.body", "body": body, "more_body": refused.status in _IN_THE_MIDST})
    if refused.status in _IN_THE_MIDST:
        await _read_on(receive)
        await send({"type": "http.response.body", "body": b"", "more_body": False})


async def _read_on(receive: Receive) -> None:
    """Read what still comes of a body, for a while."""
    until, pace, more = time.monotonic() + _READ_ON_SECONDS, _Pace(), True
    with suppress(_ClientGone, _Refused):
        while more and time.monotonic() < until:
            _, more = await pace.next(receive)
