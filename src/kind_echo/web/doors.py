"""The doors: who is asking, whether the route lets them in, and whether a change was meant by the page itself."""

import ipaddress
import os
import re
import secrets
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import structlog
from flask import Flask, Request, Response, request, session
from flask.sessions import SecureCookieSessionInterface
from flask_limiter import Limiter
from flask_login import LoginManager, UserMixin, current_user, login_user, logout_user
from flask_wtf.csrf import CSRFProtect, generate_csrf
from werkzeug.middleware.proxy_fix import ProxyFix

from kind_echo.bench.access import Caller, NotAllowed, NotSignedIn, Role, Scope
from kind_echo.bench.tokens import known_token
from kind_echo.core.errors import KindEchoError
from kind_echo.store.accounts import Person
from kind_echo.store.database import transaction
from kind_echo.web.reach import REACH

SECRET_VARIABLE = "KIND_ECHO_SECRET_FILE"
"""Names the file with the key that signs sessions; it must be readable by its owner alone."""

PROXIES_VARIABLE = "KIND_ECHO_PROXIES"
"""How many reverse proxies stand before the server; their headers are believed only when it says so."""

_SESSION_DAYS = 7
_SIGN_IN_LIMIT = "10 per minute; 100 per hour"
_UPLOAD_LIMIT = "240 per minute"
_SAFE = ("GET", "HEAD")
_PARAMETER = re.compile(r"<(?:[a-z]+:)?([a-z_]+)>")
_UPLOADS = ("/api/uploads", "/api/signals/file", "/api/runs/<int:run_id>/kit/files")
_SIGN_INS = ("/api/sign-in", "/api/links/open", "/api/links/use", "/api/me/password")


class BadSecretFile(KindEchoError):
    """The file with the key that signs sessions is not fit to hold it."""


class CannotKeepOut(KindEchoError):
    """What stands before the server is described so that it cannot be told who asks."""


class _Known(UserMixin):  # type: ignore[misc]
    """Who asks, as Flask-Login keeps it: in the session their number, and the stamp that their sessions have."""

    def __init__(self, caller: Caller, stamp: str = "") -> None:
        self.caller, self._stamp = caller, stamp

    def get_id(self) -> str:
        """The number of a person and the stamp of their sessions."""
        return f"{self.caller.person_id}.{self._stamp}"


class _Sessions(SecureCookieSessionInterface):
    """Cookies that are for HTTPS alone where the page came by it, and for the path under which the server stands."""

    def get_cookie_secure(self, app: Flask) -> bool:
        """Whether this request came by HTTPS."""
        return request.is_secure

    def get_cookie_path(self, app: Flask) -> str:
        """Where a proxy has put the server."""
        return f"{request.script_root}/"


def stand_guard(app: Flask) -> None:
    """Let nobody reach a route of the app whom `REACH` does not let in."""
    app.secret_key = _secret_key()
    app.session_interface = _Sessions()
    app.config.update(
        SESSION_COOKIE_NAME="kind_echo", SESSION_COOKIE_HTTPONLY=True, SESSION_COOKIE_SAMESITE="Strict",
        PERMANENT_SESSION_LIFETIME=timedelta(days=_SESSION_DAYS), PROVIDE_AUTOMATIC_OPTIONS=False,
        WTF_CSRF_CHECK_DEFAULT=False, WTF_CSRF_TIME_LIMIT=None,
    )  # fmt: skip
    proxies = _proxies()
    if proxies:
        app.wsgi_app = ProxyFix(  # type: ignore[method-assign]
            app.wsgi_app, x_for=proxies, x_proto=proxies, x_host=proxies, x_prefix=proxies
        )
    logins = LoginManager(app)
    logins.session_protection = None  # it ties sessions to addresses, which change under people who travel
    logins.user_loader(_by_session)
    logins.request_loader(_by_token)
    csrf = CSRFProtect(app)
    app.before_request(lambda: _check(csrf))


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


