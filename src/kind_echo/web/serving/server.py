"""The server: one process that holds any number of connections, with a few threads for what they ask."""

import asyncio
import gc
import io
import os
from collections.abc import MutableMapping
from contextlib import suppress
from typing import Any

import structlog
import uvicorn
from a2wsgi import WSGIMiddleware
from a2wsgi.wsgi import build_environ

from kind_echo.core.registry.extensions import load_extensions
from kind_echo.logs import set_up_logs
from kind_echo.web.app import create_app
from kind_echo.web.http.scope import REVISION
from kind_echo.web.security.doors import is_admitted_by_headers
from kind_echo.web.security.sessions import SECRET_VARIABLE
from kind_echo.web.serving.bodies import Bodies
from kind_echo.web.serving.changes import Changes
from kind_echo.web.serving.connections import LimitedProtocol, allow_files, limits_of_connections
from kind_echo.web.serving.streams import Application, Receive, Send, Streams

_LONGEST_HEAD = 32 << 10  # bytes
_STOP_SECONDS = 5
_BACKLOG = 2048


def build(threads: int) -> Application:
    """The whole application: streams and bodies beside, threads for all that is computed or asked of the database."""
    changes, app = Changes(), create_app()
    answering = WSGIMiddleware(app, workers=threads)  # type: ignore[arg-type]

    def admits(scope: MutableMapping[str, Any]) -> bool:
        with app.request_context(build_environ(scope, io.BytesIO())):  # type: ignore[arg-type]
            return is_admitted_by_headers(app)

    served = Bodies(Streams(answering, changes), admits)  # type: ignore[arg-type]

    async def application(scope: MutableMapping[str, Any], receive: Receive, send: Send) -> None:
        if scope["type"] == "lifespan":
            await _live(changes, receive, send)
        elif scope["type"] == "http":
            scope[REVISION] = changes.revision
            await served(scope, receive, send)
        else:
            await send({"type": "websocket.close", "code": 1000})

    return application


async def _live(changes: Changes, receive: Receive, send: Send) -> None:
    """From the start of the server to its end."""
    await receive()
    following = asyncio.create_task(changes.follow())
    await send({"type": "lifespan.startup.complete"})
    await receive()
    following.cancel()
    with suppress(asyncio.CancelledError):
        await following
    await send({"type": "lifespan.shutdown.complete"})


def collect_garbage_seldom() -> None:
    """A large sheet is tens of thousands of objects that all live: looking for garbage among them takes a quarter."""
    gc.set_threshold(50_000)


def serve(bind: str, threads: int) -> None:
    """Answer until the process is told to stop.

    Args:
        bind: address and port, or unix: and the path of a socket.
        threads: requests that are computed at once; connections are not counted.

    Raises:
        BadParameter: the environment allows connections that are none.
    """
    set_up_logs()
    load_extensions()
    collect_garbage_seldom()
    if not os.environ.get(SECRET_VARIABLE):
        structlog.get_logger("kind_echo.web").warning(f"{SECRET_VARIABLE} is not set: sessions end with this process")
    limits = limits_of_connections()
    LimitedProtocol.limits = limits
    allow_files(limits.in_all)
    host, _, port = bind.rpartition(":")
    place: dict[str, Any] = {"uds": port} if host == "unix" else {"host": host.strip("[]"), "port": int(port)}
    config = uvicorn.Config(
        build(threads), **place, http=LimitedProtocol, ws="none", loop="asyncio", lifespan="on", backlog=_BACKLOG,
        h11_max_incomplete_event_size=_LONGEST_HEAD, timeout_graceful_shutdown=_STOP_SECONDS,
        # Who asks is told by the proxy to the application, where an operator has said that there is one.
        proxy_headers=False, server_header=False, access_log=False, log_config=None,
    )  # fmt: skip
    uvicorn.Server(config).run()
