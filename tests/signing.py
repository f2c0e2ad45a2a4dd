"""Signing in for tests: in this process without a password, in a browser by a link as the demo prints it."""

import secrets
from datetime import UTC, datetime

from flask.testing import FlaskClient
from sqlalchemy import select

from kind_echo.bench.accounts import Role, Scope, add_person, local_link, make_token
from kind_echo.bench.machines import approve_machine
from kind_echo.database.accounts import Person
from kind_echo.database.sessions import transaction

NOW = datetime(2026, 11, 25, tzinfo=UTC)


def person(name: str, role: Role) -> Person:
    """Somebody of that name and role, with an account."""
    with transaction() as session:
        found = session.scalar(select(Person).where(Person.name == name))
        if found is None:
            found = add_person(session, name, role, who="test", now=NOW).person
        found.role = role
        return found


def sign(client: FlaskClient, name: str = "Nora F.", role: Role = "keep") -> FlaskClient:
    """The client with a session of that person, and the token against forged requests in each of its requests."""
    from flask import session as web_session
    from flask_wtf.csrf import generate_csrf

    who = person(name, role)
    with client.application.test_request_context():
        header = generate_csrf()
        raw = web_session["csrf_token"]
    with client.session_transaction() as kept:
        kept.update(_user_id=f"{who.id}.{who.stamp}.{secrets.token_hex(8)}", _fresh=True, csrf_token=raw)
    client.environ_base["HTTP_X_CSRFTOKEN"] = header
    return client


def token(scope: Scope, name: str = "test") -> str:
    """The secret of a new token."""
    with transaction() as session:
        return make_token(session, name, scope, 30, who="test", now=datetime.now(UTC)).secret


def link_for(name: str = "Nora F.") -> str:
    """The secret of a link that signs somebody in, once and on loopback."""
    with transaction() as session:
        who = session.scalars(select(Person).where(Person.name == name)).one()
        return local_link(session, who, datetime.now(UTC))


def approve(machine: str) -> None:
    """A keeper approves what a machine that reaches the server alone has."""
    with transaction() as session:
        approve_machine(session, machine, who="Nora F.", now=datetime.now(UTC))
