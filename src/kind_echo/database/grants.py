"""What the web server's and the workers' own database roles may do: no more than each of them must.

The owner of the tables migrates, adds the first people, and makes backups; neither service has its password.
"""

from collections.abc import Mapping
from typing import Literal

from psycopg import sql
from sqlalchemy import text
from sqlalchemy.orm import Session

from kind_echo.core.registry.errors import KindEchoError
from kind_echo.database.models import Base
from kind_echo.database.sessions import raw_connection

Service = Literal["web", "worker"]

_READ, _ADD, _CHANGE, _ALL = "SELECT", "SELECT, INSERT", "SELECT, INSERT, UPDATE", "SELECT, INSERT, UPDATE, DELETE"
_DROP = ", UPDATE (bytes, object_key, dropped_at, unused_since)"

GRANTS: Mapping[str, tuple[str, str]] = {
    # table: what the web server may do, what a worker may do
    "effect": (_CHANGE, _READ + ", UPDATE (channels)"),  # the web server locks one while it adds a build
    "build": (_ALL, _ADD),
    "setting": (_CHANGE, _READ),
    "artefact": (_ALL, _READ),
    "artefact_piece": (_ALL, _READ),
    "signal": (_ADD, _READ),
    "host": (_CHANGE, _CHANGE),
    "worker": (_ALL, _ALL),
    "machine": (_ALL, ""),
    "condition": (_ADD + ", UPDATE (host, host_version)", _READ),  # a host by hand can be renamed
    "plan": (_CHANGE, _READ),
    "plan_revision": (_ADD, _READ),
    "case": (_ADD, _READ),
    "search": (_ADD, _READ),
    "run": (_ALL, _CHANGE),  # one that nothing stands on can be deleted
    "content": (_ADD + _DROP, _ADD + _DROP),
    "chunk": (_ADD, _ADD + ", DELETE"),  # a worker drops what retention says
    "storage_rule": (_CHANGE, _READ + ", UPDATE (applied_at)"),
    "peak_level": (_ADD, _ADD + ", DELETE"),
    "analysis": (_ADD, _ADD + ", DELETE"),
    "sensitivity": (_CHANGE, _CHANGE),
    "render": (_READ + ", DELETE, UPDATE (key)", _CHANGE),  # what is doubted is never taken over
    "take": (_READ + ", DELETE", _ADD),
    "act": (_CHANGE, _READ),
    "decision": (_ADD, _READ + ", UPDATE (ending_told_at)"),
    "reference": (_CHANGE, _READ),
    "cell": (_ALL, _CHANGE),
    "delivery": (_ALL, "SELECT, DELETE"),
    "upload": (_ADD + ", DELETE", _ADD),  # a worker keeps what it resampled
    "kit_file": (_ALL, _CHANGE),
    "pair": (_ADD + ", DELETE", _CHANGE),
    "file_set": (_ALL, _READ),
    "set_file": (_ALL, _READ + ", UPDATE"),
    "listening_test": (_ADD + ", UPDATE (deleted_at)", _READ),  # a worker sees what audio it uses
    "sitting": (_CHANGE, ""),
    "trial": (_ADD, ""),  # what was drawn and what was answered is nobody's to change
    "trial_answer": (_ADD, ""),
    "trial_clip": (_ADD, ""),
    "listening_note": (_ADD + ", DELETE", ""),
    "listening_word": (_ADD + ", DELETE", ""),
    "notice_target": (_ALL, _READ + ", UPDATE (paused_at, paused_by)"),  # one that says it is gone is told no more
    "notice": (_ALL, _ALL),
    "schedule": (_ALL, _READ + ", UPDATE (next_at, last_at, last_told)"),
    "event": (_ADD, _ADD),  # its past is nobody's to change
    "person": (_CHANGE, ""),
    "sign_in_link": (_CHANGE, ""),
    "ended_session": ("SELECT, INSERT, DELETE", ""),
    "token": (_CHANGE, ""),
    "attempt": ("SELECT, INSERT, DELETE", ""),
    "job_count": (_CHANGE, _CHANGE),
    "alembic_version": (_READ, _READ),
}
_DEMO = {"act": "INSERT", "decision": "INSERT", "reference": "INSERT, UPDATE"}  # the demo's decisions are a job's


class NoSuchRole(KindEchoError):
    """Rights are to be granted to a role that the database server does not have."""

    def __init__(self, role: str) -> None:
        self.role = role
        super().__init__(f"The database server has no role {role}; create it with LOGIN and a password first.")


def grant(session: Session, service: Service, role: str) -> None:
    """Give a role exactly the rights of a service, and take from it all others. Raises NoSuchRole."""
    if session.scalar(text("SELECT 1 FROM pg_roles WHERE rolname = :role"), {"role": role}) is None:
        raise NoSuchRole(role)
    name = sql.Identifier(role)
    _run(session, sql.SQL("REVOKE ALL ON ALL TABLES IN SCHEMA public FROM PUBLIC, {}").format(name))
    _run(session, sql.SQL("REVOKE CREATE ON SCHEMA public FROM PUBLIC, {}").format(name))
    _run(session, sql.SQL("GRANT USAGE ON SCHEMA public TO {}").format(name))
    for table, rights in GRANTS.items():
        given = rights[0 if service == "web" else 1]
        if given:
            _run(session, sql.SQL("GRANT {} ON {} TO {}").format(sql.SQL(given), sql.Identifier(table), name))
    for kind, rights_of_queue in (("r", _ALL), ("S", "USAGE, SELECT")):
        found = text("SELECT relname FROM pg_class WHERE relkind = :kind AND relname LIKE 'procrastinate%'")
        for part in session.scalars(found, {"kind": kind}).all():
            what = sql.SQL("SEQUENCE " if kind == "S" else "TABLE ")
            query = sql.SQL("GRANT {} ON {}{} TO {}")
            _run(session, query.format(sql.SQL(rights_of_queue), what, sql.Identifier(part), name))


def grant_for_demo(session: Session, role: str) -> None:
    """Let a worker decide as the demo's people would; no other installation needs it."""
    for table, rights in _DEMO.items():
        query = sql.SQL("GRANT {} ON {} TO {}")
        _run(session, query.format(sql.SQL(rights), sql.Identifier(table), sql.Identifier(role)))


def all_tables() -> set[str]:
    """The tables that rights are granted on."""
    return set(Base.metadata.tables) | {"alembic_version"}


def _run(session: Session, query: sql.Composed) -> None:
    raw_connection(session).execute(query)
