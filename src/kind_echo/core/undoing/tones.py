"""A steady tone: its level, its place within a period and its frequency, told apart from what else the file holds."""

from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.source import Derived, PartSource, Samples, Source, read_padded
from kind_echo.core.audio.transforms import hann
from kind_echo.core.causes.cause import Cause
from kind_echo.core.registry.numbers import number
from kind_echo.core.undoing.undone import Undone

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class JudgingTones:
    """When a change of a tone is told: choices of this product.

    Attributes:
        most_frames: from the middle of a file.
        edge_seconds: at either end, that are left out.
        impure: share of the power of a reference, that is no steady tone from there on; broken: of a render.
        least_db: of its level.
        least_samples: of its place.
        turns_apart: periods by which its phase moves over the file, from which its frequency is another.
    """

    most_frames: int = 1 << 18
    edge_seconds: float = 0.02
    impure: float = 1e-3
    broken: float = 0.1
    least_db: float = 0.002
    least_samples: float = 5e-3
    turns_apart: float = 0.01


TONES = JudgingTones()


@dataclass(frozen=True)
class _Tone:
    """Hz, and of each channel the complex amplitude at the beginning of the file: of Re(a·exp(iωt))."""

    hertz: float
    amplitudes: NDArray[np.complex128]


@dataclass(frozen=True)
class OtherTone(Derived):
    """A reference whose tone is replaced by another of the same kind."""

    mine: _Tone
    theirs: _Tone

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop."""
        out = self.source.read(start, stop).copy()
        times = np.arange(start, stop) / self.rate
        for tone, sign in ((self.mine, -1.0), (self.theirs, 1.0)):
            out += sign * (np.exp(2j * np.pi * tone.hertz * times)[:, None] * tone.amplitudes).real
        return out


def find_tone_change(reference: Source, render: Source) -> Undone | None:
    """What became of the one steady tone of a reference: its level, place and frequency; None for nothing."""
    frames = min(reference.frames, render.frames)
    edge = min(round(TONES.edge_seconds * reference.rate), frames // 8)
    size = min(TONES.most_frames, frames - 2 * edge)
    if size < 64:
        return None
    lo = (frames - size) // 2
    x, y = (read_padded(side, lo, lo + size) for side in (reference, render))
    mine = _fitted(x, lo, reference.rate, strongest(x, reference.rate))
    theirs = _fitted(y, lo, reference.rate, mine.hertz)
    if _left(x, mine, lo, reference.rate) > TONES.impure or _left(y, theirs, lo, reference.rate) > TONES.broken:
        return None
    apart = abs(theirs.hertz - mine.hertz) * size / reference.rate
    if apart < TONES.turns_apart:
        theirs = _fitted(y, lo, reference.rate, mine.hertz, free=False)
    heard = np.abs(mine.amplitudes) > 1e-3 * np.abs(mine.amplitudes).max()
    if not heard.any() or (np.abs(theirs.amplitudes[heard]) < 1e-6 * np.abs(mine.amplitudes[heard])).any():
        return None
    causes = _told(mine, theirs, heard, reference.rate, drifts=apart >= TONES.turns_apart)
    if not causes:
        return None
    # At its ends a render that is late has something else.
    parts = PartSource(OtherTone(reference, mine, theirs), edge, frames - edge), PartSource(render, edge, frames - edge)
    return Undone(causes, *parts, off=0.0, period=reference.rate / mine.hertz)


def _left(x: Floats, tone: _Tone, first: int, rate: int) -> float:
    """The share of the power that a tone leaves."""
    times = (first + np.arange(len(x))) / rate
    error = x - (np.exp(2j * np.pi * tone.hertz * times)[:, None] * tone.amplitudes).real
    return float(np.square(error).sum()) / max(float(np.square(x).sum()), 1e-300)


def _told(mine: _Tone, theirs: _Tone, heard: NDArray[np.bool_], rate: int, *, drifts: bool) -> list[Cause]:
    ratios = theirs.amplitudes[heard] / mine.amplitudes[heard]
    gains = 20 * np.log10(np.abs(ratios))
    period = rate / mine.hertz
    # Upright or inverted is half a period: the lesser of the two delays is told, and that it may be the other.
    late = -np.angle(ratios) / (2 * np.pi) * period
    causes = []
    if drifts:
        ppm = (mine.hertz / theirs.hertz - 1.0) * 1e6
        causes.append(Cause("drift", amount=ppm, unit="ppm", why=f"a tone of {number(theirs.hertz, '.4f')} Hz"))
    else:
        first = float(np.median(late))
        if abs(first) >= TONES.least_samples:
            why = f"or any whole periods of {number(period, '.3f')} samples more"
            if abs(abs(first) - period / 2) < TONES.least_samples:
                causes.append(Cause("polarity", why=f"or half a period of {number(period, '.3f')} samples late"))
            else:
                causes.append(Cause("delay", amount=first, unit="samples", why=why))
    together = float(np.median(gains))
    channels = np.flatnonzero(heard)
    if np.ptp(gains) > 2 * TONES.least_db:
        together = float(gains[np.argmin(np.abs(gains))])
        causes += [
            Cause("channel_gain", str(c + 1), float(gain), "dB")
            for c, gain in zip(channels.tolist(), gains.tolist(), strict=True)
            if abs(gain - together) > 2 * TONES.least_db
        ]
    if abs(together) >= TONES.least_db:
        causes.append(Cause("gain", amount=together, unit="dB"))
    return causes


def strongest(x: Floats, rate: int) -> float:
    """Hz of the bin that has most of a sound's power; shape (frames, channels)."""
    power = np.square(np.abs(fft.rfft(x * hann(len(x))[:, None], axis=0))).sum(axis=1)
    return float(power[1:].argmax() + 1) * rate / len(x)


def _fitted(x: Floats, first: int, rate: int, hertz: float, *, free: bool = True) -> _Tone:
    """The tone near a frequency that takes most off; its frequency by steps of Newton's kind."""
    times = np.arange(len(x)) / rate
    middle = times - times.mean()
    width = rate / len(x)
    for _ in range(8 if free else 0):
        turn = np.exp(2j * np.pi * hertz * middle)
        found = _amplitudes(x, turn)
        slope = (turn[:, None] * found * 2j * np.pi * middle[:, None]).real
        left = x - (turn[:, None] * found).real
        bend = float(np.square(slope).sum())
        step = float((slope * left).sum()) / bend if bend > 0.0 else 0.0
        hertz += float(np.clip(step, -width, width))
        if abs(step) < 1e-12 * hertz:
            break
    turn = np.exp(2j * np.pi * hertz * (times + first / rate))
    return _Tone(hertz, _amplitudes(x, turn))


def _amplitudes(x: Floats, turn: NDArray[np.complex128]) -> NDArray[np.complex128]:
    """Complex amplitude of each channel by least squares."""
    basis = np.stack([turn.real, -turn.imag], axis=1)
    gram = basis.T @ basis
    found = np.linalg.lstsq(gram, basis.T @ x, rcond=None)[0]
    return np.asarray(found[0] + 1j * found[1])
