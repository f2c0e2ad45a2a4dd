"""Hosts and who renders them; the machines that take jobs, what they have, and what waits for them."""

from collections.abc import Iterable
from datetime import datetime, timedelta

from sqlalchemy import delete, func, or_, select, tuple_, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from kind_echo.core.registry.errors import Conflict, NotFound
from kind_echo.core.registry.offer_documents import OfferDocument
from kind_echo.database.models import Build, Cell, Condition, Effect, Event, Host, Run, Setting, Worker
from kind_echo.renderers.contract import Offer, OfferedEffect
from kind_echo.renderers.offers import effect_from, host_from, offer_document

BY_HAND = "by hand"
"""The renderer of hosts that no script can drive: people render, with a kit."""

SILENT_SECONDS = 10.0
"""A worker that has not been seen for so long is taken for stopped."""

_FORGET = timedelta(days=7)


class HostNotFound(NotFound):
    """A host is named that nobody has told of."""

    def __init__(self, name: str, version: str) -> None:
        self.name, self.version = name, version
        super().__init__(f"There is no host {name} {version}.")


class HostExists(Conflict):
    """A host is to be added that is there."""

    def __init__(self, name: str, version: str) -> None:
        self.name, self.version = name, version
        super().__init__(f"The host {name} {version} is there already.")


class EffectExists(Conflict):
    """An effect is to be added that is there."""

    def __init__(self, name: str) -> None:
        self.name = name
        super().__init__(f"An effect named {name} is there already.")


class EffectNotFound(NotFound):
    """An effect is asked for, by name or number, that is not there."""

    def __init__(self, effect: str | int) -> None:
        self.effect = effect
        super().__init__(f"There is no effect {effect}.")


class EffectUnknown(NotFound):
    """A build is to be added of an effect that is not there."""

    def __init__(self, name: str) -> None:
        self.name = name
        super().__init__(f"There is no effect named {name}; it is added on Effects first.")


class MachineAway(Conflict):
    """Something is asked of a machine that is not at work."""

    def __init__(self, name: str) -> None:
        self.name = name
        super().__init__(f"{name} is not at work now; it looks at what it has whenever a worker starts there.")


class EffectNotOffered(NotFound):
    """An effect is to be added that no machine has."""

    def __init__(self, name: str) -> None:
        self.name = name
        super().__init__(f"No machine that was seen lately has an effect named {name}.")


def register(session: Session, offers: Iterable[Offer]) -> None:
    """Write down the hosts that a machine has, and builds that are new of effects that are known.

    Simulated hosts are written down only once one of their effects is tested: who tests effects of their own alone is
    not to look for their hosts among them.
    """
    for offer in offers:
        known = not offer.simulated or _tests_any(session, offer)
        for host in offer.hosts if known else ():
            values = {
                "name": host.name, "version": host.version, "description": host.description,
                "renderer": offer.queue, "modes": list(host.modes), "system": host.system,
                "hosting": list(host.hosting),
            }  # fmt: skip
            query = insert(Host).values(values)
            session.execute(query.on_conflict_do_update(index_elements=["name", "version"], set_=values))
        for offered in offer.effects:
            effect = session.scalar(
                select(Effect).where(Effect.known_as == offered.name, Effect.handle == offered.handle)
            )
            if effect is not None:
                if offered.channels and effect.channels != list(offered.channels):
                    effect.channels = list(offered.channels)
                add_builds(session, effect, offered.versions, f"Found by the renderer {offer.queue}.")


def _tests_any(session: Session, offer: Offer) -> bool:
    names = [(effect.name, effect.handle) for effect in offer.effects]
    wanted = select(Effect.id).where(tuple_(Effect.known_as, Effect.handle).in_(names))
    return session.scalar(wanted.limit(1)) is not None


def add_effect(session: Session, offered: OfferedEffect, note: str = "") -> Effect:
    """An effect that a renderer offers becomes one that can be tested. Raises EffectExists."""
    same = or_(Effect.name == offered.name, Effect.known_as == offered.name)
    if session.scalar(select(Effect.id).where(same)) is not None:
        raise EffectExists(offered.name)
    effect = Effect(
        name=offered.name, description=offered.description, handle=offered.handle,
        parameters=list(offered.parameters), channels=list(offered.channels),
    )  # fmt: skip
    session.add(effect)
    session.flush()
    add_builds(session, effect, offered.versions, note)
    return effect


