"""What the server and the application leave for each other with a request."""

from typing import Any

from flask import request

ADMITTED = "kind_echo.admitted"
"""A function that tells whether who asked would still be let in; from the application."""

RECEIVED = "kind_echo.received"
"""The path of a file that came as the body, whole; from the server."""


REVISION = "kind_echo.revision"
"""A function that tells how often a run, or any run for None, has changed, as far as was heard; from the server."""


def server_scope() -> dict[str, Any]:
    """What the server knows of the request; nothing behind another server."""
    scope: dict[str, Any] = request.environ.get("asgi.scope", {})
    return scope
