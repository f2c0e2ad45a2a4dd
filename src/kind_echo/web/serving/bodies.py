"""Bodies of requests: limited before they are read, and read whole before a thread is given to them."""

import asyncio
import errno
import json
import os
import re
import shutil
import tempfile
import time
from collections.abc import Callable, Iterable, MutableMapping
from pathlib import Path
from typing import Any

from kind_echo.bench.signals import MOST_BYTES
from kind_echo.web.http.scope import RECEIVED
from kind_echo.web.serving.streams import Application, Message, Receive, Send

_FILES = re.compile(r"/api/(uploads|signals/file|runs/\d+/kit/files|machines/\d+/jobs/\d+/render)")
MOST_JSON = 2 << 20
"""Bytes of a body that is no file."""

_OFFERS = re.compile(r"/api/machines(/\d+/presence)?")
MOST_OFFERED = 8 << 20
"""Bytes of what a machine says that it has: hundreds of effects, each with its parameters."""

MOST_UNSIGNED = 1 << 16
"""Bytes of a body from who shows neither a session nor a token: names, passwords and links are short."""

_SILENT_SECONDS = 20.0  # without a byte of the body
_LEAST_RATE = 4096  # bytes a second, once it has taken a while
_GRACE_SECONDS = 30.0
_FULL = "The disk for temporary files is full; nothing was kept. Send it again when there is space."
_FORMS = (b"multipart/", b"application/x-www-form-urlencoded")


class _Refused(Exception):
    def __init__(self, status: int, title: str, detail: str) -> None:
        self.status, self.title, self.detail = status, title, detail


class _Left(Exception):
    """Whoever sent it is gone."""


class Bodies:
    """Gives the application bodies that are there already; whoever sends slowly holds a socket and no thread."""

    def __init__(self, application: Application, admits: Callable[[MutableMapping[str, Any]], bool]) -> None:
        """Stand before an application.

        Args:
            admits: whether the application would let in who sends a request; asked, in a thread, before a file is read.
        """
        self._application, self._admits = application, admits

    async def __call__(self, scope: MutableMapping[str, Any], receive: Receive, send: Send) -> None:
        """One request."""
        if scope["type"] != "http" or scope["method"] in ("GET", "HEAD", "OPTIONS"):
            await self._application(scope, receive, send)
            return
        folder = None
        try:
            headers = dict(scope["headers"])
            length = _length(headers, scope["path"])
            is_file = _FILES.fullmatch(scope["path"]) is not None
            if is_file and not await asyncio.to_thread(self._admits, scope):
                body = b""  # the application says why not; nothing of a file is read for whoever is not let in
            elif is_file and length is not None:
                folder = Path(tempfile.mkdtemp(prefix=f"kind-echo-{os.getpid()}-"))
                scope[RECEIVED] = folder / "upload"
                body = b""
                await _receive_file(receive, length, folder / "upload")
            else:
                # A file that does not say how long it is will be refused, and is not to fill the memory first.
                body = await _receive_small(receive, min(_most(headers, scope["path"]), MOST_OFFERED))
            await self._application(scope, _once(body, receive), send)
        except _Refused as refused:
            await _answer(send, refused)
        except _Left:
            return
        except OSError as error:
            if error.errno != errno.ENOSPC:
                raise
            await _answer(send, _Refused(507, "DiskFull", _FULL))
        finally:
            if folder is not None:
                await asyncio.to_thread(shutil.rmtree, folder, ignore_errors=True)


def _most(headers: dict[bytes, bytes], path: str) -> int:
    """Bytes that a body may have."""
    if b"cookie" not in headers and b"authorization" not in headers:
        return MOST_UNSIGNED
    if _FILES.fullmatch(path):
        return MOST_BYTES
    return MOST_OFFERED if _OFFERS.fullmatch(path) else MOST_JSON


def _length(headers: dict[bytes, bytes], path: str) -> int | None:
    """How long the body will be, as far as that is said. Raises _Refused for one that is not taken."""
    if headers.get(b"content-type", b"").lower().startswith(_FORMS):
        raise _Refused(415, "UnsupportedMediaType", "Forms are not taken: send JSON, or a file as the whole body.")
    text = headers.get(b"content-length")
    if text is None:
        return None
    length = int(text) if text.isdigit() and len(text) < 19 else MOST_BYTES + 1
    most = _most(headers, path)
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
        """The next piece, and whether more is to come. Raises _Refused, _Left."""
        try:
            message = await asyncio.wait_for(receive(), _SILENT_SECONDS)
        except TimeoutError:
            raise self._slow() from None
        if message["type"] == "http.disconnect":
            raise _Left
        piece: bytes = message.get("body", b"")
        self.received += len(piece)
        taken = time.monotonic() - self._begun
        if taken > _GRACE_SECONDS and self.received < _LEAST_RATE * taken:
            raise self._slow()
        return piece, bool(message.get("more_body", False))

    def _slow(self) -> _Refused:
        words = f"The request came too slowly: {self.received} bytes of its body arrived; nothing was kept."
        return _Refused(408, "TooSlow", words)


async def _receive_small(receive: Receive, most: int) -> bytes:
    pace, pieces, more = _Pace(), [], True
    while more:
        piece, more = await pace.next(receive)
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


async def _answer(send: Send, refused: _Refused) -> None:
    """A problem as the application would send it (RFC 9457); the connection ends, for more may be on its way."""
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
    await send({"type": "http.response.start", "status": refused.status, "headers": headers})
    await send({"type": "http.response.body", "body": body, "more_body": False})