def add_bare_effect(session: Session, name: str, *, who: str, now: datetime) -> Effect:
    """An effect of which nothing is known yet: its builds are uploaded, and tell of it. Raises EffectExists."""
    offered = OfferedEffect(name, "", "Uploaded by build servers", (), ())
    added = add_effect(session, offered)
    session.add(Event(at=now, who=who, what="effect added", detail={"effect": name}))
    return added


def add_offered(session: Session, name: str, now: datetime) -> Effect:
    """Add an effect by its name from what machines that are at work have. Raises EffectNotOffered, EffectExists."""
    for worker in workers(session):
        for renderer in worker.renderers if is_seen(worker, now) else ():
            for effect in renderer["effects"]:
                if effect["name"] == name:
                    added = add_effect(session, effect_from(effect), f"As installed on {worker.machine}.")
                    _add_hosts(session, renderer)
                    return added
    raise EffectNotOffered(name)


def _add_hosts(session: Session, renderer: OfferDocument) -> None:
    """Write down the hosts that a renderer has, as far as they are not known."""
    for host in map(host_from, renderer["hosts"]):
        values = {
            "name": host.name, "version": host.version, "description": host.description,
            "renderer": renderer["queue"], "modes": list(host.modes), "system": host.system,
            "hosting": list(host.hosting),
        }  # fmt: skip
        session.execute(insert(Host).values(values).on_conflict_do_nothing())


def add_builds(session: Session, effect: Effect, versions: Iterable[str], note: str) -> None:
    """Add the versions that the effect does not have yet, as its newest builds, in order."""
    known = set(session.scalars(select(Build.version).where(Build.effect_id == effect.id)))
    last = session.scalar(select(func.max(Build.position)).where(Build.effect_id == effect.id))
    position = 0 if last is None else last + 1
    for version in versions:
        if version not in known:
            values = {"effect_id": effect.id, "version": version, "position": position, "note": note}
            # Two machines may find a new build at once.
            session.execute(insert(Build).values(values).on_conflict_do_nothing())
            position += 1


def add_build(session: Session, effect_name: str, version: str, note: str, *, who: str, now: datetime) -> Build:
    """Add a build as the newest of its effect; one that is there is left as it is. Raises EffectUnknown."""
    effect = session.scalar(select(Effect).where(Effect.name == effect_name).with_for_update())
    if effect is None:
        raise EffectUnknown(effect_name)
    asked = select(Build).where(Build.effect_id == effect.id, Build.version == version)
    build = session.scalar(asked)
    if build is None:
        add_builds(session, effect, [version], note)
        build = session.scalars(asked).one()
        detail = {"build": build.id, "effect": effect.name, "version": version}
        session.add(Event(at=now, who=who, what="build added", detail=detail))
    return build


def add_host_by_hand(session: Session, name: str, version: str, description: str, modes: Iterable[str]) -> Host:
    """Add a host that people render in, with a kit. Raises HostExists."""
    if session.scalar(select(Host.id).where(Host.name == name, Host.version == version)) is not None:
        raise HostExists(name, version)
    host = Host(name=name, version=version, description=description, renderer=BY_HAND, modes=list(modes))
    session.add(host)
    session.flush()
    return host


def renderers_of(session: Session, conditions: Iterable[Condition]) -> dict[int, str]:
    """Which renderer has each condition's host, by the condition's number. Raises HostNotFound."""
    listed = list(conditions)
    wanted = {(c.host, c.host_version) for c in listed}
    rows = session.scalars(select(Host).where(tuple_(Host.name, Host.version).in_(wanted)))
    found = {(host.name, host.version): host.renderer for host in rows}
    for name, version in sorted(wanted - set(found)):
        raise HostNotFound(name, version)
    return {c.id: found[c.host, c.host_version] for c in listed}


def all_hosts(session: Session) -> list[Host]:
    """All hosts by name and version."""
    return list(session.scalars(select(Host).order_by(Host.name, Host.id)))


