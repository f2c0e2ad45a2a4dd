"""Sounds that come again after a period, and steady tones: of them a delay is known up to whole periods only."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy import fft

from kind_echo.core.audio.correlation import MapFunction, correlate
from kind_echo.core.audio.source import Source, read_padded
from kind_echo.core.delays.delay_reading import Delay, no_delay, no_delay_of_period
from kind_echo.core.delays.phases import Fine
from kind_echo.core.delays.spectra import Spectrum
from kind_echo.core.delays.tried import SHORT, SOUNDS, Tried, look


@dataclass(frozen=True)
class Repeating:
    """When a sound repeats itself, so that its delay is known up to whole periods only.

    Choices of this product where nothing else is named; `benchmarks.causes` and the tests of delays hold them.

    Attributes:
        ambiguous_correlation: of another lag, as a share of the best.
        dip_correlation: under which it falls between two periods.
        longest_seconds: periods longer than this are events that repeat, told apart by how many overlap.
        same_correlation: of most of the reference with itself, from which it is the same a period later.
        parts: blocks of a long file in which periods are looked for.
        tone_block_frames: in which a steady tone is looked for.
        low_tone_block_frames: the same, of a low tone.
        tone_blocks: of them, evenly spread.
        tone_bins: to either side of the line of a tone, which its window widens.
        tone_share: of the power, which a tone alone has in its line.
        tone_most: of the blocks that sound, which hold the same line.
        tone_coheres: correlation of the lines of two tones, under which the one has no place against the other.
    """

    ambiguous_correlation: float = 0.98
    dip_correlation: float = 0.9
    longest_seconds: float = 0.06
    same_correlation: float = 0.995
    parts: int = 8
    tone_block_frames: int = 1 << 13
    low_tone_block_frames: int = 1 << 15
    tone_blocks: int = 9
    tone_bins: int = 4
    tone_share: float = 0.999
    tone_most: float = 0.75
    tone_coheres: float = 0.9


REPEATING = Repeating()


def period_of(
    reference: Source, render: Source, tried: Tried, channels: Sequence[Fine | None], spread: MapFunction
) -> int | None:
    """How far away another lag within a period of hearing fits as well, with a dip between the two; None for none.

    Where there is more to a sound than its period, its own blocks do not agree on the other lag.
    """
    centre = tried.lag + round(tried.together.samples)
    near = min(round(REPEATING.longest_seconds * reference.rate), reference.frames - 1)
    if near < 2:
        return None
    found = correlate(reference, render, near, centre, REPEATING.parts, spread)
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
        dipped = np.minimum.accumulate(share) < REPEATING.dip_correlation
        rivals = np.flatnonzero(dipped & (share >= REPEATING.ambiguous_correlation))
        if len(rivals) == 0:
            continue
        away = int(rivals[share[rivals].argmax()]) * direction
        other = look(reference, reference, away, near)
        if other is not None and other.together.usual >= REPEATING.same_correlation:
            return abs(away)
    return None


def delay_of_tone(reference: Source, render: Source) -> Delay:
    """What is known of the delay of a steady tone: its period, and the least delay that it may have.

    Its frequency is told from how far its phase turns between blocks that begin a little apart.
    """
    size = min(_tone_block(reference) or REPEATING.tone_block_frames, reference.frames // 2)
    hop = max(1, size // 16)
    window = np.blackman(size)[:, np.newaxis]

    def line(source: Source, start: int) -> Spectrum:
        return np.asarray(fft.rfft(read_padded(source, start, start + size) * window, axis=0))

    starts = np.linspace(0, reference.frames - size - hop, REPEATING.tone_blocks).astype(int).tolist()
    spectra = [line(reference, start) for start in starts]
    top = int(sum((np.abs(one) ** 2).sum(axis=1) for one in spectra).argmax())
    own = np.array([one[top] for one in spectra])
    later = np.array([line(reference, start + hop)[top] for start in starts])
    other = np.array([line(render, start)[top] for start in starts])
    step = 2 * np.pi * top / size
    beyond = np.angle((np.conj(own) * later).sum()) - step * hop
    omega = step + (beyond - 2 * np.pi * round(beyond / (2 * np.pi))) / hop
    # One channel may be silent or inverted: the one of which most follows tells.
    by_channel = (np.conj(own) * other).sum(axis=0)
    strongest = int(np.abs(by_channel).argmax())
    products = by_channel[strongest]
    scale = np.sqrt((np.abs(own[:, strongest]) ** 2).sum() * (np.abs(other[:, strongest]) ** 2).sum())
    if omega <= 0.0 or abs(products) < REPEATING.tone_coheres * scale:
        return no_delay("periodic")
    return no_delay_of_period(2 * np.pi / omega, -float(np.angle(products)) / omega)


def is_steady_tone(source: Source) -> bool:
    """Whether a file is one tone throughout: but for its ends it is the same a period later."""
    return _tone_block(source) is not None


def _tone_block(source: Source) -> int | None:
    """Frames of the blocks in which a file is one tone throughout; longer ones tell a low tone."""
    if source.frames < SHORT:
        return None
    usual, long = REPEATING.tone_block_frames, REPEATING.low_tone_block_frames
    size = min(usual, source.frames)
    if _is_tone_in(source, size, size):
        return size
    # A tone that is gated has lines beside it, and few bins of a short block hold all of a low one.
    size = min(long, source.frames)
    return size if _is_tone_in(source, size, 2 * REPEATING.tone_bins * long // usual) else None


def _is_tone_in(source: Source, size: int, highest: int) -> bool:
    """Whether blocks of a size hold one tone, in a bin up to the highest."""
    window = np.blackman(size)[:, np.newaxis]
    lines, powers, shares = [], [], []
    for start in np.linspace(0, source.frames - size, REPEATING.tone_blocks).astype(int):
        power = (np.abs(fft.rfft(source.read(int(start), int(start) + size) * window, axis=0)) ** 2).sum(axis=1)
        top, total = int(power.argmax()), float(power.sum())
        lines.append(top)
        powers.append(total)
        shares.append(
            float(power[max(0, top - REPEATING.tone_bins) : top + REPEATING.tone_bins + 1].sum()) / max(total, 1e-300)
        )
    loudest = int(np.argmax(powers))
    sounds = np.array(powers) > SOUNDS * powers[loudest]
    same = (np.abs(np.array(lines) - lines[loudest]) <= 1) & (np.array(shares) >= REPEATING.tone_share) & sounds
    within = REPEATING.tone_bins < lines[loudest] <= highest
    return within and bool(same.sum() >= REPEATING.tone_most * sounds.sum() > 0)
