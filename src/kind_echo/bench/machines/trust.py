"""What machines that reach the server alone may render: their names belong to their tokens, and keepers approve them.

A machine beside the database has its password, and needs nobody's approval.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from sqlalchemy import func, or_, select, update
from sqlalchemy.orm import Session

from kind_echo.bench.machines.hosts import register
from kind_echo.core.registry.errors import Conflict, NotFound
from kind_echo.core.registry.offer_documents import OfferDocument
from kind_echo.database.accounts import Token
from kind_echo.database.models import Effect, Event, Host, Machine, Worker
from kind_echo.renderers.contract import NotOffered, Offer, RemoteRenderer
from kind_echo.renderers.offers import effect_from, host_from, offer_document

MOST_MACHINES = 50
"""Machines that may come by one token."""

MOST_PROCESSES = 64
"""Workers that one machine may have."""


class MachineNameTaken(Conflict):
    """A machine comes by a name that is another token's, or that of a machine beside the database."""

    def __init__(self, name: str, owner: str) -> None:
        self.name, self.owner = name, owner
        super().__init__(f"The machine name {name} belongs to {owner}; choose another by --machine.")


class TooManyMachines(Conflict):
    """More machines come by one token, or workers of one machine, than are taken."""

    def __init__(self, what: str, most: int) -> None:
        super().__init__(f"There are {most} {what} already, and no more are taken.")


class MachineNotFound(NotFound):
    """A machine is to be approved that is not there."""

    def __init__(self, name: str) -> None:
        self.name = name
        super().__init__(f"There is no machine {name} that waits for approval.")


@dataclass(frozen=True)
class Unapproved:
    """What a machine offers and may not render.

    Attributes:
        hosts, effects: that wait for a keeper.
        collisions: that are refused, each with the reason.
    """

    hosts: tuple[str, ...] = ()
    effects: tuple[str, ...] = ()
    collisions: tuple[str, ...] = ()


def admit(
    session: Session, token_id: int, name: str, process: int, offers: Sequence[Offer], now: datetime
) -> list[Offer]:
    """Write down what a machine offers; the part of it that it may render.

    Raises:
        MachineNameTaken: the name belongs to another.
        TooManyMachines: there are as many as are taken.
    """
    # One at a time: two that come by one name at once must not both find it free.
    session.execute(select(func.pg_advisory_xact_lock(func.hashtext(f"machine {name}"))))
    machine = session.get(Machine, name)
    if machine is not None and machine.token_id != token_id and _is_valid(session, machine.token_id, now):
        raise MachineNameTaken(name, "another token")
    beside = select(Worker.id).where(Worker.machine == name, Worker.token_id.is_(None), Worker.stopped_at.is_(None))
    if session.scalar(beside.limit(1)) is not None:
        raise MachineNameTaken(name, "a machine beside the database")
    _refuse_too_many(session, token_id, name, process)
    documents = [offer_document(offer) for offer in offers]
    if machine is None:
        machine = Machine(name=name, token_id=token_id, offers=documents, hosts=[], effects=[], arrived_at=now)
        session.add(machine)
    elif machine.token_id != token_id:
        machine.token_id, machine.hosts, machine.effects = token_id, [], []
        machine.approved_at = machine.approved_by = None
    machine.offers, machine.arrived_at = documents, now
    session.flush()
    allowed = _allowed(session, machine)
    register(session, allowed)
    return allowed


def approve_machine(session: Session, name: str, *, who: str, now: datetime) -> None:
    """Let a machine render all that it offers now and that collides with nothing. Raises MachineNotFound."""
    machine = session.get(Machine, name, with_for_update=True)
    if machine is None:
        raise MachineNotFound(name)
    hosts = [[o["queue"], h["name"], h["version"]] for o in machine.offers for h in o["hosts"]]
    effects = [[o["queue"], e["name"], e["handle"]] for o in machine.offers for e in o["effects"]]
    machine.hosts = machine.hosts + [one for one in hosts if one not in machine.hosts]
    machine.effects = machine.effects + [one for one in effects if one not in machine.effects]
    machine.approved_at, machine.approved_by = now, who
    detail = {"machine": name, "hosts": hosts, "effects": effects}
    session.add(Event(at=now, who=who, what="machine approved", detail=detail))
    session.flush()
    allowed = _allowed(session, machine)
    register(session, allowed)
    at_work = update(Worker).where(Worker.machine == name, Worker.token_id == machine.token_id)
    session.execute(at_work.values(renderers=[offer_document(offer) for offer in allowed]))


