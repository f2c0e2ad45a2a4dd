"""Which machine can render what: a queue for each build of an effect in each host, taken by machines that have both."""

import hashlib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select, tuple_
from sqlalchemy.orm import Session

from kind_echo.bench.machines.hosts import BY_HAND, known_offers, renderers_of
from kind_echo.database.models import Artefact, Build, Condition, Effect, Host
from kind_echo.renderers.contract import Offer, fits

_SEPARATOR = "/"


@dataclass(frozen=True)
class Place:
    """A build of an effect in a host of a renderer: what a machine needs to have, to render it."""

    renderer: str
    host: str
    host_version: str
    effect: str
    handle: str
    version: str

    @property
    def queue(self) -> str:
        """The queue of its jobs."""
        parts = "\n".join((self.host, self.host_version, self.effect, self.handle, self.version))
        # With the name of a renderer, 30 characters at most, it must fit into the name of a channel of PostgreSQL.
        return f"{self.renderer}{_SEPARATOR}{hashlib.sha256(parts.encode()).hexdigest()[:9]}"


def renderer_of(queue: str) -> str:
    """The name of the renderer whose jobs a queue holds."""
    return queue.partition(_SEPARATOR)[0]


def is_renderers_own(queue: str) -> bool:
    """Whether a queue is a renderer's as a whole, which says nothing of the build or host that its jobs need."""
    return _SEPARATOR not in queue


def routes_of(session: Session, build: Build, conditions: Iterable[Condition]) -> dict[int, str]:
    """The queue of each condition for a build, by the condition's number; BY_HAND for those that people render.

    Raises:
        HostNotFound: a condition names a host that is not known.
    """
    listed = list(conditions)
    renderers = renderers_of(session, listed)
    effect = build.effect
    return {
        c.id: BY_HAND
        if renderers[c.id] == BY_HAND
        else Place(renderers[c.id], c.host, c.host_version, effect.known_as, effect.handle, build.version).queue
        for c in listed
    }


def queues_of_machine(session: Session, offers: Sequence[Mapping[str, Any]]) -> list[str]:
    """The queues of all that a machine can render of what is known here.

    Args:
        offers: what it has, as `hosts.offer_document` writes it down.
    """
    names = {effect["name"] for offer in offers for effect in offer["effects"]}
    query = select(Effect.known_as, Effect.handle, Build.version).join(Build, Build.effect_id == Effect.id)
    builds = session.execute(query.where(Effect.known_as.in_(names))).all()
    hosts = {(host.name, host.version): host.renderer for host in session.scalars(select(Host))}
    queues = [str(offer["queue"]) for offer in offers]
    queues += _queues_of_uploaded(session, offers, hosts)
    for offer in offers:
        has = {(effect["name"], effect["handle"]): effect for effect in offer["effects"]}
        queues += [
            Place(offer["queue"], host["name"], host["version"], name, handle, version).queue
            for host in offer["hosts"]
            if hosts.get((host["name"], host["version"])) == offer["queue"]
            for name, handle, version in builds
            if (name, handle) in has and _has(has[name, handle], version)
        ]
    return queues


def _queues_of_uploaded(
    session: Session, offers: Sequence[Mapping[str, Any]], hosts: Mapping[tuple[str, str], str]
) -> list[str]:
    """Those of builds that were uploaded for the standards and the system of a machine that runs such."""
    accepting = [offer for offer in offers if offer.get("accepts")]
    if not accepting:
        return []
    query = select(Artefact.standard, Artefact.system, Effect.known_as, Effect.handle, Build.version)
    uploaded = session.execute(query.join(Build, Build.id == Artefact.build_id).join(Effect)).all()
    return [
        Place(offer["queue"], host["name"], host["version"], name, handle, version).queue
        for offer in accepting
        for host in offer["hosts"]
        if hosts.get((host["name"], host["version"])) == offer["queue"]
        for standard, system, name, handle, version in uploaded
        if (standard, system) == (offer["queue"], host.get("system"))
    ]


def hosts_for(session: Session, effect: Effect) -> list[Host]:
    """The hosts in which a known machine can render an effect; without any, those in which people render by hand."""
    query = select(Host).order_by(Host.renderer.desc(), Host.id)
    listed = list(session.scalars(query))
    able = {
        (host["name"], host["version"])
        for offer in known_offers(session)
        if any((e["name"], e["handle"]) == (effect.known_as, effect.handle) for e in offer["effects"])
        for host in offer["hosts"]
    }
    of_effect = select(Artefact.standard, Artefact.system).join(Build).where(Build.effect_id == effect.id)
    uploaded = {(standard, system) for standard, system in session.execute(of_effect)}
    able |= {
        (host["name"], host["version"])
        for offer in known_offers(session) if offer.get("accepts")
        for host in offer["hosts"] if (offer["queue"], host.get("system")) in uploaded
    }  # fmt: skip
    found = [host for host in listed if (host.name, host.version) in able]
    return found or [host for host in listed if host.renderer == BY_HAND]


def cannot_render(session: Session, effect: Effect, hosts: Iterable[tuple[str, str]]) -> list[str]:
    """Of hosts by name and version, those in which no known machine can render an effect, and nobody by hand."""
    wanted = sorted(set(hosts))
    able = {(host.name, host.version) for host in hosts_for(session, effect)}
    rows = session.execute(
        select(Host.name, Host.version, Host.renderer).where(tuple_(Host.name, Host.version).in_(wanted))
    )
    by_hand = {(name, version) for name, version, renderer in rows if renderer == BY_HAND}
    return [f"{name} {version}" for name, version in wanted if (name, version) not in able | by_hand]


def nobody_has(session: Session, build: Build, conditions: Iterable[Condition]) -> list[Condition]:
    """The conditions under which no known machine, at work or not, can render a build."""
    listed = list(conditions)
    offers = known_offers(session)
    routes = routes_of(session, build, listed)
    taken = set(queues_of_machine(session, offers)) | {BY_HAND}
    return [condition for condition in listed if routes[condition.id] not in taken]


def has_place(offer: Offer, place: Place) -> bool:
    """Whether a machine with that offer can render there."""
    return any((h.name, h.version) == (place.host, place.host_version) for h in offer.hosts) and any(
        (e.name, e.handle) == (place.effect, place.handle) and fits(place.version, e.versions, e.patterns)
        for e in offer.effects
    )


def _has(effect: Mapping[str, Any], version: str) -> bool:
    return fits(version, effect["versions"], effect.get("patterns", ()))
