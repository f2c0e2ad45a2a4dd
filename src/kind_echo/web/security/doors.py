"""The doors: who is asking, whether the route lets them in, and whether a change was meant by the page itself."""

import ipaddress
import re
import secrets
from collections.abc import Callable
from datetime import UTC, datetime

import structlog
from flask import Flask, Request, Response, g, request, session
from flask_login import LoginManager, UserMixin, current_user, login_user, logout_user
from flask_wtf.csrf import CSRFProtect, generate_csrf
from sqlalchemy.exc import DBAPIError
from werkzeug.exceptions import HTTPException

from kind_echo.bench import accounts
from kind_echo.bench.accounts import Caller, NotAllowed, NotSignedIn, Role, Scope, TokenUnknown, known_token
from kind_echo.core.registry.errors import KindEchoError
from kind_echo.database.accounts import Person
from kind_echo.database.sessions import transaction
from kind_echo.web.security.reach import REACH
from kind_echo.web.security.sessions import SESSION_LIFETIME, keep_sessions, renew_session

_SAFE = ("GET", "HEAD")
_PARAMETER = re.compile(r"<(?:[a-z]+:)?([a-z_]+)>")


class _Authenticated(UserMixin):  # type: ignore[misc]
    """Who asks, as Flask-Login keeps it: their number, the stamp of their sessions, and the number of this one."""

    def __init__(self, caller: Caller, stamp: str = "", number: str = "") -> None:
        self.caller, self._stamp, self.number = caller, stamp, number

    def get_id(self) -> str:
        """The number of a person, the stamp of all their sessions, and the number of this one."""
        return f"{self.caller.person_id}.{self._stamp}.{self.number}"


def check_every_request(app: Flask) -> None:
    """Let nobody reach a route of the app whom `REACH` does not let in."""
    app.config.update(PROVIDE_AUTOMATIC_OPTIONS=False, WTF_CSRF_CHECK_DEFAULT=False, WTF_CSRF_TIME_LIMIT=None)
    keep_sessions(app)
    logins = LoginManager(app)
    logins.session_protection = None  # it ties sessions to addresses, which change under people who travel
    logins.user_loader(_by_session)
    logins.request_loader(_by_token)
    csrf = CSRFProtect(app)
    app.before_request(lambda: _check(csrf))


def caller() -> Caller:
    """Who asks. Raises NotSignedIn, or TokenUnknown for a program whose token lets nobody in."""
    if not current_user.is_authenticated:
        raise TokenUnknown if _has_token(request) else NotSignedIn
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


def is_admitted_by_headers(app: Flask) -> bool:
    """Whether this request would reach its route: asked before its body is read."""
    try:
        return app.preprocess_request() is None
    except (KindEchoError, HTTPException, DBAPIError):
        return False


def begin_session(person: Person) -> None:
    """Begin a session of a person; the token against forged requests is a new one."""
    session.clear()
    session.permanent = True
    login_user(_of(person, secrets.token_urlsafe(16)))
    structlog.contextvars.bind_contextvars(person=person.id)


def end_session() -> None:
    """End the session, and whatever copy of its cookie there may be."""
    number = current_user.number if current_user.is_authenticated else ""
    if number:
        with transaction() as found:
            accounts.end_session(found, number, datetime.now(UTC), SESSION_LIFETIME)
    logout_user()
    session.clear()


def forgery_token() -> str:
    """What the page sends back with each change, so that no other page can make one."""
    return str(generate_csrf())


def is_local() -> bool:
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
    g.takes_file = reach is not None and reach.body == "file"
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
        raise NotAllowed(known.name, reach.needed if reach is not None else "a route that does not exist")
    if known.person_id is not None:
        renew_session()
    return None


def _by_session(number: str) -> _Authenticated | None:
    # A program is who its token says, and no cookie beside it counts.
    return None if _has_token(request) else _of_session(number)


def _of_session(number: str) -> _Authenticated | None:
    person_id, _, rest = number.partition(".")
    stamp, _, own = rest.rpartition(".")
    with transaction() as found:
        person = accounts.person_of_session(found, int(person_id), stamp, own) if person_id.isdigit() else None
        return None if person is None else _of(person, own)


def _by_token(asked: Request) -> _Authenticated | None:
    return _bearer(asked.headers.get("Authorization", ""))


def _bearer(header: str) -> _Authenticated | None:
    kind, _, secret = header.partition(" ")
    if kind.lower() != "bearer" or not secret.strip():
        return None
    with transaction() as found:
        token = known_token(found, secret.strip(), datetime.now(UTC))
        if token is None:
            return None
        scope: Scope = token.scope  # type: ignore[assignment]  # the table holds no other
        return _Authenticated(Caller(f"{token.name} (token)", scope=scope, token_id=token.id))


def _of(person: Person, number: str) -> _Authenticated:
    role: Role = person.role  # type: ignore[assignment]  # the table holds no other
    return _Authenticated(Caller(person.name, role, person_id=person.id), person.stamp, number)


def _has_token(asked: Request) -> bool:
    """A token is sent on purpose by a program, and never by a browser of itself: nothing can forge it."""
    return asked.headers.get("Authorization", "").lower().startswith("bearer ")
