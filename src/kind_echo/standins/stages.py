"""What a simulated host does on the way into an effect and out of it: each stage one habit, put together at will."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import scipy

from kind_echo.core.audio.dither import to_word_length
from kind_echo.core.audio.resampling import resample
from kind_echo.core.audio.source import Samples
from kind_echo.standins.effects import Values, linear


@dataclass(frozen=True)
class Job:
    """What a host is to render."""

    effect: str
    values: Values
    rate: int
    mode: str
    block_size: int
    channels: int


@dataclass(frozen=True)
class Only:
    """Where a stage is at work: at these rates, in this mode, with this effect; everywhere unless said."""

    rates: tuple[int, ...] = ()
    mode: str = ""
    effect: str = ""

    def holds(self, job: Job) -> bool:
        """Whether it is at work on this job."""
        return (
            (not self.rates or job.rate in self.rates)
            and self.mode in ("", job.mode)
            and self.effect in ("", job.effect)
        )


ALWAYS = Only()


@dataclass(frozen=True, kw_only=True)
class Stage:
    """A habit of a host; this one has none. Samples have shape (frames, channels)."""

    only: Only = ALWAYS

    def values(self, values: Values) -> Values:
        """The parameters that the effect is given."""
        return values

    def feed(self, signal: Samples, rate: int) -> Samples:
        """The signal on its way in, at the rate of the job."""
        return signal

    def blocks(self, sizes: Iterator[int]) -> Iterator[int]:
        """The lengths of the blocks that the effect is fed with."""
        return sizes

    def taken_off(self, claimed: int) -> int:
        """Frames that are taken off the start for the latency that the effect claims."""
        return claimed

    def give(self, render: Samples, rate: int) -> Samples:
        """The render on its way out, at the rate of the job, as long as it came."""
        return render


@dataclass(frozen=True)
class Compensates(Stage):
    """Takes the claimed latency off, give or take some frames; not at all when `wholly` is False."""

    off: int = 0
    wholly: bool = True

    def taken_off(self, claimed: int) -> int:
        """The claim and what is added to it."""
        return max(0, claimed + self.off) if self.wholly else 0


@dataclass(frozen=True)
class Overrides(Stage):
    """Sets a parameter of effects that have it, whatever the setting says."""

    name: str
    value: float | int | str

    def values(self, values: Values) -> Values:
        """The values with the host's own."""
        return values | {self.name: self.value} if self.name in values else values


@dataclass(frozen=True)
class VariesBlocks(Stage):
    """Feeds blocks of lengths that change, as where automation cuts them."""

    lengths: tuple[int, ...]

    def blocks(self, sizes: Iterator[int]) -> Iterator[int]:
        """These lengths over and over."""
        while True:
            yield from self.lengths


@dataclass(frozen=True)
class SilentStart(Stage):
    """Loses the start of every render."""

    seconds: float

    def give(self, render: Samples, rate: int) -> Samples:
        """The render with its start silent."""
        out = render.copy()
        out[: round(self.seconds * rate)] = 0.0
        return out


@dataclass(frozen=True)
class Silent(Stage):
    """Renders nothing."""

    def give(self, render: Samples, rate: int) -> Samples:
        """Silence."""
        return np.zeros_like(render)


@dataclass(frozen=True)
class FixedPoint(Stage):
    """Writes integers of a word length, dithered or not; what is beyond full scale is cut off."""

    bits: int
    dithered: bool = False

    def give(self, render: Samples, rate: int) -> Samples:
        """The render on the grid of the word length."""
        return to_word_length(render, self.bits, dithered=self.dithered)


@dataclass(frozen=True)
class OwnRate(Stage):
    """Resamples whatever comes to a rate of its own and back; with `clips`, in fixed point on the way in."""

    own: int
    clips: bool = False

    def feed(self, signal: Samples, rate: int) -> Samples:
        """The signal, as it sounds after the import."""
        if rate == self.own:
            return signal
        there = resample(signal, rate, self.own)
        if self.clips:
            there = to_word_length(there, 24, dithered=False)
        return _fit(resample(there, self.own, rate), len(signal))


@dataclass(frozen=True)
class Wall(Stage):
    """Ends at a frequency, like a brick wall; linear phase, no delay."""

    frequency: float

    def give(self, render: Samples, rate: int) -> Samples:
        """The render below the frequency."""
        half = round(0.01 * rate)
        taps = scipy.signal.firwin(
            2 * half + 1, self.frequency, window=("kaiser", scipy.signal.kaiser_beta(90.0)), fs=rate
        )
        return np.asarray(scipy.signal.oaconvolve(render, taps[:, None], mode="same", axes=0))


@dataclass(frozen=True)
class OneAsTwo(Stage):
    """Takes one channel for two of equal power, and so puts it 3.01 dB lower."""

    def give(self, render: Samples, rate: int) -> Samples:
        """One channel at half the power; more as they are."""
        return render * linear(-10.0 * np.log10(2.0)) if render.shape[1] == 1 else render


@dataclass(frozen=True)
class StartsLate(Stage):
    """The first moments come late by some frames, until playing has settled."""

    frames: int
    seconds: float

    def give(self, render: Samples, rate: int) -> Samples:
        """The render with its start pushed back."""
        until = min(round(self.seconds * rate), len(render))
        out = render.copy()
        out[: min(self.frames, until)] = 0.0
        out[self.frames : until] = render[: max(0, until - self.frames)]
        return out


@dataclass(frozen=True)
class MonitorPath(Stage):
    """What is heard in real time has gone through a path that adds some milliseconds."""

    milliseconds: float

    def give(self, render: Samples, rate: int) -> Samples:
        """The render, later."""
        frames = min(round(self.milliseconds / 1000 * rate), len(render))
        return np.concatenate([np.zeros((frames, render.shape[1])), render[: len(render) - frames]])


def _fit(samples: Samples, frames: int) -> Samples:
    """As many frames as wanted, cut or filled up with silence."""
    missing = max(0, frames - len(samples))
    return np.concatenate([samples[:frames], np.zeros((missing, samples.shape[1]))])
