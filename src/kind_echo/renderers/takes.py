"""What this machine renders with, and the takes that it makes of what is asked for; no database is needed for it."""

import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cache

import numpy as np

from kind_echo.renderers.contract import Offer, Renderer, RenderFailed, RenderRequest, RenderResult
from kind_echo.renderers.machine import Machine


@dataclass(frozen=True)
class Rendered:
    """What was given for a cell: its takes, and the seconds by the clock and of the processor for all of them.

    A wall of None is a render that was made elsewhere, by hand: what it took is not known.
    """

    takes: tuple[RenderResult, ...]
    wall: float | None
    cpu: float


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


def render_takes(renderer: Renderer, request: RenderRequest, takes: int) -> Rendered:
    """Render a request as often as asked. Raises RenderFailed."""
    wall, cpu = time.perf_counter(), time.thread_time()
    results = tuple(_one(renderer, replace(request, take=take)) for take in range(1, takes + 1))
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
