"""Server-sent events: a stream to each who watches a run, which costs a socket and no thread."""

import asyncio
from collections.abc import Awaitable, Callable, MutableMapping
from contextlib import suppress
from typing import Any

from kind_echo.web.http.scope import ADMITTED
from kind_echo.web.security.reach import streamed_run
from kind_echo.web.serving.changes import Changes, Listener

Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
Application = Callable[[MutableMapping[str, Any], Receive, Send], Awaitable[None]]

_HEARTBEAT_SECONDS = 10.0
_PAUSE_SECONDS = 0.1  # cells change in bursts, and one look serves for all of them
_CHANGE = b"event: change\ndata: {}\n\n"
_STILL_HERE = b": still here\n\n"


class Streams:
    """Answers for streams of events itself, once the application has let the one who asks in; passes on all else."""

    def __init__(self, application: Application, changes: Changes) -> None:
        self._application, self._changes = application, changes

    async def __call__(self, scope: MutableMapping[str, Any], receive: Receive, send: Send) -> None:
        """One request."""
        asked = streamed_run(scope["method"], scope["path"]) if scope["type"] == "http" else None
        if asked is None:
            await self._application(scope, receive, send)
            return
        with self._changes.listening(asked) as listener:
            if await self._begin(scope, send):
                await _stream(listener, scope.get(ADMITTED), receive, send)

    async def _begin(self, scope: MutableMapping[str, Any], send: Send) -> bool:
        """Let the application answer; whether it let them in. Its answer then is the head of the stream."""
        status = 0

        async def nothing() -> Message:
            return {"type": "http.request", "body": b"", "more_body": False}

        async def forward(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = int(message["status"])
                if status == 200:
                    headers = [(name, value) for name, value in message["headers"] if name != b"content-length"]
                    message = {**message, "headers": headers}
            elif status == 200:
                message = {**message, "more_body": True}
            await send(message)

        await self._application(scope, nothing, forward)
        return status == 200


async def _stream(listener: Listener, admitted: Callable[[], bool] | None, receive: Receive, send: Send) -> None:
    """Tell of changes until the one who listens leaves, is shut out, or the database goes away."""
    gone = asyncio.create_task(_left(receive))
    try:
        while not (gone.done() or listener.ended):
            woken = asyncio.create_task(listener.woken.wait())
            await asyncio.wait({woken, gone}, timeout=_HEARTBEAT_SECONDS, return_when=asyncio.FIRST_COMPLETED)
            woken.cancel()
            listener.woken.clear()
            if gone.done() or listener.ended:
                break
            if listener.changed:
                listener.changed = False
                await send({"type": "http.response.body", "body": _CHANGE, "more_body": True})
                await asyncio.sleep(_PAUSE_SECONDS)
            elif admitted is not None and not await asyncio.to_thread(_is_admitted, admitted):
                break
            else:
                await send({"type": "http.response.body", "body": _STILL_HERE, "more_body": True})
        if not gone.done():
            await send({"type": "http.response.body", "body": b"", "more_body": False})
    finally:
        gone.cancel()
        with suppress(asyncio.CancelledError):
            await gone


def _is_admitted(admitted: Callable[[], bool]) -> bool:
    """Not while the database cannot be asked."""
    try:
        return admitted()
    except Exception:
        return False


async def _left(receive: Receive) -> None:
    while (await receive())["type"] != "http.disconnect":
        pass
