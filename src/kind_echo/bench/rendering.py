"""From a cell to audio: what a renderer of this machine is asked for, and how long it took."""

import time
from functools import cache

from sqlalchemy.orm import Session

from kind_echo.bench.keeping import Rendered
from kind_echo.bench.stimulus import make_stimulus
from kind_echo.renderers.contract import Offer, Renderer, RenderFailed, RenderRequest
from kind_echo.renderers.machine import offers
from kind_echo.store.models import Cell


@cache
def installed() -> dict[str, Offer]:
    """The renderers of this machine by queue. Raises BadDeclaration."""
    return offers()


def renderer_named(queue: str) -> Renderer:
    """The renderer of a queue. Raises RenderFailed where this machine does not have it."""
    if queue not in installed():
        raise RenderFailed(f"this machine has no renderer {queue}")
    return installed()[queue].renderer


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
    )


def render_takes(renderer: Renderer, request: RenderRequest, takes: int) -> Rendered:
    """Render a request as often as asked. Raises RenderFailed."""
    wall, cpu = time.perf_counter(), time.thread_time()
    results = tuple(renderer.render(request) for _ in range(takes))
    wall, cpu = time.perf_counter() - wall, time.thread_time() - cpu
    return Rendered(results, wall, cpu + sum(result.cpu_seconds or 0.0 for result in results))
