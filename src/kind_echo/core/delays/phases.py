"""The delay that makes the phase of a render linear over the band that carries the signal; all else is a filter."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source, read_padded
from kind_echo.core.audio.transforms import hann
from kind_echo.core.delays.spectra import ALIKE, Blocks, Cross, Floats, Spectrum, noise_of_slope, smoothed

NEAR = 48
"""Samples around a delay of whole samples among which a finer one is sought."""

_BLOCK_FRAMES = 1 << 14
_MOST_BLOCKS = 24
_GRID_PER_SAMPLE = 4  # grid points to the sample, from which the best is refined
# Of agreement, by which the excess phase may be the less linear and still is taken for the phase
_PREFERRED_WITHIN_AGREEMENT = 0.002
_UNDECIDED_AGREEMENT = 0.01  # of agreement, by which neither is the more linear for sure
_STILL_LEFT_SHARE = 0.75  # of what the phase leaves unexplained, that what is left of it leaves
_POOR_LINE_AGREEMENT = 0.05  # of agreement, by which phases miss a line that does not explain them
_NEAR_WHOLE_SAMPLES = 0.08  # of a sample
_WHOLE_WITHIN_SAMPLES = 2e-4  # of a sample: what rounding makes of a delay of whole samples
_LINEAR_AGREEMENT = 0.985  # agreement of phases, under which a short delay is not told from a filter
_SURE_AGREEMENT = 0.9995  # under which a tenth of a sample is not told either
_LEAST_AGREEMENT = 0.3
_SHORT_DELAY_SECONDS = 4.0 / 48_000  # s
_VAGUE_SAMPLES = 1.0  # sample, beyond which a spread leaves much open
_NO_DELAY_SHARE = 0.65  # of the agreement, that no delay at all has
_LEAST_STRENGTH = 0.02
_UPRIGHT_AGREEMENT_SHARE = 0.98  # of the greatest agreement, from which a delay is taken as upright
_AGREEING_CORRELATION = 0.25  # of the mean, that a block must correlate with to agree
_AGREEING_BLOCKS_SHARE = 0.6
_NARROW_BAND_SHARE = 0.1  # of all frequencies
_SPANNED_ENERGY_SHARE = 0.95  # of what both sides share, whose group delays an uncertainty spans
_CHANCE_VARIANCE_RATIO = 4.0  # times the variance that noise has, which is no filter's
_BENT_BY_NOISE_SHARE = 0.5  # of what noise bends phases by, from which they are no straight line
_STANDS_OUT_ERRORS = 7.5  # standard errors; the greatest of 10⁵ lags of chance is 4.4, and blocks overlap by half


@dataclass(frozen=True)
class Fine:
    """A delay beyond a whole one.

    Attributes:
        samples: what is to be added to the whole delay.
        polarity: +1 or −1.
        agreement: 1 where the phase is linear all over the band.
        linearity: the agreement over that which noise leaves of a linear phase; at most 1.
        spread: of the delay, at 95 %.
        strength: mean correlation of the blocks at the delay, all frequencies that carry the signal alike.
        usual: the correlation of the middle one of the blocks.
        steady: whether the blocks of the file agree on it.
        doubt: samples, that phases which do not lie on the line may have pulled it by.
        level: whether the magnitude is the same all over the band, so that there is no filter.
        agreement_less: the agreement at a delay that is so many samples less.
        match_less: the correlation coefficient of the waveforms there.
        coherent: the greatest such coefficient that a filter could bring about.
        groups: samples off the delay, within which lie the group delays of the frequencies that carry the energy; 0
            where the phase is a straight line.
        narrow: whether few frequencies carry the signal, as those of tones: the frames of a block that do not meet pull
            the phases beside them.
    """

    samples: float
    polarity: int
    agreement: float
    linearity: float
    spread: float
    strength: float
    usual: float
    steady: bool
    doubt: float
    level: bool
    agreement_less: Callable[[float], float]
    match_less: Callable[[float], float]
    coherent: float
    groups: float
    narrow: bool


def read_spectra(
    reference: Source, render: Source, lag: int, within: tuple[int, int], most: int = _MOST_BLOCKS
) -> tuple[Spectrum, Spectrum]:
    """Spectra of blocks of both sides, spread over the frames of the reference that meet frames of the render.

    Returns:
        Of the reference and of the render, shape (channels, blocks, bins).
    """
    starts, size = _places(within, most)
    return _spectra(reference, starts, size), _spectra(render, starts + lag, size)


def _places(within: tuple[int, int], most: int) -> tuple[NDArray[np.int64], int]:
    """First frames of blocks that are spread over some frames, and the size of them."""
    lo, hi = within
    size = min(_BLOCK_FRAMES, 1 << max(4, int(math.log2(max(16, (hi - lo) // 4)))))
    count = max(1, min(most, 2 * (hi - lo - size) // size + 1))
    return np.linspace(lo, max(lo, hi - size), count).astype(np.int64), size


def centre_of(sets: Sequence[Blocks], within: tuple[int, int], most: int) -> float:
    """The frame that the delay of some blocks is that of, where it changes in them: by how much each block tells.

    Args:
        sets, within, most: what `read_blocks` made, and of which frames and how many blocks at the most.
    """
    starts, size = _places(within, most)
    middles = starts + size / 2
    told = total = 0.0
    for blocks in sets:
        if (cross := blocks.cross) is None:
            continue
        shared = np.abs(blocks.power)
        where = middles @ shared / np.maximum(shared.sum(axis=0), 1e-300)
        weight = cross.weight * cross.omega**2
        told, total = told + float(where @ weight), total + float(weight.sum())
    return told / total if total > 0.0 else float(middles.mean())


def _spectra(source: Source, starts: NDArray[np.int64], size: int) -> Spectrum:
    """Of windowed blocks, shape (channels, blocks, bins)."""
    window = hann(size)
    rows = np.empty((source.channels, len(starts), size))
    for number, start in enumerate(starts.tolist()):
        np.multiply(read_padded(source, start, start + size).T, window, out=rows[:, number])
    return np.asarray(fft.rfft(rows))


def read_blocks(
    reference: Source, render: Source, lag: int, within: tuple[int, int], most: int = _MOST_BLOCKS
) -> list[Blocks]:
    """The blocks of `read_spectra`, one set a channel."""
    return [Blocks.of(x, y) for x, y in zip(*read_spectra(reference, render, lag, within, most), strict=True)]


def fine_delay(sets: Sequence[Blocks], near: int = NEAR, *, whole_file: bool = False) -> Fine | None:
    """The delay of one or several channels together; None where one side is silent.

    The phase is taken as it is, or what is left of it once the phase that belongs to its magnitude is off (that of a
    minimum-phase filter), whichever is the more linear over the band.

    Args:
        near: samples within which it is sought.
        whole_file: whether it is of a whole file, not of a part of one that may drift: where noise leaves two delays,
            one of whole samples is taken, for these are by far the most common.
    """
    sounding = [blocks for blocks in sets if blocks.cross is not None]
    found = [cross for blocks in sounding if (cross := blocks.cross) is not None]
    if not found:
        return None
    size = 2 * (len(found[0].weight) - 1)
    signs = [1.0]
    plain = [one.weight * one.turn for one in found]
    for other in plain[1:]:
        lead = fft.irfft(plain[0] * np.conj(other), size)
        signs.append(float(np.sign(lead[np.abs(lead).argmax()])) or 1.0)
    total = float(np.sum([one.weight for one in found]))
    level = all(one.level for one in found)
    phases = np.sum([s * one for s, one in zip(signs, plain, strict=True)], axis=0)
    first = second = _peak(phases, size, near)
    if not level:
        excess = [one.weight * one.turn * np.exp(-1j * one.least) for one in found]
        left = np.sum([s * one for s, one in zip(signs, excess, strict=True)], axis=0)
        second = _peak(left, size, near)
    filtered = not level and second[1] > first[1] - _PREFERRED_WITHIN_AGREEMENT * total
    unsure = not level and abs(second[1] - first[1]) < _UNDECIDED_AGREEMENT * total
    if whole_file and filtered and unsure and _is_whole(first[0]) and not _is_whole(second[0]):
        filtered = False
    powers = np.sum([s * one.power for s, one in zip(signs, found, strict=True)], axis=0)
    # What the magnitude brings along must explain more than chance would, where waveforms speak against it.
    if filtered and total - second[1] > max(_POOR_LINE_AGREEMENT * total, _STILL_LEFT_SHARE * (total - first[1])):
        matches = [
            float((one[2] * powers * np.exp(1j * found[0].omega * one[0])).real.sum()) for one in (first, second)
        ]
        if matches[0] > matches[1]:
            filtered, unsure = False, True
    spectrum, best = (left, second) if filtered else (phases, first)
    at, height, sign = best
    spread = _spread(sign * spectrum * np.exp(1j * found[0].omega * at), found[0].omega)
    if unsure:
        spread = math.hypot(spread, first[0] - second[0])  # noise may make either the more linear
    agreement = height / total
    weights, omega = np.sum([one.weight for one in found], axis=0), found[0].omega
    reach = math.sqrt(float((weights * omega**2).sum()) / total)
    linearity = min(1.0, height / max(float(np.sum([one.weight * one.certain for one in found])), 1e-300))
    doubt = 0.75 * math.sqrt(2 * (1.0 - linearity)) / reach
    strength, usual, steady = _steady(sounding, signs, at, filtered=filtered)
    less = _agreement(spectrum, at, sign, total)
    loud = math.sqrt(sum(float(one.own.sum()) for one in sets) * sum(float(one.other.sum()) for one in sets))
    match_less = _agreement(powers, at, sign, loud)
    coherent = float(np.divide(*np.sum([one.coherent for one in found], axis=0)))
    bent = 1.0 - linearity > max(1.0 - _SURE_AGREEMENT, _BENT_BY_NOISE_SHARE * (1.0 - agreement / max(linearity, 1e-9)))
    groups = _span_of_groups(powers, at, found) if bent or not level else 0.0
    return Fine(
        at, int(sign), agreement, linearity, spread, strength, usual, steady, doubt, level, less, match_less, coherent,
        groups, total < _NARROW_BAND_SHARE * len(found) * len(omega),
    )  # fmt: skip


def _span_of_groups(powers: Spectrum, at: float, crosses: Sequence[Cross]) -> float:
    """How far off a delay the group delays lie of most of the energy that both sides share, noise left out.

    Args:
        powers: cross-spectrum, all channels added up.
    """
    size = 2 * (len(powers) - 1)
    step = 2 * np.pi / size
    turns = powers[1:] * np.conj(powers[:-1])
    around = smoothed(turns.real) + 1j * smoothed(turns.imag)
    off = np.angle(around * np.exp(1j * step * at)) / step
    chance = np.mean([one.noise for one in crosses], axis=0)[1:]
    off = np.sqrt(np.maximum(np.square(off) - _CHANCE_VARIANCE_RATIO * noise_of_slope(chance) / step**2, 0.0))
    order = off.argsort()
    shared = np.cumsum(np.sqrt(np.abs(around))[order])
    return float(off[order][int(np.searchsorted(shared, _SPANNED_ENERGY_SHARE * shared[-1]))])


def settled(fine: Fine, whole: int, rate: int) -> tuple[float, float]:
    """A delay in samples and its spread, with what phases that are not linear cannot tell left out.

    Args:
        whole: the delay of whole samples at which the blocks were aligned.
    """
    if fine.agreement < _LEAST_AGREEMENT:
        return float(whole), max(fine.spread, 1.0)
    delay, spread = whole + fine.samples, fine.spread
    near = round(delay)
    # What may as well be no delay is taken for one only where the waveforms match the better for it.
    if spread > _VAGUE_SAMPLES and abs(delay) <= 1.5 * spread and fine.match_less(delay) >= fine.match_less(0.0):
        return 0.0, max(spread, abs(delay))
    # Beside a filter, a delay that is shorter than what filters bring along is the filter's.
    if (
        not fine.level
        and abs(delay) < _SHORT_DELAY_SECONDS * rate
        and fine.agreement_less(delay) > _NO_DELAY_SHARE * fine.agreement
    ):
        return 0.0, max(spread, abs(delay))
    if abs(delay - near) < _WHOLE_WITHIN_SAMPLES:
        return float(near), max(spread, abs(delay - near))
    if fine.linearity < _LINEAR_AGREEMENT and abs(delay) < 1.0:
        return 0.0, max(spread, abs(delay))
    if fine.linearity < _SURE_AGREEMENT and abs(delay - near) < max(0.1, fine.doubt):
        return float(near), max(spread, abs(delay - near))
    return delay, spread


def _is_whole(delay: float) -> bool:
    return abs(delay - round(delay)) < _NEAR_WHOLE_SAMPLES


def _spread(left: Spectrum, omega: Floats) -> float:
    """Of a delay at 95 %, from how far the phases lie off its line: what each bin pulls at it, all added up as chance.

    Args:
        left: phases with the delay off, with their weights for magnitudes.
    """
    bend = float((omega**2 * left.real).sum())
    pull = float(np.square(omega * left.imag).sum())
    return 2.0 * math.sqrt(ALIKE * pull) / bend if bend > 0.0 else float("inf")


def _agreement(spectrum: Spectrum, at: float, sign: float, total: float) -> Callable[[float], float]:
    """How well phases agree at a delay that is `back` samples less."""
    omega = np.pi * np.arange(len(spectrum)) / (len(spectrum) - 1)

    def less(back: float) -> float:
        return float((sign * spectrum * np.exp(1j * omega * (at - back))).real.sum()) / total

    return less


def _peak(spectrum: Spectrum, size: int, near: int) -> tuple[float, float, float]:
    """Where a sum of phases agrees best: the delay in samples, the height of the agreement, and its sign."""
    fine = size * _GRID_PER_SAMPLE
    sums = fft.irfft(spectrum, fine) * fine / 2
    reach = near * _GRID_PER_SAMPLE
    around = np.concatenate([sums[-reach:], sums[: reach + 1]])
    best, upright = int(np.abs(around).argmax()), int(around.argmax())
    # A tone inverted and a tone half a period late are one signal: the upright reading is taken.
    if around[upright] >= _UPRIGHT_AGREEMENT_SHARE * abs(around[best]):
        best = upright
    sign = 1.0 if around[best] >= 0 else -1.0
    at = (best - reach) / _GRID_PER_SAMPLE
    omega = np.pi * np.arange(len(spectrum)) / (len(spectrum) - 1)
    for _ in range(20):
        turned = sign * spectrum * np.exp(1j * omega * at)
        slope, bend = -float((omega * turned.imag).sum()), -float((omega**2 * turned.real).sum())
        if bend >= 0.0:
            break
        step = float(np.clip(-slope / bend, -0.5 / _GRID_PER_SAMPLE, 0.5 / _GRID_PER_SAMPLE))
        at += step
        if abs(step) < 1e-10:
            break
    at = float(np.clip(at, -near, near))
    height = float((sign * spectrum * np.exp(1j * omega * at)).real.sum())
    return at, height, sign


def _steady(sets: Sequence[Blocks], signs: Sequence[float], at: float, *, filtered: bool) -> tuple[float, float, bool]:
    """How the blocks correlate with the reference at the delay, and whether most do, and to the sign of their channel.

    Each half of the blocks is looked at in the band that the other half found to carry: chance does not repeat.
    """
    values: list[float] = []
    for blocks, sign in zip(sets, signs, strict=True):
        if len(blocks.own) < 4:
            continue
        for chosen, rest in (blocks.halves, blocks.halves[::-1]):
            if rest.cross is not None:
                values += [sign * value for value in _correlated(chosen, rest.cross, at, filtered=filtered)]
    if len(values) < 3:
        return 1.0, 1.0, True  # too short for blocks: whoever asks has to see to it
    delays = np.array(values)
    mean = float(delays.mean())
    error = float(delays.std() / math.sqrt(len(delays))) + 1e-9
    agree = float((delays * np.sign(mean) > _AGREEING_CORRELATION * abs(mean)).mean())
    # Of few blocks the spread itself is not well known.
    least = _STANDS_OUT_ERRORS * (1.0 + 12.0 / len(delays))
    usual = abs(float(np.median(delays)))
    return abs(mean), usual, abs(mean) > max(least * error, _LEAST_STRENGTH) and agree >= _AGREEING_BLOCKS_SHARE


def _correlated(blocks: Blocks, cross: Cross, at: float, *, filtered: bool) -> list[float]:
    """Of each block that sounds, how it correlates with the reference at a delay, all bins alike.

    Args:
        filtered: whether the phase that belongs to the magnitude is off first.
    """
    turn = np.exp(1j * (cross.omega * at - (cross.least if filtered else 0.0)))
    # Each bin counts by what the others found it to carry, whatever its power.
    x, y = (
        np.sqrt(cross.weight) / np.sqrt(smoothed(p) + 1e-14 * p.max(initial=0.0) + 1e-300)
        for p in (total / len(blocks.own) for total in blocks.sums[:2])
    )
    scale = np.sqrt((blocks.own @ x**2) * (blocks.other @ y**2))
    power = blocks.own.sum(axis=1)
    heard = power > 1e-4 * power.max(initial=0.0)
    each = np.divide((blocks.power @ (x * y * turn)).real, scale, out=np.zeros(len(scale)), where=scale > 0)
    return [float(value) for value in each[heard]]