def unapproved(session: Session) -> dict[str, Unapproved]:
    """What machines offer and may not render, by machine; those that may render all they offer are left out."""
    found = {}
    for machine in session.scalars(select(Machine).order_by(Machine.name)):
        hosts = tuple(
            f"{h['name']} {h['version']}"
            for o in machine.offers
            for h in o["hosts"]
            if [o["queue"], h["name"], h["version"]] not in machine.hosts
        )
        effects = tuple(
            e["name"]
            for o in machine.offers
            for e in o["effects"]
            if [o["queue"], e["name"], e["handle"]] not in machine.effects
        )
        collisions = tuple(_collisions(session, machine))
        if hosts or effects or collisions:
            found[machine.name] = Unapproved(hosts, effects, collisions)
    return found


def _is_valid(session: Session, token_id: int, now: datetime) -> bool:
    token = session.get(Token, token_id)
    return token is not None and token.revoked_at is None and token.ends_at > now


def _refuse_too_many(session: Session, token_id: int, name: str, process: int) -> None:
    others = select(func.count()).select_from(Machine).where(Machine.token_id == token_id, Machine.name != name)
    if (session.scalar(others) or 0) >= MOST_MACHINES:
        raise TooManyMachines("machines of this token", MOST_MACHINES)
    own = select(func.count()).select_from(Worker).where(
        Worker.machine == name, Worker.stopped_at.is_(None), Worker.process != process
    )  # fmt: skip
    if (session.scalar(own) or 0) >= MOST_PROCESSES:
        raise TooManyMachines("workers of this machine", MOST_PROCESSES)


def _allowed(session: Session, machine: Machine) -> list[Offer]:
    """The offers of a machine without what was not approved, and what collides."""
    elsewhere = _hosts_elsewhere(session, machine)
    return [
        replace(
            _offer(document),
            hosts=tuple(
                host_from(h)
                for h in document["hosts"]
                if [document["queue"], h["name"], h["version"]] in machine.hosts
                and (document["queue"], h["name"], h["version"]) not in elsewhere
            ),
            effects=tuple(
                effect_from(e)
                for e in document["effects"]
                if [document["queue"], e["name"], e["handle"]] in machine.effects
            ),
        )
        for document in machine.offers
    ]  # fmt: skip


def _offer(document: OfferDocument) -> Offer:
    failed = tuple(NotOffered(**one) for one in document.get("failed", ()))
    accepts = bool(document.get("accepts"))
    about = document["description"]
    return Offer(document["queue"], about, RemoteRenderer({}), (), (), failed=failed, accepts=accepts)


def _hosts_elsewhere(session: Session, machine: Machine) -> dict[tuple[str, str, str], str]:
    """Hosts that a machine offers and another renderer has, with the name of that."""
    offered = [(o["queue"], h["name"], h["version"]) for o in machine.offers for h in o["hosts"]]
    named = or_(*((Host.name == name) & (Host.version == version) for _, name, version in offered)) if offered else None
    if named is None:
        return {}
    known = {(host.name, host.version): host.renderer for host in session.scalars(select(Host).where(named))}
    return {
        one: known[one[1], one[2]] for one in offered if (one[1], one[2]) in known and known[one[1], one[2]] != one[0]
    }


def _collisions(session: Session, machine: Machine) -> Iterable[str]:
    for (queue, name, version), owner in _hosts_elsewhere(session, machine).items():
        yield f"{name} {version} is rendered by {owner} already, not by {queue}"
    names = {e["name"]: e["handle"] for o in machine.offers for e in o["effects"]}
    for effect in session.scalars(select(Effect).where(Effect.known_as.in_(names)).order_by(Effect.name)):
        if effect.handle != names[effect.known_as]:
            yield f"{effect.name} is known here by another identifier, {effect.handle or 'none'}"
