"""The delay that makes the phase of a render linear over the band that carries the signal; all else is a filter."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source, as_rows, read_padded
from kind_echo.core.audio.transforms import hann

Floats = NDArray[np.float64]
Spectrum = NDArray[np.complex128]

NEAR = 48
"""Samples around a delay of whole samples among which a finer one is sought."""

_SIZE = 1 << 14
_MOST_BLOCKS = 24
_CARRIES = 1e-6  # of the greatest, under which a band carries nothing of the signal
_SMOOTH = 1 / 12  # octaves
_LOST = 1e-4  # of what the render has of the rest of the reference, under which it has lost a band
_FINE = 4  # grid points to the sample, from which the best is refined
_LEVEL = 0.02  # of the logarithm of a magnitude, within which it brings no phase along
_NOISY = 1.3  # times what noise makes of a level magnitude, within which it is one
_NEARLY = 0.002  # of agreement, by which the excess phase may be the less linear and still is taken for the phase
_NEITHER = 0.01  # of agreement, by which neither is the more linear for sure
_LEFT = 0.75  # of what the phase leaves unexplained, that what is left of it leaves
_POORLY = 0.05  # of agreement, by which phases miss a line that does not explain them
_NEAR_WHOLE = 0.08  # of a sample
_ALIKE = 1.5  # bins of a Hann window that pull together
_WHOLE = 2e-4  # of a sample: what rounding makes of a delay of whole samples
_LINEAR = 0.985  # agreement of phases, under which a short delay is not told from a filter
_SURELY = 0.9995  # under which a tenth of a sample is not told either
_LEAST_AGREEMENT = 0.3
_SHORT = 4.0 / 48_000  # s
_VAGUE = 1.0  # sample, beyond which a spread leaves much open
_AS_WELL = 0.65  # of the agreement, that no delay at all has
_STEEPEST = 24.0 / 8.686  # dB an octave, on which a magnitude goes on beyond the band
_LEAST_STRENGTH = 0.02
_UPRIGHT = 0.98  # of the greatest agreement, from which a delay is taken as upright
_AGREE = 0.25  # of the mean, that a block must correlate with to agree
_MOST_AGREE = 0.6
_STANDS_OUT = 7.5  # standard errors; the greatest of 10⁵ lags of chance is 4.4, and blocks overlap by half


@dataclass(frozen=True)
class Blocks:
    """Spectra of windowed blocks of a pair, laid over each other at a delay of whole samples; shape (blocks, bins)."""

    x: Spectrum
    y: Spectrum


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


def read_blocks(
    reference: Source, render: Source, lag: int, within: tuple[int, int], most: int = _MOST_BLOCKS
) -> list[Blocks]:
    """Blocks spread over the frames of the reference that meet frames of the render, one set a channel."""
    lo, hi = within
    size = min(_SIZE, 1 << max(4, int(math.log2(max(16, (hi - lo) // 4)))))
    count = max(1, min(most, 2 * (hi - lo - size) // size + 1))
    starts = np.linspace(lo, max(lo, hi - size), count).astype(int)
    window = hann(size)
    x = np.stack([as_rows(read_padded(reference, int(s), int(s) + size)) for s in starts], axis=1)
    y = np.stack([as_rows(read_padded(render, int(s) + lag, int(s) + lag + size)) for s in starts], axis=1)
    return [Blocks(fft.rfft(x[c] * window), fft.rfft(y[c] * window)) for c in range(reference.channels)]


def fine_delay(sets: Sequence[Blocks], near: int = NEAR, *, whole_file: bool = False) -> Fine | None:
    """The delay of one or several channels together; None where one side is silent.

    The phase is taken as it is, or what is left of it once the phase that belongs to its magnitude is off (that of a
    minimum-phase filter), whichever is the more linear over the band.

    Args:
        near: samples within which it is sought.
        whole_file: whether it is of a whole file, not of a part of one that may drift: where noise leaves two delays,
            one of whole samples is taken, for these are by far the most common.
    """
    found = [cross for blocks in sets if (cross := _cross(blocks)) is not None]
    if not found:
        return None
    size = 2 * (len(found[0].phase) - 1)
    signs = [1.0]
    plain = [one.weight * np.exp(1j * one.phase) for one in found]
    excess = [one.weight * np.exp(1j * (one.phase - one.least)) for one in found]
    for other in plain[1:]:
        lead = fft.irfft(plain[0] * np.conj(other), size)
        signs.append(float(np.sign(lead[np.abs(lead).argmax()])) or 1.0)
    total = float(np.sum([one.weight for one in found]))
    joined = [np.sum([s * one for s, one in zip(signs, kind, strict=True)], axis=0) for kind in (plain, excess)]
    first, second = (_peak(kind, size, near) for kind in joined)
    level = all(one.level for one in found)
    filtered = not level and second[1] > first[1] - _NEARLY * total
    unsure = not level and abs(second[1] - first[1]) < _NEITHER * total
    if whole_file and filtered and unsure and _is_whole(first[0]) and not _is_whole(second[0]):
        filtered = False
    powers = np.sum([s * one.power for s, one in zip(signs, found, strict=True)], axis=0)
    # What the magnitude brings along must explain more than chance would, where waveforms speak against it.
    if filtered and total - second[1] > max(_POORLY * total, _LEFT * (total - first[1])):
        matches = [
            float((one[2] * powers * np.exp(1j * found[0].omega * one[0])).real.sum()) for one in (first, second)
        ]
        if matches[0] > matches[1]:
            filtered, unsure = False, True
    spectrum, best = (joined[1], second) if filtered else (joined[0], first)
    at, height, sign = best
    spread = _spread(sign * spectrum * np.exp(1j * found[0].omega * at), found[0].omega)
    if unsure:
        spread = math.hypot(spread, first[0] - second[0])  # noise may make either the more linear
    agreement = height / total
    weights, omega = np.sum([one.weight for one in found], axis=0), found[0].omega
    reach = math.sqrt(float((weights * omega**2).sum()) / total)
    linearity = min(1.0, height / max(float(np.sum([one.weight * one.certain for one in found])), 1e-300))
    doubt = 0.75 * math.sqrt(2 * (1.0 - linearity)) / reach
    strength, usual, steady = _steady(sets, at, filtered=filtered)
    less = _agreement(spectrum, at, sign, total)
    loud = math.sqrt(float(np.prod([sum((np.abs(getattr(one, side)) ** 2).sum() for one in sets) for side in "xy"])))
    match_less = _agreement(powers, at, sign, loud)
    coherent = float(np.sum([one.coherent for one in found]) / np.sum([one.both for one in found]))
    return Fine(
        at, int(sign), agreement, linearity, spread, strength, usual, steady, doubt, level, less, match_less, coherent
    )


def settled(fine: Fine, whole: int, rate: int) -> tuple[float, float]:
    """A delay in samples and its spread, with what phases that are not linear cannot tell left out.

    Args:
        whole: the delay of whole samples at which the blocks were laid over each other.
    """
    if fine.agreement < _LEAST_AGREEMENT:
        return float(whole), max(fine.spread, 1.0)
    delay, spread = whole + fine.samples, fine.spread
    near = round(delay)
    # What may as well be no delay is taken for one only where the waveforms match the better for it.
    if spread > _VAGUE and abs(delay) <= 1.5 * spread and fine.match_less(delay) >= fine.match_less(0.0):
        return 0.0, max(spread, abs(delay))
    # Beside a filter, a delay that is shorter than what filters bring along is the filter's.
    if not fine.level and abs(delay) < _SHORT * rate and fine.agreement_less(delay) > _AS_WELL * fine.agreement:
        return 0.0, max(spread, abs(delay))
    if abs(delay - near) < _WHOLE:
        return float(near), max(spread, abs(delay - near))
    if fine.linearity < _LINEAR and abs(delay) < 1.0:
        return 0.0, max(spread, abs(delay))
    if fine.linearity < _SURELY and abs(delay - near) < max(0.1, fine.doubt):
        return float(near), max(spread, abs(delay - near))
    return delay, spread


def _is_whole(delay: float) -> bool:
    return abs(delay - round(delay)) < _NEAR_WHOLE


def _spread(left: Spectrum, omega: Floats) -> float:
    """Of a delay at 95 %, from how far the phases lie off its line: what each bin pulls at it, all added up as chance.

    Args:
        left: phases with the delay off, with their weights for magnitudes.
    """
    bend = float((omega**2 * left.real).sum())
    pull = float(np.square(omega * left.imag).sum())
    return 2.0 * math.sqrt(_ALIKE * pull) / bend if bend > 0.0 else float("inf")


def _agreement(spectrum: Spectrum, at: float, sign: float, total: float) -> Callable[[float], float]:
    """How well phases agree at a delay that is `back` samples less."""
    omega = np.pi * np.arange(len(spectrum)) / (len(spectrum) - 1)

    def less(back: float) -> float:
        return float((sign * spectrum * np.exp(1j * omega * (at - back))).real.sum()) / total

    return less


@dataclass(frozen=True)
class _Cross:
    """Phase of a render against its reference, that which its magnitude brings along, and how much each bin tells.

    The power is that of the one times the other, summed over the blocks; certain is the mean cosine of the errors that
    noise makes of a phase; both is the magnitude of the one times the other over all bins, and coherent that part of it
    that is the same in all blocks.
    """

    omega: Floats
    power: Spectrum
    phase: Floats
    least: Floats
    weight: Floats
    certain: Floats
    level: bool
    both: float
    coherent: float


def _cross(blocks: Blocks) -> _Cross | None:
    own, other = ((np.abs(side) ** 2).sum(axis=0) for side in (blocks.x, blocks.y))
    if own.max(initial=0.0) <= 0.0 or other.max(initial=0.0) <= 0.0:
        return None
    cross = (np.conj(blocks.x) * blocks.y).sum(axis=0)
    # Overlapping blocks are worth about two thirds of as many that stand apart.
    count = max(1.0, 0.66 * len(blocks.x))
    found = coherence = np.abs(cross) ** 2 / np.maximum(own * other, 1e-300)
    if len(blocks.x) > 1:
        # Chance alone has that of one block in so many.
        coherence = np.clip((found - 1 / count) / (1 - 1 / count), 0.0, 1.0)
    carries = _smoothed(own) > _CARRIES * own.max()
    share = _smoothed(other) / np.maximum(_smoothed(own), 1e-300)
    usual = float(np.average(share[carries], weights=own[carries])) if carries.any() else 0.0
    carries &= share > _LOST * usual
    weight = np.where(carries, coherence, 0.0)
    weight[0] = 0.0
    if weight.sum() <= 0.0:
        return None
    # Of the output what follows from the input: noise beside it makes no magnitude.
    follows = np.abs(cross) * np.sqrt(coherence / np.maximum(found, 1e-300))
    magnitude = _smoothed(follows) / np.maximum(_smoothed(own), 1e-300)
    logarithm = np.log(np.maximum(magnitude, 1e-6))
    least = _least_phase(logarithm, weight > 0.05)
    # Variance of a phase, and of the logarithm of a magnitude, by noise.
    noise = (1.0 - coherence) / (2 * count * np.maximum(coherence, 1e-9))
    level = _is_level(logarithm, weight, own * weight, noise)
    omega = np.pi * np.arange(len(own)) / (len(own) - 1)
    both = np.sqrt(own * other)
    coherent = float((both * np.sqrt(coherence)).sum())
    certain = np.exp(-noise / 2)
    return _Cross(omega, cross, np.angle(cross), least, weight, certain, level, float(both.sum()), coherent)


def _is_level(logarithm: Floats, weight: Floats, power: Floats, noise: Floats) -> bool:
    """Whether a magnitude is the same all over the band, as far as noise lets it be told.

    Args:
        logarithm: of the smoothed magnitude.
        noise: variance of that of each bin before it is smoothed.
    """
    sure = weight > 0.9 * weight.max()
    smooth = _smoothed(np.minimum(noise, 1.0)) * _ALIKE / (2 * _half_width(len(noise)) + 1)
    by_noise = 3.3 * math.sqrt(float(smooth[sure].mean()))  # from the 5th percentile to the 95th
    if np.subtract(*np.percentile(logarithm[sure], [95, 5])) >= math.hypot(_LEVEL, _NOISY * by_noise):
        return False
    # A filter may change few bins of many, and those that carry the most.
    usual = float(np.average(logarithm, weights=power))
    off = float(np.sqrt(np.average((logarithm - usual) ** 2, weights=power)))
    return off < math.hypot(_LEVEL / 2, _NOISY * math.sqrt(float(np.average(smooth, weights=power))))


def _half_width(bins: int) -> NDArray[np.int64]:
    return np.maximum(2, (np.arange(bins) * (2 ** (_SMOOTH / 2) - 1)).astype(np.int64))


def _smoothed(power: Floats) -> Floats:
    """Mean over a twelfth of an octave, a few bins at least."""
    bins = np.arange(len(power))
    half = _half_width(len(power))
    total = np.concatenate([[0.0], np.cumsum(power)])
    lo, hi = np.maximum(0, bins - half), np.minimum(len(power), bins + half + 1)
    return np.asarray((total[hi] - total[lo]) / (hi - lo))


def _least_phase(log_magnitude: Floats, known: NDArray[np.bool_]) -> Floats:
    """The phase of the minimum-phase filter of that magnitude, by the cepstrum; held level where nothing is known.

    Source: A. V. Oppenheim and R. W. Schafer, Discrete-Time Signal Processing, chapter on the Hilbert transform.
    """
    places = np.flatnonzero(known)
    if len(places) < 2:
        return np.zeros_like(log_magnitude)
    held = _extended(log_magnitude, places)
    size = 2 * (len(held) - 1)
    cepstrum = fft.irfft(held, size)
    fold = np.zeros(size)
    fold[0], fold[1 : size // 2], fold[size // 2] = 1.0, 2.0, 1.0
    return np.asarray(fft.rfft(cepstrum * fold).imag)


def _extended(log_magnitude: Floats, places: NDArray[np.int64]) -> Floats:
    """A magnitude beyond the band in which it is known, on the slopes that it has at the band's ends."""
    bins = np.arange(len(log_magnitude))
    held = np.interp(bins, places, log_magnitude[places])
    octaves = np.log2(np.maximum(bins, 0.5))
    for end, inner, beyond, sign in (
        (places[-1], octaves[places[-1]] - 1.0, bins > places[-1], -1.0),
        (places[0], octaves[places[0]] + 1.0, bins < places[0], 1.0),
    ):
        near = places[(octaves[places] >= min(inner, octaves[end])) & (octaves[places] <= max(inner, octaves[end]))]
        if len(near) < 4 or not beyond.any():
            continue
        slope = float(np.polyfit(octaves[near], log_magnitude[near], 1)[0])
        slope = sign * float(np.clip(sign * slope, 0.0, _STEEPEST))
        held[beyond] = held[end] + slope * (octaves[beyond] - octaves[end])
    return held


