"""Steady tones that were not there: hum and its harmonics, a whistle."""

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource
from kind_echo.core.audio.source import Derived, PartSource, Samples, Source
from kind_echo.core.audio.transforms import hann
from kind_echo.core.causes.cause import Cause, CauseName
from kind_echo.core.causes.shares import fall
from kind_echo.core.registry.numbers import number
from kind_echo.core.undoing.orders import Tones, is_tonal, order_of, tones_of
from kind_echo.core.undoing.stretch import Stretch, take_sounding, take_stretch
from kind_echo.core.undoing.undone import Undone

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class SeekingLines:
    """When a tone is told: choices of this product, which `benchmarks.causes` holds.

    Attributes:
        most_lines: that are told.
        at_once, near_top: lines that are taken off in one go, and their share of the power of the strongest.
        most_frames: of a pair, from its middle.
        least_seconds: of a pair, under which no line is told from a sound.
        above: times the power that the reference has there, from which it needs no other sign.
        stands_out: of what lies beside it, times as much as the reference does there.
        alone: share of the power of what is left, from which a line is one whatever the reference has there.
        worth_db: that all of them take off.
        least: amplitude, −140 dBFS.
        own_bins, own_db: within which of a louder line, and so much under it, a line is what is left of that one.
        beside_hertz, beside_db: of a tone, within which lines that take less off are of its own level.
        range_db: under the loudest, from which no line is told.
        mostly: of the power, that the lines told have of all that were found.
        high_orders_db: under the loudest order, from which a tone may be an order over the highest that is looked for.
        beside_folded_db: under the loudest that folds, from which a harmonic may be one that folds as well.
        louder_db: than in the reference, from which a line that folds is told.
        none_dbfs: under which the reference has none.
        few: lines, up to which they are told anew in several sweeps.
        sweeps: in which all lines are told anew.
        turns: in which the frequency of a line is told.
        harmonic: of its frequency, within which a line is a harmonic of another.
    """

    most_lines: int = 24
    at_once: int = 10
    near_top: float = 1e-3
    most_frames: int = 1 << 17
    least_seconds: float = 0.2
    above: float = 100.0
    stands_out: float = 30.0
    alone: float = 0.999
    worth_db: float = 3.0
    least: float = 1e-7
    own_bins: float = 8.0
    own_db: float = 30.0
    beside_hertz: float = 100.0
    beside_db: float = 10.0
    range_db: float = 60.0
    mostly: float = 0.7
    high_orders_db: float = 30.0
    beside_folded_db: float = 20.0
    louder_db: float = 6.0
    none_dbfs: float = -100.0
    few: int = 6
    sweeps: int = 4
    turns: int = 3
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
    """Steady tones of the render that the reference has not; None where there are none.

    What a sum of tones brings forth is there while it sounds: of such a one, a part is told.
    """
    tonal = is_tonal(reference)
    if tonal:
        part = take_sounding(reference, aligned, LINES.most_frames)
        found = None if part is None else _found(part, reference, aligned, sounding=True, tonal=True)
        if found is not None:
            return found
    part = take_stretch(reference, aligned, LINES.most_frames)
    return None if part is None else _found(part, reference, aligned, sounding=False, tonal=tonal)


def _found(part: Stretch, reference: Source, aligned: AlignedSource, *, sounding: bool, tonal: bool) -> Undone | None:
    """The tones of a stretch, which is all that counts of the pair where it is the part that sounds."""
    if part.x.shape[1] < LINES.least_seconds * part.rate:
        return None
    size = part.x.shape[1]
    window = hann(size)
    there = np.square(np.abs(fft.rfft(part.factors[:, None] * part.x * window))).sum(axis=0)
    error = part.error - part.error.mean(axis=1, keepdims=True)
    before = left = float(np.square(error).sum())
    times = (part.first + np.arange(size)) / part.rate
    lines: list[Line] = []
    new: list[float] = []
    while len(lines) < LINES.most_lines and left > 0.0:
        power = np.square(np.abs(fft.rfft(error * window))).sum(axis=0)
        power[:2] = power[-2:] = 0.0
        tops = _tops(power)
        nothing_there = not _is_new(power, there, tops[0]) and _stands_out(there, tops[0]) < LINES.stands_out
        # Beside tones of the reference, what their levels do has lines too.
        alone = not tonal and _share_of(power, tops[0]) >= LINES.alone
        if not lines and nothing_there and not alone:
            break
        count = len(lines)
        for top in tops[: LINES.most_lines - count]:
            if _stands_out(power, top) < LINES.stands_out:
                continue
            line, without = _taken_off(error, times, top * part.rate / size, part.rate / size)
            after = float(np.square(without).sum())
            if after >= left or line.level < 20 * math.log10(LINES.least):
                continue
            lines.append(line)
            new += [line.hertz] if _is_new(power, there, top) or (alone and top == tops[0]) else []
            error, left = without, after
        if len(lines) == count:
            break
    lines, left = _together(lines, part, times)
    off = fall(before, left)
    tones = tones_of(there, size, reference.rate)
    was = {line: _level_at(there, round(line.hertz * size / part.rate), size) for line in lines}
    own = [line for line in lines if tones.has(line.hertz)]
    told = [line for line in lines if line not in own and (
        min((abs(line.hertz - hertz) for hertz in new), default=1.0) < 0.5
        or (_folds(line, tones) and line.level > was[line] + LINES.louder_db))]  # fmt: skip
    changed = [line for line in lines if line not in told and order_of(line.hertz, tones)]
    if not told or off < LINES.worth_db or _power(told + changed + own) < LINES.mostly * _power(lines):
        return None
    beside = all(min(abs(line.hertz - own) for own in tones.hertz) < LINES.beside_hertz for line in told if tones.hertz)
    if tones.hertz and beside and off < LINES.beside_db:
        return None  # a tone whose level moves has lines at either side
    causes = _causes(told, changed, tones, max((was[line] for line in told if _folds(line, tones)), default=-math.inf))
    with_lines = WithLines(reference, tuple(lines))
    causes[0] = replace(causes[0], takes_off=off)
    if sounding and causes[0].cause != "added_tone":
        ends = part.first, part.first + size
        return Undone(causes, PartSource(with_lines, *ends), PartSource(aligned.render, *ends), off)
    return Undone(causes, with_lines, aligned.render, off)


