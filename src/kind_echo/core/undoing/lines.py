"""Steady tones that were not there: hum and its harmonics, a whistle."""

import math
from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource
from kind_echo.core.audio.source import Derived, Samples, Source
from kind_echo.core.audio.transforms import hann
from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.shares import fall
from kind_echo.core.registry.numbers import number
from kind_echo.core.undoing.stretch import Stretch, take_stretch
from kind_echo.core.undoing.undone import Undone

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class SeekingLines:
    """When a tone is told: choices of this product, which `benchmarks.causes` holds.

    Attributes:
        most_lines: that are told.
        least_seconds: of a pair, under which no line is told from a sound.
        above: times the power that the reference has there, from which it needs no other sign.
        stands_out: of what lies beside it, times as much as the reference does there.
        next_worth_db: that a further line takes off what is left.
        worth_db: that all of them take off.
        least: amplitude, −140 dBFS.
        own_bins, own_db: within which of a louder line, and so much under it, a line is what is left of that one.
        range_db: under the loudest, from which no line is told.
        sweeps: in which all lines are told anew.
        harmonic: of its frequency, within which a line is a harmonic of another.
    """

    most_lines: int = 24
    least_seconds: float = 0.2
    above: float = 100.0
    stands_out: float = 30.0
    next_worth_db: float = 0.3
    worth_db: float = 3.0
    least: float = 1e-7
    own_bins: float = 8.0
    own_db: float = 30.0
    range_db: float = 60.0
    sweeps: int = 4
    harmonic: float = 1e-3


LINES = SeekingLines()


@dataclass(frozen=True)
class Line:
    """A tone: Hz, and of each channel the factors of its cosine and sine over the time of the file."""

    hertz: float
    cosines: tuple[float, ...]
    sines: tuple[float, ...]

    @property
    def level(self) -> float:
        """dBFS of the channel in which it is loudest."""
        return 20 * math.log10(max(math.hypot(a, b) for a, b in zip(self.cosines, self.sines, strict=True)) + 1e-12)


