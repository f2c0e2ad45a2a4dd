"""From a cell to audio: what a renderer of this machine is asked for, and how long it took."""

import time
from collections.abc import Sequence
from dataclasses import replace
from functools import cache

import numpy as np
from sqlalchemy.orm import Session

from kind_echo.bench.machines.routes import Place, has_place, renderer_of
from kind_echo.bench.rendering.keeping import Rendered
from kind_echo.bench.signals.stimulus import make_stimulus
from kind_echo.database.models import Cell
from kind_echo.renderers.contract import Offer, Renderer, RenderFailed, RenderRequest, RenderResult
from kind_echo.renderers.machine import Machine


@cache
def machine() -> Machine:
    """This machine. Raises BadDeclaration."""
    return Machine()


def installed() -> dict[str, Offer]:
    """The renderers of this machine by name. Raises BadDeclaration."""
    return machine().offers


def offers_of(names: Sequence[str]) -> list[Offer]:
    """Those of this machine's renderers that are named; all where none are. Raises BadDeclaration."""
    return [offer for name, offer in installed().items() if not names or name in names]


def renderer_named(queue: str) -> Renderer:
    """The renderer of a queue. Raises RenderFailed where this machine does not have it."""
    name = renderer_of(queue)
    if name not in installed():
        raise RenderFailed(f"this machine has no renderer {name}")
    return installed()[name].renderer


def can_render_here(cell: Cell, queue: str) -> bool:
    """Whether this machine has the build and the host of a cell, as things stand now."""
    offer = installed().get(renderer_of(queue))
    effect, condition = cell.run.build.effect, cell.condition
    place = Place(
        renderer_of(queue), condition.host, condition.host_version, effect.name, effect.handle, cell.run.build.version
    )
    return offer is not None and has_place(offer, place)


def request_for(session: Session, cell: Cell) -> RenderRequest:
    """What a renderer is asked for. Raises what make_stimulus raises."""
    condition, build = cell.condition, cell.run.build
    return RenderRequest(
        effect=build.effect.name,
        version=build.version,
        values=cell.case.setting.parameters,
        host=condition.host,
        host_version=condition.host_version,
        mode=condition.mode,
        rate=condition.rate,
        block_size=condition.block_size,
        signal=make_stimulus(session, cell.case.signal.request, condition.channels, condition.rate),
        handle=build.effect.handle,
        parts=tuple(cell.case.setting.parts),
    )


def render_takes(renderer: Renderer, request: RenderRequest, takes: int) -> Rendered:
    """Render a request as often as asked. Raises RenderFailed."""
    wall, cpu = time.perf_counter(), time.thread_time()
    results = tuple(_one(renderer, request) for _ in range(takes))
    wall, cpu = time.perf_counter() - wall, time.thread_time() - cpu
    return Rendered(results, wall, cpu + sum(result.cpu_seconds or 0.0 for result in results))


def _one(renderer: Renderer, request: RenderRequest) -> RenderResult:
    """One take; of a sum, its parts one after the other, added up where they lie.

    Raises RenderFailed, also where parts do not fit: they are added as a mixer would, without moving any.
    """
    if not request.parts:
        return renderer.render(request)
    parts = [renderer.render(replace(request, values=values, parts=())) for values in request.parts]
    shapes = {part.samples.shape for part in parts}
    claims = {(part.claimed_latency, part.compensated) for part in parts}
    log = "\n".join(part.log for part in parts if part.log)
    if len(shapes) > 1 or len(claims) > 1:
        what = "have different lengths" if len(shapes) > 1 else "claim different latencies"
        raise RenderFailed(f"the parts of the sum {what}", log)
    cpu = [part.cpu_seconds for part in parts if part.cpu_seconds is not None]
    memory = [part.memory for part in parts if part.memory is not None]
    return replace(
        parts[0], samples=np.sum([part.samples for part in parts], axis=0), log=log,
        cpu_seconds=sum(cpu) if cpu else None, memory=max(memory) if memory else None,
    )  # fmt: skip
