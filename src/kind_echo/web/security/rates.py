"""How often who may try to sign in, and send files."""

from typing import Any

from flask import Flask, Response, request
from flask_limiter import Limiter

from kind_echo.web.security.attempts import ADDRESS
from kind_echo.web.security.doors import caller, nobody

_SIGN_IN_LIMIT = "10 per minute; 100 per hour"
_NAME_LIMIT = "100 per hour"
"""Of wrong passwords for one name from wherever they come; NIST SP 800-63B, rate limiting: at most 100 in a row.

Much more than one address may try, so that a stranger who knows a name does not lock the person out elsewhere.
"""

_UPLOAD_LIMIT = "240 per minute"
_UPLOADS = ("/api/uploads", "/api/signals/file", "/api/runs/<int:run_id>/kit/files")
_SIGN_INS = ("/api/sign-in", "/api/links/open", "/api/links/use", "/api/me/password")


def limit_rates(app: Flask) -> None:
    """Slow down who guesses at ways in or floods the server with files; to be called when all routes are there."""
    limiter = Limiter(_caller_key, app=app, storage_uri=ADDRESS, strategy="moving-window")
    views: dict[str, Any] = dict(app.view_functions)
    for rule in app.url_map.iter_rules():
        view = views[rule.endpoint]
        if rule.rule in _SIGN_INS:
            key = _address
            if rule.rule == "/api/sign-in":
                key = _address_and_name
                view = limiter.limit(_NAME_LIMIT, key_func=_name_tried, deduct_when=_failed)(view)
            view = limiter.limit(_SIGN_IN_LIMIT, key_func=key, deduct_when=_failed)(view)
            app.view_functions[rule.endpoint] = view
        elif rule.rule in _UPLOADS:
            app.view_functions[rule.endpoint] = limiter.limit(_UPLOAD_LIMIT)(view)


def _address() -> str:
    return request.remote_addr or "nowhere"


def _failed(response: Response) -> bool:
    """Who comes in has not guessed."""
    return response.status_code >= 400


def _address_and_name() -> str:
    return f"{_address()}, {_name_tried()}"


def _name_tried() -> str:
    body = request.get_json(silent=True)
    name = body.get("name") if isinstance(body, dict) else None
    return f"name {str(name).strip().lower()[:80]}"


def _caller_key() -> str:
    return caller().name if not nobody() else _address()
