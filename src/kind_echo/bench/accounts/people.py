"""People: accounts, roles, and the ways in: passwords, and links that work once."""

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from kind_echo.bench.accounts.access import Role
from kind_echo.bench.accounts.credentials import digest_of, hash_password, is_password, new_secret
from kind_echo.core.registry.errors import BadParameter, Conflict, NotFound, Unauthenticated
from kind_echo.database.accounts import Person, SignInLink
from kind_echo.database.models import Event

LINK_DAYS = 7
_LOCAL_HOURS = 12


class PersonNotFound(NotFound):
    """A person is named who has no account."""

    def __init__(self, who: int | str) -> None:
        self.who = who
        super().__init__(f"There is no account {who}.")


class PersonExists(Conflict):
    """A name is to be given to two people."""

    def __init__(self, name: str) -> None:
        self.name = name
        super().__init__(f"{name} has an account already; names are told apart by more than capitals.")


class LastAdministrator(Conflict):
    """Nobody would be left who may add people."""

    def __init__(self, name: str) -> None:
        self.name = name
        super().__init__(f"Nothing was changed: {name} is the last administrator.")


class CannotSignIn(Unauthenticated):
    """A name, a password or a link does not let anybody in; it is never said which."""


_WRONG = "The name or the password is not right."
_SPENT = "This link lets nobody in: it was used, is too old, or was never made. Ask for another."


@dataclass(frozen=True)
class Invited:
    """A person, and the secret of the link that lets them in; it is told once and not kept."""

    person: Person
    secret: str


def all_people(session: Session) -> list[Person]:
    """Everybody, by name."""
    return list(session.scalars(select(Person).order_by(func.lower(Person.name))))


def find_person(session: Session, person_id: int) -> Person:
    """A person, held until the end of the transaction. Raises PersonNotFound."""
    person = session.scalar(select(Person).where(Person.id == person_id).with_for_update())
    if person is None:
        raise PersonNotFound(person_id)
    return person


def person_named(session: Session, name: str) -> Person:
    """The person of that name, in capitals or not. Raises PersonNotFound."""
    person = _named(session, name)
    if person is None:
        raise PersonNotFound(name)
    return person


def add_person(session: Session, name: str, role: Role, *, who: str, now: datetime) -> Invited:
    """Make an account, and a link for its person to choose a password by.

    Raises:
        PersonExists: the name is taken.
        BadParameter: it is empty, too long, or holds what is not seen.
    """
    name = name.strip()
    if not 0 < len(name) <= 80 or not name.isprintable() or "/" in name:
        raise BadParameter("name", repr(name), "1 to 80 characters that can be seen, without a slash")
    if _named(session, name) is not None:
        raise PersonExists(name)
    person = Person(name=name, role=role, stamp=new_secret(), made_at=now, made_by=who)
    session.add(person)
    session.flush()
    _write(session, now, who, "person added", person, role=role)
    return Invited(person, _link(session, person, now))


def reset_person(session: Session, person_id: int, *, who: str, now: datetime) -> Invited:
    """Take a person's password away, end their sessions, and make a link to choose another. Raises PersonNotFound."""
    person = find_person(session, person_id)
    person.password_hash, person.stamp = None, new_secret()
    _spend_links(session, person, now)
    _write(session, now, who, "password reset", person)
    return Invited(person, _link(session, person, now))


def change_person(
    session: Session, person_id: int, *, who: str, now: datetime, role: Role | None = None, disabled: bool | None = None
) -> Person:
    """Give a person another role, shut them out, or let them in again. Raises PersonNotFound, LastAdministrator."""
    person = find_person(session, person_id)
    loses = (role is not None and role != "keep") or bool(disabled)
    if person.role == "keep" and person.disabled_at is None and loses and _keepers(session) < 2:
        raise LastAdministrator(person.name)
    if role is not None and role != person.role:
        person.role = role
        _write(session, now, who, "role changed", person, role=role)
    if disabled is not None and disabled != (person.disabled_at is not None):
        person.disabled_at = now if disabled else None
        person.stamp = new_secret()
        if disabled:
            _spend_links(session, person, now)
        _write(session, now, who, "person disabled" if disabled else "person enabled", person)
    return person


