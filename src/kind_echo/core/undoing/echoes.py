"""A late copy of the sound: how late, and how much softer; one, or one after the other."""

import math
from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource
from kind_echo.core.audio.source import Derived, Samples, Source, read_padded
from kind_echo.core.audio.transforms import fast_length
from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.shares import fall
from kind_echo.core.registry.numbers import number
from kind_echo.core.undoing.stretch import Stretch, take_stretch
from kind_echo.core.undoing.undone import Undone

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class SeekingEchoes:
    """When a copy is told: choices of this product, which `benchmarks.causes` holds.

    Attributes:
        least_seconds: under which a copy is a filter.
        most_seconds: that it is late.
        ridge: of the mean power of the reference, under which its spectrum tells nothing.
        beside_samples: around a copy, that are its own: it may lie between samples.
        most_copies: one after the other.
        there: share of the difference that must lie where a copy can.
        least_db: of the sound itself.
        worth_db: that the copies take off the difference.
        next_worth_db: that one more must.
        comes_again: correlation of the reference with itself so much later, from which nothing tells a copy.
        surely_db, surely_again: that copies take off, from which only so much of it speaks against them.
        around_samples: to either side, at which it is looked for.
    """

    least_seconds: float = 0.002
    most_seconds: float = 2.5
    ridge: float = 1e-4
    beside_samples: int = 3
    most_copies: int = 6
    there: float = 0.2
    least_db: float = -80.0
    worth_db: float = 10.0
    next_worth_db: float = 3.0
    comes_again: float = 0.5
    surely_db: float = 40.0
    surely_again: float = 0.98
    around_samples: int = 24


ECHOES = SeekingEchoes()


@dataclass(frozen=True)
class EchoingSource(Derived):
    """A reference with late copies of itself: (samples late, factor) of each."""

    taps: tuple[tuple[int, float], ...]

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop."""
        out = self.source.read(start, stop).copy()
        for late, factor in self.taps:
            out += factor * read_padded(self.source, start - late, stop - late)
        return out


def find_echo(reference: Source, aligned: AlignedSource, most_frames: int) -> Undone | None:
    """Late copies of the reference in the render, up to half of so many frames late; None where there are none."""
    part = take_stretch(reference, aligned, most_frames)
    if part is None:
        return None
    fitted, off = None, 0.0
    for _ in range(ECHOES.most_copies):
        error = part.error if fitted is None else fitted.error
        late = _lag(part, error)
        if late is None:
            break
        found = _fit(part, [*([] if fitted is None else fitted.places), late])
        # Before a copy begins, the stretch does not hold what it is a copy of.
        power = float(np.square(found.error).sum())
        before = float(np.square(part.error[:, found.first :]).sum())
        if before < ECHOES.there * float(np.square(part.error).sum()):
            break
        surely = fall(before, power) >= ECHOES.surely_db
        if _comes_again(part, late, ECHOES.surely_again if surely else ECHOES.comes_again):
            break
        if fall(float(np.square(error[:, found.first :]).sum()), power) < ECHOES.next_worth_db:
            break
        fitted, off = found, fall(before, power)
    if fitted is None or off < ECHOES.worth_db:
        return None
    first = fitted.places[0]
    level = 20 * math.log10(max(abs(fitted.strength(first)), 1e-6))
    if level < ECHOES.least_db:
        return None
    why = f"{number(1000 * first / reference.rate, '.1f')} ms late"
    if len(fitted.places) > 1:
        why += f", and {len(fitted.places) - 1} more"
    echo = Cause("echo", amount=level, unit="dB", takes_off=off, why=why)
    return Undone([echo], EchoingSource(reference, tuple(fitted.taps.items())), aligned.render, off)


@dataclass(frozen=True)
class _Fitted:
    """Copies and what they leave.

    Attributes:
        places: samples by which each is late, in the order in which they were found.
        first: frame of the stretch from which on all copies are there.
        taps: factor of the reference at each delay, over that of the sound itself.
    """

    places: list[int]
    first: int
    taps: dict[int, float]
    error: Floats

    def strength(self, late: int) -> float:
        """Of a copy, with what lies beside it."""
        return sum(factor for at, factor in self.taps.items() if abs(at - late) <= ECHOES.beside_samples)


def _lag(part: Stretch, error: Floats) -> int | None:
    """How late what is left is against the reference, its colour taken off; None where nothing stands out."""
    size = fast_length(2 * part.x.shape[1])
    spectra = fft.rfft(part.factors[:, None] * part.x, size), fft.rfft(error, size)
    power = np.square(np.abs(spectra[0])).sum(axis=0)
    cross = (np.conj(spectra[0]) * spectra[1]).sum(axis=0)
    taps = np.abs(fft.irfft(cross / (power + ECHOES.ridge * power.mean()), size))
    lo = round(ECHOES.least_seconds * part.rate)
    hi = min(part.x.shape[1] // 2, round(ECHOES.most_seconds * part.rate))
    if hi <= lo:
        return None
    return lo + int(taps[lo:hi].argmax())


def _comes_again(part: Stretch, late: int, alike: float) -> bool:
    """Whether the sound itself comes again so much later: then nothing tells a copy."""
    for at in range(late - ECHOES.around_samples, late + ECHOES.around_samples + 1):  # a tone is at odds with itself
        x, again = part.x[:, at:], part.x[:, : part.x.shape[1] - at]
        scale = float(np.sqrt(np.square(x).sum() * np.square(again).sum()))
        if scale > 0.0 and abs(float((x * again).sum())) > alike * scale:
            return True
    return False


def _fit(part: Stretch, places: list[int]) -> _Fitted:
    """The sound itself and its copies, with what lies beside them, by least squares in each channel."""
    reach = range(-ECHOES.beside_samples, ECHOES.beside_samples + 1)
    lags = sorted({late + beside for late in places for beside in reach})
    first = min(lags[-1], part.x.shape[1] // 2)
    taps, weights, error = np.zeros(len(lags)), 0.0, np.zeros_like(part.y)
    for c, (x, y) in enumerate(zip(part.x, part.y, strict=True)):
        basis = np.stack([x, *(_late(x[np.newaxis], lag)[0] for lag in lags)])[:, first:]
        gram = basis @ basis.T
        gram += 1e-12 * np.trace(gram) / len(gram) * np.eye(len(gram))
        factors = np.linalg.solve(gram, basis @ y[first:]) if gram[0, 0] > 0.0 else np.zeros(len(gram))
        error[c, first:] = y[first:] - factors @ basis
        if factors[0] != 0.0:
            taps += gram[0, 0] * factors[1:] / factors[0]
            weights += gram[0, 0]
    return _Fitted(places, first, dict(zip(lags, (taps / max(weights, 1e-300)).tolist(), strict=True)), error)


def _late(x: Floats, samples: int) -> Floats:
    """Later by so many samples, within the stretch."""
    out = np.zeros_like(x)
    out[:, samples:] = x[:, : x.shape[1] - samples]
    return out
