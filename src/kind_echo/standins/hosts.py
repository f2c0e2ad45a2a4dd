"""Simulated hosts: each is a list of habits, run through one loop that feeds an effect in blocks."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import repeat

import numpy as np

from kind_echo.core.audio.source import Samples
from kind_echo.core.registry.errors import KindEchoError
from kind_echo.standins.effects import Effect, Values
from kind_echo.standins.stages import (
    Compensates,
    FixedPoint,
    Job,
    MonitorPath,
    OneAsTwo,
    Only,
    Overrides,
    OwnRate,
    Silent,
    SilentStart,
    Stage,
    StartsLate,
    VariesBlocks,
    Wall,
)


class NoSuchHost(KindEchoError):
    """A stand-in host, or a version or mode of it, is asked for that does not exist."""

    def __init__(self, host: str, version: str, mode: str) -> None:
        self.host, self.version, self.mode = host, version, mode
        super().__init__(f"There is no stand-in host {host} {version} that renders in the mode {mode}.")


@dataclass(frozen=True)
class Host:
    """A version of a simulated host.

    Attributes:
        modes: modes it renders in.
        stages: its habits, in the order in which they come on the way out; in the other order on the way in.
    """

    name: str
    version: str
    description: str
    modes: tuple[str, ...]
    stages: tuple[Stage, ...] = ()


_REAL_TIME = Only(mode="real time")
_BOTH = ("real time", "offline")

HOSTS: tuple[Host, ...] = (
    Host("Almanac", "7", "multitrack", _BOTH),
    Host("Almanac", "8", "multitrack", _BOTH, (Overrides("oversampling", 1, only=_REAL_TIME),)),
    Host("Bittern", "5", "file editor", ("offline",), (SilentStart(1 / 3, only=Only(rates=(44_100, 48_000))),)),
    Host("Bittern", "6", "file editor", ("offline",), (FixedPoint(24),)),
    Host("Causeway", "11", "multitrack", _BOTH,
         (VariesBlocks((64, 7, 512, 129)), MonitorPath(5.0, only=_REAL_TIME))),
    Host("Causeway", "12", "multitrack", _BOTH,
         (VariesBlocks((64, 7, 512, 129)), Compensates(off=-1), MonitorPath(9.0, only=_REAL_TIME))),
    Host("Dunlin", "3", "player in a page", ("real time",),
         (Compensates(wholly=False), Wall(15_000.0), OneAsTwo(), StartsLate(13, 0.4))),
    Host("Dunlin", "4", "player in a page", ("real time",), (OwnRate(48_000, clips=True), FixedPoint(16, True))),
    Host("Estuary", "2", "batch renderer", ("offline",)),
    Host("Estuary", "3", "batch renderer", ("offline",), (Silent(only=Only(effect="Fogbank")),)),
)  # fmt: skip


def find_host(name: str, version: str, mode: str) -> Host:
    """The host of that name and version that has that mode. Raises NoSuchHost."""
    for host in HOSTS:
        if (host.name, host.version) == (name, version) and mode in host.modes:
            return host
    raise NoSuchHost(name, version, mode)


def run_through(host: Host, load: Callable[[Values], Effect], job: Job, signal: Samples) -> tuple[Samples, int]:
    """The render of a signal, as long as the signal, shape (frames, channels); and the latency that the effect claims.

    Args:
        load: loads the effect with the values that the host gives it.
    """
    stages = [stage for stage in host.stages if stage.only.holds(job)]
    values = job.values
    sizes: Iterator[int] = repeat(job.block_size)
    for stage in reversed(stages):
        values, sizes, signal = stage.values(values), stage.blocks(sizes), stage.feed(signal, job.rate)
    effect = load(values)
    taken = effect.claimed_latency
    for stage in stages:
        taken = stage.taken_off(taken)
    render = _feed(effect, np.concatenate([signal, np.zeros((taken, signal.shape[1]))]), sizes)[taken:]
    for stage in stages:
        render = stage.give(render, job.rate)
    return render, effect.claimed_latency


def _feed(effect: Effect, signal: Samples, sizes: Iterator[int]) -> Samples:
    render = np.empty_like(signal)
    start = 0
    while start < len(signal):
        stop = min(start + next(sizes), len(signal))
        render[start:stop] = effect.process(signal[start:stop])
        start = stop
    return render