@dataclass(frozen=True)
class WithLines(Derived):
    """A reference with tones added."""

    lines: tuple[Line, ...]

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop."""
        out = self.source.read(start, stop).copy()
        times = np.arange(start, stop) / self.rate
        for line in self.lines:
            turn = 2 * np.pi * line.hertz * times
            out += np.outer(np.cos(turn), line.cosines) + np.outer(np.sin(turn), line.sines)
        return out


def find_lines(reference: Source, aligned: AlignedSource) -> Undone | None:
    """Steady tones of the render that the reference has not; None where there are none."""
    part = take_stretch(reference, aligned)
    if part is None or part.x.shape[1] < LINES.least_seconds * part.rate:
        return None
    size = part.x.shape[1]
    window = hann(size)
    there = np.square(np.abs(fft.rfft(part.factors[:, None] * part.x * window))).sum(axis=0)
    error = part.error
    before = left = float(np.square(error).sum())
    times = (part.first + np.arange(size)) / part.rate
    lines: list[Line] = []
    while len(lines) < LINES.most_lines and left > 0.0:
        power = np.square(np.abs(fft.rfft(error * window))).sum(axis=0)
        power[:2] = 0.0
        top = int(power.argmax())
        if not _is_new(power, there, top):
            break
        line, without = _taken_off(error, times, top * part.rate / size, part.rate / size)
        after = float(np.square(without).sum())
        if fall(left, after) < LINES.next_worth_db or line.level < 20 * math.log10(LINES.least):
            break
        lines.append(line)
        error, left = without, after
    lines, left = _together(lines, part, times)
    off = fall(before, left)
    if not lines or off < LINES.worth_db:
        return None
    return Undone([_told(lines, off)], WithLines(reference, tuple(lines)), aligned.render, off)


def _together(lines: list[Line], part: Stretch, times: Floats) -> tuple[list[Line], float]:
    """The lines told anew with all others, and the sound at its level, off; and what they leave."""
    loudest = max((line.level for line in lines), default=0.0)
    width = part.rate / part.x.shape[1]
    kept = [
        line
        for line in lines
        if not any(
            other is not line and abs(other.hertz - line.hertz) < LINES.own_bins * width
            and other.level > line.level + LINES.own_db for other in lines
        ) and line.level > loudest - LINES.range_db
    ]  # fmt: skip
    waves = [_wave(line, times) for line in kept]
    own = np.einsum("cf,cf->c", part.x, part.x)
    error = part.error
    for _ in range(LINES.sweeps if kept else 0):
        sound = part.y - np.sum(waves, axis=0)
        factors = np.divide(np.einsum("cf,cf->c", part.x, sound), own, out=np.ones_like(own), where=own > 0.0)
        error = sound - factors[:, None] * part.x
        for place, line in enumerate(kept):
            kept[place], left = _taken_off(error + waves[place], times, line.hertz, width)
            waves[place] = error + waves[place] - left
            error = left
    return kept, float(np.square(error).sum())


def _wave(line: Line, times: Floats) -> Floats:
    turn = 2 * np.pi * line.hertz * times
    return np.outer(line.cosines, np.cos(turn)) + np.outer(line.sines, np.sin(turn))


def _is_new(power: Floats, there: Floats, top: int) -> bool:
    """Whether what is left has a line at a bin that the reference has not, or far softer."""
    mine, theirs = (float(side[max(0, top - 3) : top + 4].sum()) for side in (power, there))
    if mine >= LINES.above * theirs:
        return True
    return _stands_out(power, top) >= LINES.stands_out * max(1.0, _stands_out(there, top))


def _stands_out(power: Floats, top: int) -> float:
    """How much stronger a line is than what lies beside it in the spectrum."""
    beside = np.concatenate([power[max(0, top - 40) : max(0, top - 9)], power[top + 10 : top + 41]])
    usual = 7 * float(np.median(beside)) if len(beside) else 0.0
    return float(power[max(0, top - 3) : top + 4].sum()) / max(usual, 1e-300)


def _taken_off(error: Floats, times: Floats, hertz: float, width: float) -> tuple[Line, Floats]:
    """The tone near a frequency that takes most off, and what it leaves; its frequency by steps of Newton's kind."""
    middle = float(times.mean())
    for _ in range(6):
        turn = 2 * np.pi * hertz * (times - middle)
        wave = np.stack([np.cos(turn), np.sin(turn)])
        found = np.linalg.solve(wave @ wave.T, wave @ error.T)
        slope = 2 * np.pi * (times - middle) * (found.T @ np.stack([-wave[1], wave[0]]))
        left = error - found.T @ wave
        bend = float(np.square(slope).sum())
        step = float((slope * left).sum()) / bend if bend > 0.0 else 0.0
        hertz += float(np.clip(step, -width, width))
        if abs(step) < 1e-9 * max(hertz, 1.0):
            break
    turn = 2 * np.pi * hertz * times
    wave = np.stack([np.cos(turn), np.sin(turn)])
    found = np.linalg.solve(wave @ wave.T, wave @ error.T)
    return Line(hertz, tuple(found[0].tolist()), tuple(found[1].tolist())), error - found.T @ wave


def _told(lines: list[Line], off: float) -> Cause:
    """The loudest, and what of the others is its harmonic."""
    lowest = min(lines, key=lambda line: line.hertz)
    loudest = max(lines, key=lambda line: line.level)
    rest = [line for line in lines if line is not lowest]
    of_it = [line for line in rest if _is_multiple(line.hertz, lowest.hertz)]
    if rest and len(of_it) == len(rest):
        count = len(rest)
        why = f"{number(lowest.hertz, ',.2f')} Hz and {count} {'harmonic' if count == 1 else 'harmonics'}"
    else:
        why = ", ".join(f"{number(line.hertz, ',.2f')} Hz" for line in sorted(lines, key=lambda x: -x.level)[:3])
    return Cause("added_tone", amount=loudest.level, unit="dBFS", takes_off=off, why=why)


def _is_multiple(hertz: float, of: float) -> bool:
    times = round(hertz / of)
    return times > 1 and abs(hertz - times * of) < max(LINES.harmonic * hertz, 0.5)
