"""How often who may try to sign in, and send files."""

from typing import Any

from flask import Flask, Response, request
from flask_limiter import Limiter

from kind_echo.web.security.attempts import ADDRESS
from kind_echo.web.security.devices import device_of, send_device
from kind_echo.web.security.doors import caller, nobody

_SIGN_IN_LIMIT = "10 per minute; 30 per hour"
"""Of wrong passwords for one name from one address, or from one browser that its person has signed in with."""

_ADDRESS_LIMIT = "30 per minute; 200 per hour"
"""Of wrong passwords for all names from one address, which may be that of a whole office."""

_NAME_LIMIT = "100 per hour"
"""Of wrong passwords for one name from wherever they come; NIST SP 800-63B, rate limiting: at most 100 in a row.

More than three times what one address may try, so that a stranger who knows a name does not lock its person out
elsewhere; and it holds for no browser that the person has signed in with before.
"""

_UPLOAD_LIMIT = "240 per minute"
_UPLOADS = ("/api/uploads", "/api/signals/file", "/api/runs/<int:run_id>/kit/files")
_LINKS = ("/api/links/open", "/api/links/use", "/api/me/password")


def limit_rates(app: Flask) -> None:
    """Slow down who guesses at ways in or floods the server with files; to be called when all routes are there."""
    limiter = Limiter(_caller_key, app=app, storage_uri=ADDRESS, strategy="moving-window")
    app.after_request(send_device)

    def guesses(limit: str, key: Any, **also: Any) -> Any:
        return limiter.limit(limit, key_func=key, deduct_when=_was_wrong, **also)

    views: dict[str, Any] = dict(app.view_functions)
    for rule in app.url_map.iter_rules():
        view = views[rule.endpoint]
        if rule.rule == "/api/sign-in":
            view = guesses(_NAME_LIMIT, _name_tried, exempt_when=_is_known_device)(view)
            view = guesses(_ADDRESS_LIMIT, _address, exempt_when=_is_known_device)(view)
            app.view_functions[rule.endpoint] = guesses(_SIGN_IN_LIMIT, _name_and_place)(view)
        elif rule.rule in _LINKS:
            app.view_functions[rule.endpoint] = guesses(_SIGN_IN_LIMIT, _address)(view)
        elif rule.rule in _UPLOADS:
            app.view_functions[rule.endpoint] = limiter.limit(_UPLOAD_LIMIT)(view)


def _address() -> str:
    return f"address {request.remote_addr or 'nowhere'}"


def _was_wrong(response: Response) -> bool:
    """Who comes in has not guessed, nor who was told to come again."""
    return response.status_code == 401


def _name() -> str:
    body = request.get_json(silent=True)
    name = body.get("name") if isinstance(body, dict) else None
    return str(name).strip().lower()[:80]


def _name_tried() -> str:
    return f"name {_name()}"


def _is_known_device() -> bool:
    return device_of(_name()) is not None


def _name_and_place() -> str:
    device = device_of(_name())
    return f"{_address() if device is None else f'device {device}'}, {_name_tried()}"


def _caller_key() -> str:
    return caller().name if not nobody() else _address()
