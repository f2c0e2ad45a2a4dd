"""Every request has a number and a line in the log; every answer says what a browser may do with it."""

import time
import uuid

import structlog
from flask import Flask, Response, g, request

from kind_echo.web.http.cache import writes

_POLICY = "; ".join(
    (
        "default-src 'none'", "script-src 'self'", "style-src 'self' 'unsafe-inline'", "img-src 'self' data: blob:",
        "font-src 'self' data:", "connect-src 'self'", "media-src 'self' blob:",
        "base-uri 'none'", "form-action 'self'", "frame-ancestors 'none'", "object-src 'none'",
    )
)  # fmt: skip
_HEADERS = {
    "Content-Security-Policy": _POLICY,
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Permissions-Policy": "camera=(), geolocation=(), microphone=()",
}
_YEAR = 31_536_000
_log = structlog.get_logger("kind_echo.web")


def register(app: Flask) -> None:
    """Number, log and harden all that the app answers."""

    @app.before_request
    def begin() -> None:
        structlog.contextvars.clear_contextvars()
        g.request_id, g.begun = uuid.uuid4().hex, time.monotonic()
        structlog.contextvars.bind_contextvars(request=g.request_id)

    @app.after_request
    def harden(response: Response) -> Response:
        for name, value in _HEADERS.items():
            response.headers.setdefault(name, value)
        if request.is_secure:
            response.headers.setdefault("Strict-Transport-Security", f"max-age={_YEAR}")
        if request.path.startswith("/api/"):
            response.headers.setdefault("Cache-Control", "no-store")
        response.headers["X-Request-ID"] = g.get("request_id", "")
        if request.method not in ("GET", "HEAD", "OPTIONS"):
            writes.note()
        if "begun" in g and not _is_dull(response):
            # Without the query: it can hold names, and what a person looks for is theirs.
            _log.info(
                "answered", method=request.method, path=request.path, status=response.status_code,
                ms=round(1000 * (time.monotonic() - g.begun), 1),
            )  # fmt: skip
        return response


def _is_dull(response: Response) -> bool:
    return request.path in ("/healthz", "/readyz", "/metrics") and response.status_code < 400