def waiting(session: Session) -> dict[tuple[str, str], list[tuple[Run, int]]]:
    """Runs with cells that are still to be rendered, and how many, by host and version; newest runs first."""
    rows = session.execute(
        select(Condition.host, Condition.host_version, Run, func.count())
        .join(Cell, Cell.condition_id == Condition.id)
        .join(Run, Run.id == Cell.run_id)
        .where(Cell.state.in_(("waiting", "rendering")))
        .group_by(Condition.host, Condition.host_version, Run.id)
        .order_by(Run.id.desc())
    )
    found: dict[tuple[str, str], list[tuple[Run, int]]] = {}
    for host, version, run, count in rows:
        found.setdefault((host, version), []).append((run, count))
    return found


def all_effects(session: Session) -> list[Effect]:
    """All effects by name."""
    return list(session.scalars(select(Effect).order_by(func.lower(Effect.name))))


def settings_of(session: Session, effect_id: int) -> list[Setting]:
    """The settings of an effect by name."""
    return list(session.scalars(select(Setting).where(Setting.effect_id == effect_id).order_by(Setting.name)))


def record_worker(
    session: Session,
    machine: str,
    process: int,
    offers: Iterable[Offer],
    now: datetime,
    *,
    number: int | None = None,
    token_id: int | None = None,
) -> None:
    """A worker says that it is there, and with what; those that have been silent for a week are forgotten.

    Args:
        number, token_id: of one that reaches the server alone.
    """
    values = {
        "machine": machine,
        "process": process,
        "renderers": [offer_document(offer) for offer in offers],
        "started_at": now,
        "seen_at": now,
        "number": number,
        "token_id": token_id,
        "stopped_at": None,
    }
    session.execute(delete(Worker).where(Worker.machine == machine, Worker.stopped_at.is_not(None)))
    query = insert(Worker).values(values)
    session.execute(query.on_conflict_do_update(index_elements=["machine", "process"], set_=values))
    session.execute(delete(Worker).where(Worker.seen_at < now - _FORGET))


def renew_worker(
    session: Session,
    machine: str,
    process: int,
    now: datetime,
    *,
    job_id: int | None = None,
    memory: float | None = None,
) -> None:
    """A worker says that it is still there, what job it is at, and the most memory that it took so far, in MB."""
    worker = session.scalar(select(Worker).where(Worker.machine == machine, Worker.process == process))
    if worker is not None:
        worker.seen_at, worker.job_id, worker.memory = now, job_id, memory


def ask_to_look_again(session: Session, machine: str, now: datetime) -> None:
    """Have the workers of a machine look again at what it has, as soon as they say that they are there.

    Raises MachineAway where none is at work.
    """
    at_work = [worker for worker in workers(session) if worker.machine == machine and is_seen(worker, now)]
    if not at_work:
        raise MachineAway(machine)
    for worker in at_work:
        worker.look_again_at = now


def is_to_look_again(session: Session, machine: str, process: int) -> bool:
    """Whether a worker is asked to look again at what its machine has; asked once."""
    query = select(Worker).where(Worker.machine == machine, Worker.process == process)
    worker = session.scalar(query)
    if worker is None or worker.look_again_at is None:
        return False
    worker.look_again_at = None
    return True


def memory_of_lost(session: Session, job_id: int) -> float | None:
    """The most memory, in MB, with which a worker was last seen at a job, and not at any other since."""
    return session.scalar(select(func.max(Worker.memory)).where(Worker.job_id == job_id))


def stopped(session: Session, machine: str, process: int, now: datetime) -> None:
    """A worker says that it stops; what its machine has stays known, by the one that stopped last."""
    session.execute(delete(Worker).where(Worker.machine == machine, Worker.stopped_at.is_not(None)))
    mine = update(Worker).where(Worker.machine == machine, Worker.process == process)
    session.execute(mine.values(stopped_at=now, number=None))


def workers(session: Session) -> list[Worker]:
    """All workers that have not stopped by machine, newest first."""
    query = select(Worker).where(Worker.stopped_at.is_(None))
    return list(session.scalars(query.order_by(Worker.machine, Worker.seen_at.desc(), Worker.id)))


def known_offers(session: Session) -> list[OfferDocument]:
    """What all machines have that were seen in the last days, whether they are at work or not."""
    return [offer for renderers in session.scalars(select(Worker.renderers)) for offer in renderers]


def is_seen(worker: Worker, now: datetime) -> bool:
    """Whether a worker is taken to be at work."""
    return (now - worker.seen_at).total_seconds() < SILENT_SECONDS
