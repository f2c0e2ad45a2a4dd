"""How often who may try to come in, and send files; counted in this process's memory."""

from typing import Any

from flask import Flask, request
from flask_limiter import Limiter

from kind_echo.web.security.doors import caller, nobody

_SIGN_IN_LIMIT = "10 per minute; 100 per hour"
_UPLOAD_LIMIT = "240 per minute"
_UPLOADS = ("/api/uploads", "/api/signals/file", "/api/runs/<int:run_id>/kit/files")
_SIGN_INS = ("/api/sign-in", "/api/links/open", "/api/links/use", "/api/me/password")


def limit_rates(app: Flask) -> None:
    """Slow down who guesses at ways in or floods the server with files; to be called when all routes are there."""
    limiter = Limiter(_caller_key, app=app, storage_uri="memory://", strategy="moving-window")
    views: dict[str, Any] = dict(app.view_functions)
    for rule in app.url_map.iter_rules():
        view = views[rule.endpoint]
        if rule.rule in _SIGN_INS:
            view = limiter.limit(_SIGN_IN_LIMIT, key_func=_address)(view)
            if rule.rule == "/api/sign-in":
                view = limiter.limit(_SIGN_IN_LIMIT, key_func=_name_tried)(view)
            app.view_functions[rule.endpoint] = view
        elif rule.rule in _UPLOADS:
            app.view_functions[rule.endpoint] = limiter.limit(_UPLOAD_LIMIT)(view)


def _address() -> str:
    return request.remote_addr or "nowhere"


def _name_tried() -> str:
    body = request.get_json(silent=True)
    name = body.get("name") if isinstance(body, dict) else None
    return f"name {str(name).strip().lower()[:80]}"


def _caller_key() -> str:
    return caller().name if not nobody() else _address()
