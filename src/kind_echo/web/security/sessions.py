"""Sessions: what signs them, how their cookies are set, and what a proxy before the server is believed of them."""

import os
import secrets
from datetime import UTC, datetime, timedelta
from pathlib import Path

from flask import Flask, request, session
from flask.sessions import SecureCookieSessionInterface
from werkzeug.middleware.proxy_fix import ProxyFix

from kind_echo.core.registry.errors import KindEchoError

SECRET_VARIABLE = "KIND_ECHO_SECRET_FILE"
"""Names the file with the key that signs sessions; it must be readable by its owner alone."""

PROXIES_VARIABLE = "KIND_ECHO_PROXIES"
"""How many reverse proxies stand before the server; their headers are believed only when it says so."""

SESSION_LIFETIME = timedelta(days=7)

_DAY = "day"


class BadSecretFile(KindEchoError):
    """The file with the key that signs sessions is not fit to hold it."""


class CannotCountSignIns(KindEchoError):
    """What stands before the server is described so that it cannot be told who asks."""


def keep_sessions(app: Flask) -> None:
    """Sign sessions with the key of the installation, and keep their cookies from scripts and from other pages.

    Raises BadSecretFile, CannotCountSignIns.
    """
    app.secret_key = _secret_key()
    app.session_interface = _Sessions()
    app.config.update(
        SESSION_COOKIE_NAME="kind_echo", SESSION_COOKIE_HTTPONLY=True, SESSION_COOKIE_SAMESITE="Strict",
        PERMANENT_SESSION_LIFETIME=SESSION_LIFETIME, SESSION_REFRESH_EACH_REQUEST=False,
    )  # fmt: skip
    proxies = _proxies()
    if proxies:
        app.wsgi_app = ProxyFix(  # type: ignore[method-assign]
            app.wsgi_app, x_for=proxies, x_proto=proxies, x_host=proxies, x_prefix=proxies
        )


def renew_session() -> None:
    """Begin the lifetime of the session anew, once a day.

    With each answer, one that was on its way while somebody signed out would bring the old cookie back.
    """
    today = datetime.now(UTC).date().isoformat()
    if session.permanent and session.get(_DAY) != today:
        session[_DAY] = today


class _Sessions(SecureCookieSessionInterface):
    """Cookies that are for HTTPS alone where the page came by it, and for the path under which the server stands."""

    def get_cookie_secure(self, app: Flask) -> bool:
        """Whether this request came by HTTPS."""
        return request.is_secure

    def get_cookie_path(self, app: Flask) -> str:
        """Where a proxy has put the server."""
        return f"{request.script_root}/"


def _secret_key() -> str:
    named = os.environ.get(SECRET_VARIABLE)
    if not named:
        return secrets.token_urlsafe(48)
    path = Path(named)
    try:
        open_to_others = path.stat().st_mode & 0o077
        key = path.read_text().strip()
    except OSError as error:
        raise BadSecretFile(f"{SECRET_VARIABLE}: {path} cannot be read ({error.strerror}).") from error
    if open_to_others:
        raise BadSecretFile(f"{SECRET_VARIABLE}: {path} can be read by others; chmod 600 it.")
    if len(key) < 32:
        raise BadSecretFile(f"{SECRET_VARIABLE}: {path} holds fewer than 32 characters.")
    return key


def _proxies() -> int:
    said = os.environ.get(PROXIES_VARIABLE, "0")
    if not said.isdigit() or int(said) > 8:
        raise CannotCountSignIns(f"{PROXIES_VARIABLE}={said} is invalid: it must be a number from 0 to 8.")
    return int(said)