def _peak(spectrum: Spectrum, size: int, near: int) -> tuple[float, float, float]:
    """Where a sum of phases agrees best: the delay in samples, the height of the agreement, and its sign."""
    fine = size * _FINE
    sums = fft.irfft(spectrum, fine) * fine / 2
    reach = near * _FINE
    around = np.concatenate([sums[-reach:], sums[: reach + 1]])
    best, upright = int(np.abs(around).argmax()), int(around.argmax())
    # A tone inverted and a tone half a period late are one signal: the upright reading is taken.
    if around[upright] >= _UPRIGHT * abs(around[best]):
        best = upright
    sign = 1.0 if around[best] >= 0 else -1.0
    at = (best - reach) / _FINE
    omega = np.pi * np.arange(len(spectrum)) / (len(spectrum) - 1)
    for _ in range(20):
        turned = sign * spectrum * np.exp(1j * omega * at)
        slope, bend = -float((omega * turned.imag).sum()), -float((omega**2 * turned.real).sum())
        if bend >= 0.0:
            break
        step = float(np.clip(-slope / bend, -0.5 / _FINE, 0.5 / _FINE))
        at += step
        if abs(step) < 1e-10:
            break
    at = float(np.clip(at, -near, near))
    height = float((sign * spectrum * np.exp(1j * omega * at)).real.sum())
    return at, height, sign