def _share_of(power: Floats, top: int) -> float:
    """Of all the power, that of the line in a bin."""
    return float(power[max(0, top - 4) : top + 5].sum()) / max(float(power.sum()), 1e-300)


def _tops(power: Floats) -> list[int]:
    """The greatest bins that do not lie beside each other, of those near the greatest of all."""
    rest, tops = power.copy(), [int(power.argmax())]
    while len(tops) < LINES.at_once:
        rest[max(0, tops[-1] - 20) : tops[-1] + 21] = 0.0
        top = int(rest.argmax())
        if rest[top] < LINES.near_top * power[tops[0]]:
            break
        tops.append(top)
    return tops


def _power(lines: list[Line]) -> float:
    return sum(10 ** (line.level / 10) for line in lines)


def _causes(lines: list[Line], changed: list[Line], tones: Tones, was: float) -> list[Cause]:
    """Lines as what folds, what is a harmonic or a sum of the reference's own tones, and what is none of these.

    Args:
        changed: at orders that the reference has too.
        was: dBFS of the loudest in the reference, of those that fold.
    """
    folded: list[tuple[int, Line]] = []
    harmonics: list[tuple[int, Line]] = []
    others: list[Line] = []
    for line in lines:
        order = order_of(line.hertz, tones)
        if order is None:
            others.append(line)
        else:
            (folded if order[1] else harmonics).append((order[0], line))
    loudest = max((line.level for line in lines), default=0.0)
    if folded or harmonics:  # orders that are too high to be known lie anywhere, far down
        others = [line for line in others if line.level > loudest - LINES.high_orders_db]
    causes = [_told(others, None)] if others else []
    if folded:  # what is far softer than what folds may be an order over the highest that is looked for
        most = max(line.level for _, line in folded) - LINES.beside_folded_db
        harmonics = [(order, line) for order, line in harmonics if line.level > most]
    for name, found in (("aliasing", folded), ("non_linear", harmonics)):
        if not found:
            continue
        orders = sorted({order for order, _ in found})
        level = max(line.level for _, line in found)
        span = f"order {orders[0]}" if len(orders) == 1 else f"orders {orders[0]} to {orders[-1]}"
        why = f"{span} {'folds' if len(orders) == 1 else 'fold'}" if name == "aliasing" else span
        kind: CauseName = "aliasing" if name == "aliasing" else "non_linear"
        there = "none" if name != "aliasing" or was < LINES.none_dbfs else f"{number(was, '.1f')} dBFS at most"
        causes.append(
            Cause(
                kind, amount=level, unit="dBFS", why=f"{why}; {there} in the reference",
                orders=(orders[0], orders[-1]), is_new=there == "none",
            )
        )  # fmt: skip
    beside = sorted({order[0] for line in changed if (order := order_of(line.hertz, tones))})
    if beside and causes[-1].cause != "added_tone":
        what = f"order {beside[0]} has" if len(beside) == 1 else f"{len(beside)} more orders have"
        causes[-1] = replace(causes[-1], why=f"{causes[-1].why}; {what} another level")
    return sorted(causes, key=lambda cause: -(cause.amount or 0.0))


def _folds(line: Line, tones: Tones) -> bool:
    order = order_of(line.hertz, tones)
    return order is not None and order[1]


def _level_at(power: Floats, top: int, size: int) -> float:
    """dBFS of a line of a transform under a Hann window, whose squares have a mean of 3/8."""
    amplitude = 4 * float(power[max(0, top - 3) : top + 4].sum()) / (0.375 * size**2)
    return 10 * math.log10(amplitude + 1e-24)


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
    sweeps = LINES.sweeps if len(kept) <= LINES.few else 1
    for _ in range(sweeps if kept else 0):
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
    for _ in range(LINES.turns):
        turn = 2 * np.pi * hertz * (times - middle)
        wave = np.stack([np.cos(turn), np.sin(turn)])
        found = np.linalg.lstsq(wave @ wave.T, wave @ error.T, rcond=None)[0]
        slope = 2 * np.pi * (times - middle) * (found.T @ np.stack([-wave[1], wave[0]]))
        left = error - found.T @ wave
        bend = float(np.square(slope).sum())
        step = float((slope * left).sum()) / bend if bend > 0.0 else 0.0
        hertz += float(np.clip(step, -width, width))
        if abs(step) < 1e-9 * max(hertz, 1.0):
            break
    turn = 2 * np.pi * hertz * times
    wave = np.stack([np.cos(turn), np.sin(turn)])
    found = np.linalg.lstsq(wave @ wave.T, wave @ error.T, rcond=None)[0]
    return Line(hertz, tuple(found[0].tolist()), tuple(found[1].tolist())), error - found.T @ wave


def _told(lines: list[Line], off: float | None) -> Cause:
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