def sign_in(session: Session, name: str, password: str, now: datetime) -> Person:
    """The person of that name and password. Raises CannotSignIn, alike in words and time whatever is wrong."""
    person = _named(session, name)
    shut = person is None or person.disabled_at is not None
    right = is_password(None if shut or person is None else person.password_hash, password)
    if person is None or not right:
        raise CannotSignIn(_WRONG)
    person.signed_in_at = now
    return person


def open_link(session: Session, secret: str, now: datetime, *, near: bool) -> SignInLink:
    """The link of that secret, held until the end of the transaction.

    Args:
        near: whether it is opened on loopback.

    Raises:
        CannotSignIn: it was used, has ended, its person is shut out, or it works on loopback only.
    """
    query = select(SignInLink).where(SignInLink.digest == digest_of(secret)).with_for_update()
    link = session.scalar(query)
    if link is None or link.used_at is not None or link.ends_at < now or link.person.disabled_at is not None:
        raise CannotSignIn(_SPENT)
    if link.local and not near:
        raise CannotSignIn(_SPENT)
    return link


def use_link(session: Session, secret: str, password: str | None, now: datetime, *, near: bool) -> Person:
    """Let the person of a link in, once; one that is not local sets the password that they chose.

    Raises:
        CannotSignIn: as `open_link` does.
        BadParameter: a password is needed, and there is none that will do.
    """
    link = open_link(session, secret, now, near=near)
    person = link.person
    if not link.local:
        person.password_hash = hash_password(password or "", person.name)
        person.stamp = new_secret()
        _write(session, now, person.name, "password chosen", person)
    link.used_at = person.signed_in_at = now
    return person


def change_password(session: Session, person_id: int, old: str, new: str, now: datetime) -> Person:
    """Another password for a person who knows the old one; all their other sessions end.

    Raises:
        CannotSignIn: the old one is not right.
        BadParameter: the new one will not do.
    """
    person = find_person(session, person_id)
    if not is_password(person.password_hash, old):
        raise CannotSignIn("The password that you have is not right; nothing was changed.")
    person.password_hash, person.stamp = hash_password(new, person.name), new_secret()
    _write(session, now, person.name, "password chosen", person)
    return person


def local_link(session: Session, person: Person, now: datetime) -> str:
    """The secret of a link that signs a person in without a password, once, and on loopback only."""
    return _link(session, person, now, local=True)


def _named(session: Session, name: str) -> Person | None:
    return session.scalar(select(Person).where(func.lower(Person.name) == name.strip().lower()))


def _keepers(session: Session) -> int:
    """How many administrators there are; they are held, so that two who go at once see each other."""
    query = select(Person.id).where(Person.role == "keep", Person.disabled_at.is_(None)).with_for_update()
    return len(session.scalars(query).all())


def _link(session: Session, person: Person, now: datetime, *, local: bool = False) -> str:
    secret = new_secret()
    ends = now + (timedelta(hours=_LOCAL_HOURS) if local else timedelta(days=LINK_DAYS))
    session.add(SignInLink(person_id=person.id, digest=digest_of(secret), local=local, ends_at=ends))
    return secret


def _spend_links(session: Session, person: Person, now: datetime) -> None:
    unused = update(SignInLink).where(SignInLink.person_id == person.id, SignInLink.used_at.is_(None))
    session.execute(unused.values(used_at=now))


def _write(session: Session, now: datetime, who: str, what: str, person: Person, **more: str) -> None:
    session.add(Event(at=now, who=who, what=what, detail={"person": person.id, "name": person.name, **more}))
