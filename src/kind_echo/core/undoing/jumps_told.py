"""Jumps in time as causes: each by itself, or a spell after which the render is in step again."""

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source, read_padded
from kind_echo.core.causes.cause import Cause

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class TellingJumps:
    """How jumps are told: choices of this product, which `benchmarks.causes` holds.

    Attributes:
        spell_seconds: within which delays that come back to the first are told as one event.
        repeated: of its power, by which what a render has more may differ from what came before it.
        most_told: jumps that are told one by one.
    """

    spell_seconds: float = 1.0
    repeated: float = 0.1
    most_told: int = 8


TELLING = TellingJumps()


@dataclass(frozen=True)
class Piece:
    """Samples of the render from the first to before the last, that are so many samples late."""

    first: int
    last: int
    delay: int

    @property
    def length(self) -> int:
        """In samples."""
        return self.last - self.first


def jumps_of(pieces: list[Piece], reference: Source, render: Source, factors: Floats, off: float) -> list[Cause]:
    """Each jump, or each spell after which the render is in step again, as a cause."""
    base, causes, at, rate = pieces[0].delay, [], 1, render.rate
    while at < len(pieces):
        was, here = pieces[at - 1], pieces[at]
        start = (here.first - base) / rate
        back = next((k for k in range(at + 1, len(pieces)) if pieces[k].delay == was.delay), None)
        if back is not None and pieces[back].first - here.first <= TELLING.spell_seconds * rate:
            spell = pieces[at:back]
            length = (pieces[back].first - here.first) / rate
            why, jump = _spell(spell, was), float(here.delay - was.delay)
            causes.append(Cause("time_jump", amount=jump, unit="samples", why=why, start=start, length=length))
            at = back + 1
            continue
        jump = here.delay - was.delay
        what = f"{-jump} samples lost" if jump < 0 else _put_in(reference, render, was, here, factors)
        causes.append(Cause("time_jump", amount=float(jump), unit="samples", why=what, start=start))
        at += 1
    told = causes[: TELLING.most_told]
    if len(causes) > len(told):
        last = told[-1]
        told[-1] = replace(last, why=f"{last.why}, and {len(causes) - len(told)} more jumps")
    return [replace(cause, takes_off=off) if cause is told[0] else cause for cause in told]


def _put_in(reference: Source, render: Source, was: Piece, here: Piece, factors: Floats) -> str:
    """What the samples are that a render has more between two pieces: what was there already, or something else."""
    jump, left, own = here.delay - was.delay, 0.0, 0.0
    for delay, lo, hi in ((was.delay, here.first - jump, here.first), (here.delay, here.first, here.first + jump)):
        x = factors * read_padded(reference, lo - delay, hi - delay)
        left += float(np.square(read_padded(render, lo, hi) - x).sum())
        own += float(np.square(x).sum())
    return f"{jump} samples {'repeated' if left < TELLING.repeated * own else 'put in'}"


def _spell(spell: list[Piece], was: Piece) -> str:
    """What happened in pieces after which the delay is what it was."""
    late = [piece.delay - was.delay for piece in spell]
    if len(spell) == 2 and late[0] == spell[1].length and -late[1] == spell[0].length:
        return f"blocks of {spell[0].length} and {spell[1].length} samples in each other's place"
    if len(spell) == 2 and -late[0] == spell[1].length and late[1] == spell[0].length:
        return f"blocks of {spell[0].length} and {spell[1].length} samples in each other's place"
    if len(spell) == 1 and late[0] == spell[0].length:
        return f"{late[0]} samples twice, in place of those that follow"
    return f"{sum(piece.length for piece in spell)} samples from elsewhere"