def _steady(sets: Sequence[Blocks], at: float, *, filtered: bool) -> tuple[float, float, bool]:
    """How the blocks correlate with the reference at the delay, and whether most do, and to the same sign.

    Each half of the blocks is looked at in the band that the other half found to carry: chance does not repeat.
    """
    values: list[float] = []
    for blocks in sets:
        if len(blocks.x) < 4:
            continue
        for fold in (0, 1):
            chosen, rest = (Blocks(blocks.x[k::2], blocks.y[k::2]) for k in (fold, 1 - fold))
            cross = _cross(rest)
            if cross is not None:
                values += _correlated(chosen, cross, at, filtered=filtered)
    if len(values) < 3:
        return 1.0, 1.0, True  # too short for blocks: whoever asks has to see to it
    told = np.array(values)
    mean = float(told.mean())
    error = float(told.std() / math.sqrt(len(told))) + 1e-9
    agree = float((told * np.sign(mean) > _AGREE * abs(mean)).mean())
    # Of few blocks the spread itself is not well known.
    least = _STANDS_OUT * (1.0 + 12.0 / len(told))
    usual = abs(float(np.median(told)))
    return abs(mean), usual, abs(mean) > max(least * error, _LEAST_STRENGTH) and agree >= _MOST_AGREE


def _correlated(blocks: Blocks, cross: _Cross, at: float, *, filtered: bool) -> list[float]:
    """Of each block that sounds, how it correlates with the reference at a delay, all bins alike.

    Args:
        filtered: whether the phase that belongs to the magnitude is off first.
    """
    turn = np.exp(1j * (cross.omega * at - (cross.least if filtered else 0.0)))
    own, other = (np.mean(np.abs(side) ** 2, axis=0) for side in (blocks.x, blocks.y))
    level = np.sqrt(cross.weight)
    x, y = (
        side * (level / np.sqrt(_smoothed(p) + 1e-14 * p.max(initial=0.0) + 1e-300))
        for side, p in ((blocks.x, own), (blocks.y, other))
    )
    scale = np.sqrt((np.abs(x) ** 2).sum(axis=1) * (np.abs(y) ** 2).sum(axis=1))
    power = (np.abs(blocks.x) ** 2).sum(axis=1)
    heard = power > 1e-4 * power.max(initial=0.0)
    each = np.divide((np.conj(x) * y * turn).real.sum(axis=1), scale, out=np.zeros(len(x)), where=scale > 0)
    return [float(value) for value in each[heard]]
