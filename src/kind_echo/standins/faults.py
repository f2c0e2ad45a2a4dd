"""Faults that builds of stand-ins have: each is laid around an effect, and shows where it says that it does."""

import copy
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import numpy as np

from kind_echo.core.audio.source import Samples
from kind_echo.standins.effects import Effect, Place, linear


@dataclass(frozen=True)
class Where:
    """Where a fault shows: at these rates, and with these values set; everywhere unless said."""

    rates: tuple[int, ...] = ()
    values: Mapping[str, float | int | str] = field(default_factory=dict)

    def holds(self, place: Place) -> bool:
        """Whether it shows in this place."""
        at_rate = not self.rates or place.rate in self.rates
        return at_rate and all(place.values.get(name) == value for name, value in self.values.items())


_EVERYWHERE = Where()


@dataclass(frozen=True)
class Late:
    """Delays by frames that it does not claim."""

    frames: int

    def wrap(self, effect: Effect, place: Place) -> Effect:
        """The effect, late."""
        return _Late(effect, np.zeros((self.frames, place.channels)))


class _Late:
    def __init__(self, inner: Effect, kept: Samples) -> None:
        self.claimed_latency, self._inner, self._kept = inner.claimed_latency, inner, kept

    def process(self, block: Samples) -> Samples:
        joined = np.concatenate([self._kept, self._inner.process(block)])
        self._kept = joined[len(block) :]
        return joined[: len(block)]


@dataclass(frozen=True)
class Claims:
    """Claims to delay by more frames than it does."""

    frames: int

    def wrap(self, effect: Effect, place: Place) -> Effect:
        """The effect, with a wrong claim."""
        return _Scaled(effect, np.ones(1), 0.0, effect.claimed_latency + self.frames)


@dataclass(frozen=True)
class Level:
    """Puts the level off by decibels."""

    decibels: float
    where: Where = _EVERYWHERE

    def wrap(self, effect: Effect, place: Place) -> Effect:
        """The effect, louder or softer."""
        return _Scaled(effect, np.full(1, linear(self.decibels)), 0.0) if self.where.holds(place) else effect


@dataclass(frozen=True)
class Flipped:
    """Turns the polarity over."""

    where: Where = _EVERYWHERE

    def wrap(self, effect: Effect, place: Place) -> Effect:
        """The effect, upside down."""
        return _Scaled(effect, np.full(1, -1.0), 0.0) if self.where.holds(place) else effect


@dataclass(frozen=True)
class Offset:
    """Adds a constant."""

    value: float

    def wrap(self, effect: Effect, place: Place) -> Effect:
        """The effect, off zero."""
        return _Scaled(effect, np.ones(1), self.value)


class _Scaled:
    def __init__(self, inner: Effect, factor: Samples, offset: float, claimed: int | None = None) -> None:
        self.claimed_latency = inner.claimed_latency if claimed is None else claimed
        self._inner, self._factor, self._offset = inner, factor, offset

    def process(self, block: Samples) -> Samples:
        return self._inner.process(block) * self._factor + self._offset


@dataclass(frozen=True)
class Hiss:
    """Adds a little noise, the same in every render."""

    level: float
    where: Where = _EVERYWHERE

    def wrap(self, effect: Effect, place: Place) -> Effect:
        """The effect, with noise at a level in dBFS (AES17)."""
        rng, height = np.random.default_rng(13), linear(self.level) / np.sqrt(2.0)
        hissing = _Changed(effect, lambda out: out + height * rng.standard_normal(out.shape))
        return hissing if self.where.holds(place) else effect


@dataclass(frozen=True)
class Swapped:
    """Exchanges the channels."""

    def wrap(self, effect: Effect, place: Place) -> Effect:
        """The effect, its channels in reverse order."""
        return _Changed(effect, lambda out: out[:, ::-1])


@dataclass(frozen=True)
class EdgeClick:
    """Adds a pulse to the first frame of every block that a host feeds."""

    height: float

    def wrap(self, effect: Effect, place: Place) -> Effect:
        """The effect, with a click at each edge."""

        def click(out: Samples) -> Samples:
            clicked = out.copy()
            clicked[:1] += self.height
            return clicked

        return _Changed(effect, click)


class _Changed:
    def __init__(self, inner: Effect, change: Callable[[Samples], Samples]) -> None:
        self.claimed_latency, self._inner, self._change = inner.claimed_latency, inner, change

    def process(self, block: Samples) -> Samples:
        return self._change(self._inner.process(block))


@dataclass(frozen=True)
class NotANumberAfterSilence:
    """Divides by the level of what it hears, and does not mind that it may be nothing for a while."""

    seconds: float = 0.05

    def wrap(self, effect: Effect, place: Place) -> Effect:
        """The effect, with a division by zero."""
        return _NotANumber(effect, round(self.seconds * place.rate))


class _NotANumber:
    def __init__(self, inner: Effect, patience: int) -> None:
        self.claimed_latency, self._inner, self._patience, self._silent = inner.claimed_latency, inner, patience, 0

    def process(self, block: Samples) -> Samples:
        out = self._inner.process(block).copy()
        quiet = ~np.any(block != 0.0, axis=1)
        before = self._silent
        for i in range(len(block)):  # blocks are short, and runs of silence must be counted in order
            before = before + 1 if quiet[i] else 0
            if before == self._patience:
                out[i] = np.nan
        self._silent = before
        return out


@dataclass(frozen=True)
class LeftOver:
    """Begins in the state in which the render before left it."""

    seconds: float = 0.2
    level: float = 6.0

    def wrap(self, effect: Effect, place: Place) -> Effect:
        """The effect, after another render and with no reset."""
        rng = np.random.default_rng(5)
        frames = round(self.seconds * place.rate)
        effect.process(linear(self.level) * rng.uniform(-1.0, 1.0, (frames, place.channels)))
        return effect


@dataclass(frozen=True)
class Slower:
    """Does its work several times over."""

    times: int

    def wrap(self, effect: Effect, place: Place) -> Effect:
        """The effect, at several times the cost."""
        return _Slower(effect, self.times)


class _Slower:
    def __init__(self, inner: Effect, times: int) -> None:
        self.claimed_latency, self._inner = inner.claimed_latency, inner
        self._idle = [copy.deepcopy(inner) for _ in range(times - 1)]

    def process(self, block: Samples) -> Samples:
        for idle in self._idle:
            idle.process(block)
        return self._inner.process(block)
