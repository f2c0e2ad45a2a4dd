"""Browsers in which a person has signed in before: guesses elsewhere do not shut those out.

Source: OWASP, Slow Down Online Guessing Attacks with Device Cookies.
"""

import secrets
from datetime import timedelta

from flask import Response, current_app, g, request
from itsdangerous import BadSignature, URLSafeTimedSerializer

COOKIE = "kind_echo_device"
_LIFETIME = timedelta(days=180)


def remember_device(name: str) -> None:
    """Have this browser known as one in which that person has signed in."""
    g.signed_in_as = name.strip().lower()


def send_device(response: Response) -> Response:
    """Send what a browser is known by, where somebody has just signed in."""
    name = g.pop("signed_in_as", None)
    if name is not None:
        held = _serializer().dumps([name, secrets.token_urlsafe(12)])
        response.set_cookie(
            COOKIE, held, max_age=_LIFETIME, path=f"{request.script_root}/", secure=request.is_secure, httponly=True,
            samesite="Strict",
        )  # fmt: skip
    return response


def device_of(name: str) -> str | None:
    """The number of this browser, where the person of that name has signed in with it; else None."""
    try:
        known, number = _serializer().loads(request.cookies.get(COOKIE, ""), max_age=int(_LIFETIME.total_seconds()))
    except (BadSignature, ValueError, TypeError):
        return None
    return str(number) if known == name.strip().lower() else None


def _serializer() -> URLSafeTimedSerializer:
    return URLSafeTimedSerializer(current_app.secret_key or "", salt="kind-echo-device")
