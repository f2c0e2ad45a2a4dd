"""Sound through a plug-in, block by block, with what each block took; memory does not grow with its length."""

import itertools
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray

from kind_echo.renderers.plugins.model import Block, HostFailed, Instance, Setup
from kind_echo.renderers.plugins.motion import Motion, changes_within

_CHUNK_FRAMES = 1 << 16
_MOST_WAV = 4_000_000_000
"""Bytes of samples: a WAV counts them in 32 bits (EBU Tech 3306 has the form for more)."""
_MOST_FLUSHED_SECONDS = 30.0
"""Silence that is given at most for what a host library holds back."""


@dataclass(frozen=True)
class Blocks:
    """Frames of one block after the other: all alike, or drawn from 1 to `size` by a seed that is not 0.

    The first of those that are drawn has the full size: some host libraries prepare a plug-in anew for a larger block
    than any before.
    """

    size: int
    seed: int = 0

    def sizes(self) -> Iterator[int]:
        """Without end."""
        if not self.seed:
            yield from itertools.repeat(self.size)
        drawn = np.random.default_rng(self.seed)
        yield self.size
        while True:
            yield from map(int, drawn.integers(1, self.size + 1, 1024))


@dataclass(frozen=True)
class BlockTimes:
    """What blocks took, in seconds.

    Attributes:
        first, median, most, worst: of the first one; of all, by rank 50 %, 99 % and 100 %.
        share: the greatest part of its own length that a block took, after the first.
        decay: median of the last quarter over the median of the first quarter.
        missed: blocks that were not ready at their time, where they were paced by the clock; None where not.
    """

    first: float
    median: float
    most: float
    worst: float
    share: float
    decay: float
    missed: int | None
    count: int


@dataclass(frozen=True)
class Outcome:
    """What came of a render.

    Attributes:
        latency, tail: as the plug-in tells them, in frames; of the tail None where it does not.
        taken_off: the latency was, from what came out.
        wrote_input: it changed samples that it was only to read; None where that cannot be told.
        seconds: in the plug-in.
    """

    frames: int
    latency: int
    taken_off: bool
    tail: int | None
    wrote_input: bool | None
    seconds: float
    times: BlockTimes


@dataclass(frozen=True)
class Course:
    """How sound is run.

    Attributes:
        tail: frames that are rendered beyond the end of the signal, which is silence there.
        compensate: what comes out is begun so much later as the plug-in says that it is late.
        paced: each block waits for its time.
        twice: all of it is run once before, and the plug-in reset.
        beside: called with each block before it is processed, as other instances are.
    """

    blocks: Blocks
    motions: tuple[Motion, ...] = ()
    tail: int = 0
    compensate: bool = False
    paced: bool = False
    twice: bool = False
    beside: Callable[[Block], None] | None = None


def run_file(instance: Instance, source: Path, target: Path, setup: Setup, course: Course) -> Outcome:
    """Run a sound file through a plug-in that has been started, into another, and stop it. Raises HostFailed."""
    kind = "float64" if setup.double else "float32"
    with soundfile.SoundFile(source) as sound:
        wanted = sound.frames + course.tail
        if course.twice:
            _Run(instance, setup, course, sound, kind).through(wanted, lambda _: None)
            instance.reset()
            sound.seek(0)
        run = _Run(instance, setup, course, sound, kind)
        subtype = "DOUBLE" if setup.double else "FLOAT"
        is_large = wanted * setup.channels * (8 if setup.double else 4) > _MOST_WAV
        form = "RF64" if is_large else "WAV"
        with soundfile.SoundFile(target, "w", setup.rate, setup.channels, subtype, format=form) as out:
            sink = _Sink(out)
            run.through(wanted, sink.take)
            sink.end()
        latency, tail = instance.latency(), instance.tail()
        instance.stop()
    off = instance.takes_off_latency or course.compensate
    return Outcome(wanted, latency, off, tail, instance.wrote_input, sum(run.took), run.times(course.paced))


