"""Hosts, and the machines that render in them."""

from collections.abc import Sequence
from datetime import UTC, datetime

from flask import Response
from flask_openapi3 import APIBlueprint

from kind_echo.bench import upkeep
from kind_echo.bench.machines import (
    BY_HAND,
    Host,
    Unapproved,
    Worker,
    add_host_by_hand,
    all_effects,
    all_hosts,
    is_seen,
    unapproved,
    waiting,
    workers,
)
from kind_echo.bench.runs import Run
from kind_echo.database.sessions import transaction
from kind_echo.web.hosts.schemas import (
    ChangeHostBody,
    HostBody,
    HostPath,
    HostsBody,
    MachineBody,
    NewHostBody,
    NotOfferedBody,
    OfferBody,
    OfferedEffectBody,
    UnapprovedBody,
    WaitingRunBody,
)
from kind_echo.web.http.answers import answer
from kind_echo.web.security.doors import caller

api = APIBlueprint("hosts", __name__, url_prefix="/api")


@api.get("/hosts", responses={200: HostsBody})
def hosts() -> Response:
    """All hosts, and the machines that render in them."""
    now = datetime.now(UTC)
    with transaction() as session:
        known, waits, listed = {effect.known_as for effect in all_effects(session)}, waiting(session), workers(session)
        machines: dict[str, list[Worker]] = {}
        for worker in listed:
            machines.setdefault(worker.machine, []).append(worker)
        having, held = _machines_by_queue(listed, now), unapproved(session)
        body = HostsBody(
            hosts=[_host_body(host, having, waits.get((host.name, host.version), [])) for host in all_hosts(session)],
            machines=[_machine_body(name, own, known, held.get(name), now) for name, own in machines.items()],
        )
        return answer(body)


@api.post("/hosts", responses={201: HostBody})
def new_host(body: NewHostBody) -> Response:
    """Add a host that people render in, with a kit."""
    with transaction() as session:
        host = add_host_by_hand(session, body.name, body.version, body.description, body.modes)
        return answer(_host_body(host, {}, []), 201)


@api.post("/hosts/<int:host_id>/change", responses={200: HostBody})
def change_host(path: HostPath, body: ChangeHostBody) -> Response:
    """Rename a host that people render in; archive any, or bring it back."""
    who, now = caller().name, datetime.now(UTC)
    with transaction() as session:
        host: Host = upkeep.find(session, "host", path.host_id)
        if body.name is not None or body.version is not None:
            named = body.name or host.name, body.version or host.version
            upkeep.rename_host(session, host.id, *named, who=who, now=now)
        if body.archived is not None:
            upkeep.archive(session, "host", host.id, archived=body.archived, who=who, now=now)
        return answer(_host_body(host, {}, []))


def _machines_by_queue(listed: Sequence[Worker], now: datetime) -> dict[str, list[str]]:
    """Machines that are at work, by the renderers that they have."""
    having: dict[str, list[str]] = {}
    for worker in listed:
        if is_seen(worker, now):
            for renderer in worker.renderers:
                machines = having.setdefault(renderer["queue"], [])
                if worker.machine not in machines:
                    machines.append(worker.machine)
    return having


def _host_body(host: Host, having: dict[str, list[str]], waits: Sequence[tuple[Run, int]]) -> HostBody:
    return HostBody(
        id=host.id,
        name=host.name,
        version=host.version,
        archived=host.archived_at is not None,
        description=host.description,
        renderer=host.renderer,
        by_hand=host.renderer == BY_HAND,
        modes=host.modes,
        hosting=host.hosting,
        machines=having.get(host.renderer, []),
        waiting=[
            WaitingRunBody(
                run_id=run.id,
                effect=run.build.effect.name,
                version=run.build.version,
                plan=run.revision.plan.name,
                cells=cells,
            )
            for run, cells in waits
        ],
    )


def _machine_body(
    name: str, own: Sequence[Worker], known: set[str], held: Unapproved | None, now: datetime
) -> MachineBody:
    at_work = sum(is_seen(worker, now) for worker in own)
    renderers = {renderer["queue"]: renderer for worker in reversed(own) for renderer in worker.renderers}
    return MachineBody(
        name=name,
        at_work=at_work,
        silent=len(own) - at_work,
        started_at=min(worker.started_at for worker in own),
        seen_at=max(worker.seen_at for worker in own),
        renderers=[
            OfferBody(
                queue=renderer["queue"],
                description=renderer["description"],
                hosts=[f"{host['name']} {host['version']}" for host in renderer["hosts"]],
                effects=[
                    OfferedEffectBody(
                        name=effect["name"],
                        description=effect["description"],
                        versions=effect["versions"],
                        known=effect["name"] in known,
                    )
                    for effect in renderer["effects"]
                ],
                failed=[NotOfferedBody(**one) for one in renderer.get("failed", ())],
                accepts=renderer.get("accepts", False),
            )
            for renderer in sorted(renderers.values(), key=lambda renderer: str(renderer["queue"]))
        ],
        unapproved=None if held is None else UnapprovedBody.model_validate(held),
    )
