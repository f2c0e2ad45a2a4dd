"""Sounds that come again after a period, and steady tones: of them a delay is known up to whole periods only."""

from collections.abc import Sequence

import numpy as np
from numpy import fft

from kind_echo.core.audio.correlation import MapFunction, correlate
from kind_echo.core.audio.source import Source
from kind_echo.core.delays.phases import Fine
from kind_echo.core.delays.tried import SHORT, SOUNDS, Tried, look

_AMBIGUOUS = 0.98  # another lag that correlates within 2 % of the best
_DIP = 0.9  # between two periods the correlation falls below this
_PERIOD_SECONDS = 0.06  # periods longer than this are events that repeat, told apart by how many overlap
_THE_SAME = 0.995  # correlation of most of the reference with itself, from which it is the same a period later
_PARTS = 8  # blocks of a long file in which periods are looked for
_TONE_BLOCK = 1 << 13  # frames of each block in which a steady tone is looked for
_TONE_BLOCKS = 9  # of them, evenly spread
_TONE_BINS = 4  # to either side of the line of a tone, which its window widens
_TONE_SHARE = 0.999  # of the power, which a tone alone has in its line
_TONE_MOST = 0.75  # of the blocks that sound, which hold the same line


def period_of(
    reference: Source, render: Source, tried: Tried, channels: Sequence[Fine | None], spread: MapFunction
) -> int | None:
    """How far away another lag within a period of hearing fits as well, with a dip between the two; None for none.

    Where there is more to a sound than its period, its own blocks do not agree on the other lag.
    """
    centre = tried.lag + round(tried.together.samples)
    near = min(round(_PERIOD_SECONDS * reference.rate), reference.frames - 1)
    if near < 2:
        return None
    found = correlate(reference, render, near, centre, _PARTS, spread)
    signs = [0 if one is None else one.polarity for one in channels]
    common = found.lags @ np.array(signs, dtype=float)
    strength = np.abs(common)
    best = near + int(np.argmax(np.where(np.abs(np.arange(-near, near + 1)) <= 2, np.abs(common), -1.0))) - near
    if strength[best] <= 0.0:
        return None
    for side, direction in ((strength[best:], 1), (strength[best::-1], -1)):
        lags = np.arange(len(side))
        # Fewer frames overlap at a greater lag; a period later a tone correlates less for that reason alone.
        share = side / side[0] * found.frames / np.maximum(found.frames - lags, 1)
        dipped = np.minimum.accumulate(share) < _DIP
        rivals = np.flatnonzero(dipped & (share >= _AMBIGUOUS))
        if len(rivals) == 0:
            continue
        away = int(rivals[share[rivals].argmax()]) * direction
        other = look(reference, reference, away, near)
        if other is not None and other.together.usual >= _THE_SAME:
            return abs(away)
    return None


def is_steady_tone(source: Source) -> bool:
    """Whether a file is one tone throughout: but for its ends it is the same a period later."""
    if source.frames < SHORT:
        return False
    size = min(_TONE_BLOCK, source.frames)
    window = np.blackman(size)[:, np.newaxis]
    lines, powers, shares = [], [], []
    for start in np.linspace(0, source.frames - size, _TONE_BLOCKS).astype(int):
        power = (np.abs(fft.rfft(source.read(int(start), int(start) + size) * window, axis=0)) ** 2).sum(axis=1)
        top, total = int(power.argmax()), float(power.sum())
        lines.append(top)
        powers.append(total)
        shares.append(float(power[max(0, top - _TONE_BINS) : top + _TONE_BINS + 1].sum()) / max(total, 1e-300))
    loudest = int(np.argmax(powers))
    sounds = np.array(powers) > SOUNDS * powers[loudest]
    same = (np.abs(np.array(lines) - lines[loudest]) <= 1) & (np.array(shares) >= _TONE_SHARE) & sounds
    return lines[loudest] > _TONE_BINS and bool(same.sum() >= _TONE_MOST * sounds.sum() > 0)