class _Run:
    """One pass over a signal."""

    def __init__(self, instance: Instance, setup: Setup, course: Course, sound: soundfile.SoundFile, kind: str) -> None:
        self._instance, self._setup, self._course = instance, setup, course
        self._feed = _Feed(sound, kind)
        self.took: list[float] = []
        self._sizes: list[int] = []
        self._missed = 0
        # A change is told at its frame, or at the beginning of the next block.
        self._moves_until = max((course.frames[-1] for course in course.motions), default=-1) + course.blocks.size

    def through(self, wanted: int, take: Callable[[Block], None]) -> None:
        """Hand on exactly so many frames of what comes out. Raises HostFailed."""
        skip = self._instance.latency() if self._course.compensate and not self._instance.takes_off_latency else 0
        given = kept = 0
        limit = wanted + skip + round(_MOST_FLUSHED_SECONDS * self._setup.rate)
        begun = time.perf_counter()
        for size in self._course.blocks.sizes():
            if kept >= wanted:
                return
            if given > limit:
                raise HostFailed(f"{self._instance.id} gave {kept} frames for the {wanted} that it was given")
            out = self._one(given, size, begun)
            given += size
            piece = out[:, min(skip, out.shape[1]) :]
            skip -= out.shape[1] - piece.shape[1]
            piece = piece[:, : wanted - kept]
            kept += piece.shape[1]
            take(piece)

    def _one(self, at: int, size: int, begun: float) -> Block:
        block = self._feed.take(size)
        courses = self._course.motions if at <= self._moves_until else ()
        changes = changes_within(courses, at, at + size, exact=self._instance.exact) if courses else []
        if self._course.beside is not None:
            self._course.beside(block)
        if self._course.paced:
            # It is due when the sound of its frames has come in.
            time.sleep(max(0.0, begun + (at + size) / self._setup.rate - time.perf_counter()))
        before = time.perf_counter()
        try:
            out = self._instance.process(block, changes)
        except HostFailed as error:
            raise HostFailed(f"{error} at {at / self._setup.rate:.2f} s") from error
        after = time.perf_counter()
        self.took.append(after - before)
        self._sizes.append(size)
        self._missed += self._course.paced and after > begun + (at + 2 * size) / self._setup.rate
        return out

    def times(self, paced: bool) -> BlockTimes:
        """What the blocks of this pass took."""
        took, sizes = np.array(self.took), np.array(self._sizes)
        if not len(took):
            return BlockTimes(0.0, 0.0, 0.0, 0.0, 0.0, 1.0, self._missed if paced else None, 0)
        shares = took / (sizes / self._setup.rate)
        quarter = max(1, len(took) // 4)
        begin, end = float(np.median(took[:quarter])), float(np.median(took[-quarter:]))
        return BlockTimes(
            float(took[0]), float(np.median(took)), float(np.percentile(took, 99)), float(took.max()),
            float(shares[1:].max(initial=0.0)), end / begin if begin > 0 else 1.0,
            self._missed if paced else None, len(took),
        )  # fmt: skip


class _Feed:
    """The signal in blocks of any size, and silence after its end."""

    def __init__(self, sound: soundfile.SoundFile, kind: str) -> None:
        self._sound, self._kind = sound, kind
        self._held: NDArray[np.float32] | NDArray[np.float64] = np.zeros((0, sound.channels), kind)
        self._at = 0

    def take(self, size: int) -> Block:
        """The next block, shape (channels, size)."""
        if self._at + size <= len(self._held):  # as most are: whole in what was read
            self._at += size
            whole: Block = self._held[self._at - size : self._at].T.copy()
            return whole
        out = np.zeros((self._sound.channels, size), self._kind)
        filled = 0
        while filled < size:
            if self._at == len(self._held):
                self._held, self._at = self._sound.read(_CHUNK_FRAMES, self._kind, always_2d=True), 0
                if not len(self._held):
                    break
            piece = self._held[self._at : self._at + size - filled]
            out[:, filled : filled + len(piece)] = piece.T
            filled += len(piece)
            self._at += len(piece)
        return out


class _Sink:
    """Frames, written in large pieces."""

    def __init__(self, sound: soundfile.SoundFile) -> None:
        self._sound = sound
        self._held: list[Block] = []
        self._frames = 0

    def take(self, piece: Block) -> None:
        """Keep a piece; the array is the giver's again afterwards."""
        self._held.append(piece.copy())
        self._frames += piece.shape[1]
        if self._frames >= _CHUNK_FRAMES:
            self.end()

    def end(self) -> None:
        """Write what is held."""
        if self._held:
            self._sound.write(np.concatenate(self._held, axis=1).T)
        self._held, self._frames = [], 0