def caller() -> Caller:
    """Who asks. Raises NotSignedIn."""
    if not current_user.is_authenticated:
        raise NotSignedIn
    known: Caller = current_user.caller
    return known


def nobody() -> bool:
    """Whether nobody is known to ask."""
    return not current_user.is_authenticated


def still_admitted() -> Callable[[], bool]:
    """Tells, whenever it is asked, whether who asks now would still be let in; for answers that go on for long."""
    number, header = current_user.get_id(), request.headers.get("Authorization", "")
    if current_user.caller.person_id is None:
        return lambda: _bearer(header) is not None
    return lambda: _of_session(number) is not None


def let_in(person: Person) -> None:
    """Begin a session of a person; the token against forged requests is a new one."""
    session.clear()
    session.permanent = True
    login_user(_of(person))
    structlog.contextvars.bind_contextvars(person=person.id)


def let_out() -> None:
    """End the session."""
    logout_user()
    session.clear()


def forgery_token() -> str:
    """What the page sends back with each change, so that no other page can make one."""
    return str(generate_csrf())


def is_near() -> bool:
    """Whether the request comes from this machine."""
    try:
        return ipaddress.ip_address(request.remote_addr or "").is_loopback
    except ValueError:
        return False


def route_key(rule: str, method: str) -> str:
    """A route as `REACH` names it."""
    path = _PARAMETER.sub(r"{\1}", rule)
    return f"{'GET' if method == 'HEAD' else method} {path}"


def _check(csrf: CSRFProtect) -> Response | None:
    if request.url_rule is None:
        return None  # nothing is there; the page, or the answer that says so
    reach = REACH.get(route_key(request.url_rule.rule, request.method))
    is_open = reach is not None and reach.is_open
    known = None if is_open else caller()
    if request.method not in _SAFE and not _has_token(request):
        csrf.protect()
    if known is None:
        return None
    structlog.contextvars.bind_contextvars(
        **({"person": known.person_id} if known.person_id is not None else {"token": known.name})
    )
    if reach is None or not reach.admits(known):
        raise NotAllowed(known.name, reach.needed if reach is not None else "a door that nobody has made")
    return None


def _by_session(number: str) -> _Known | None:
    # A program is who its token says, and no cookie beside it counts.
    return None if _has_token(request) else _of_session(number)


def _of_session(number: str) -> _Known | None:
    person_id, _, stamp = number.partition(".")
    with transaction() as found:
        person = found.get(Person, int(person_id)) if person_id.isdigit() else None
        if person is None or person.disabled_at is not None or not secrets.compare_digest(person.stamp, stamp):
            return None
        return _of(person)


def _by_token(asked: Request) -> _Known | None:
    return _bearer(asked.headers.get("Authorization", ""))


def _bearer(header: str) -> _Known | None:
    kind, _, secret = header.partition(" ")
    if kind.lower() != "bearer" or not secret.strip():
        return None
    with transaction() as found:
        token = known_token(found, secret.strip(), datetime.now(UTC))
        if token is None:
            return None
        scope: Scope = token.scope  # type: ignore[assignment]  # the table holds no other
        return _Known(Caller(f"{token.name} (token)", scope=scope))


def _of(person: Person) -> _Known:
    role: Role = person.role  # type: ignore[assignment]  # the table holds no other
    return _Known(Caller(person.name, role, person_id=person.id), person.stamp)


def _has_token(asked: Request) -> bool:
    """A token is sent on purpose by a program, and never by a browser of itself: nothing can forge it."""
    return asked.headers.get("Authorization", "").lower().startswith("bearer ")


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
        raise CannotKeepOut(f"{PROXIES_VARIABLE}={said} does not do: it must be a number from 0 to 8.")
    return int(said)


def _address() -> str:
    return request.remote_addr or "nowhere"


def _name_tried() -> str:
    body = request.get_json(silent=True)
    name = body.get("name") if isinstance(body, dict) else None
    return f"name {str(name).strip().lower()[:80]}"


def _caller_key() -> str:
    return caller().name if not nobody() else _address()
