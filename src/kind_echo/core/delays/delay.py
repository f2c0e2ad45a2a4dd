"""How much later the render is than the reference, to a hundredth of a sample, and with which polarity.

Lags at which the two may belong together are looked for first, with what both have in common in their spectrum taken
off, so that the colour of a sound does not pull them. Each is then judged by how well the phases of blocks all over the
file agree on it: what is not related, or related in one place alone, does not.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.correlation import Floats, MapFunction, correlate
from kind_echo.core.audio.source import Derived, Samples, Source, as_rows, blocks, read_padded
from kind_echo.core.audio.transforms import fast_length
from kind_echo.core.delays.delay_reading import Delay, correlation_near, no_delay, sharpen
from kind_echo.core.delays.near_delay import find_delays_within
from kind_echo.core.delays.phases import NEAR, Fine, fine_delay, read_blocks, settled

MAX_REACH = 1 << 19
"""Frames searched to either side unless told otherwise: 10.9 s at 48 kHz."""

_LONG = 1 << 20  # frames beyond which lags are sought with an excerpt
_EXCERPT = 1 << 17  # frames of the loudest stretch, aligned with the render where a file is long
_WINDOW = 1 << 19  # frames of the render that an excerpt is compared with at a time
_SMOOTH_BINS = 24  # over which a spectrum is smoothed before it is taken off
_FLOOR = 1e-5  # of the greatest, under which a spectrum is not taken off
_PEAKS = 3  # lags of each kind that are looked at
_APART = 64  # samples by which they differ
_SHORT = 1 << 12  # frames under which a file is judged as a whole
_LEAST_OVERLAP = 0.1  # of the shorter file
_CERTAIN = 0.5  # correlation coefficient that unrelated signals of useful length do not reach
_SURE = 0.97  # strength from which no other lag is looked at
_BEST = (
    0.95  # of the greatest strength, from which the shortest lag is taken: what repeats in noise fits as well elsewhere
)
_COINCIDE = 0.9  # correlation coefficient of the waveforms of a sound and the same sound changed a little
_ALONE = 0.9  # strength that no notes that come again reach
_COHERENT = 0.45  # of the power, which unrelated sounds do not share; at 6 dB of noise over the signal it is as much
_BY_FAR = 5.0  # times the strength at other lags, at which it may be less
_OTHERS = 16  # lags that a lag is held against
_GOLDEN = 0.6180339887  # of the golden ratio, whose multiples spread evenly
_TOO_FEW = 1.0  # what stands for the strength where too few blocks sound to tell one
_COMES_AGAIN = 0.8  # of that agreement, which the sound has with itself where it comes again
_STANDS_OUT = 1.25  # times the greatest strength at those
_STRONG, _FAR = 0.3, 4.0  # strength, and times that at other lags, from which blocks need not agree
_AMBIGUOUS = 0.98  # another lag that correlates within 2 % of the best
_DIP = 0.9  # between two periods the correlation falls below this
_PERIOD_SECONDS = 0.06  # periods longer than this are events that repeat, told apart by how many overlap
_LEAST = 0.4  # of a period, within which a delay is surely the least of those that fit
_THE_SAME = 0.995  # correlation of most of the reference with itself, from which it is the same a period later
_PARTS = 8  # blocks of a long file in which periods are looked for
_TONE_BLOCK = 1 << 13  # frames of each block in which a steady tone is looked for
_TONE_BLOCKS = 9  # of them, evenly spread
_TONE_BINS = 4  # to either side of the line of a tone, which its window widens
_TONE_SHARE = 0.999  # of the power, which a tone alone has in its line
_TONE_MOST = 0.75  # of the blocks that sound, which hold the same line
_SOUNDS = 1e-6  # of the power of the loudest block
_BESIDE = 1 << 11  # frames beside what sounds in a file that is mostly silent
_PLAIN = 0.9  # agreement of phases, from which a delay is told from the correlation


@dataclass(frozen=True)
class _Tried:
    """A lag that was looked at, and what all channels together say of it."""

    lag: int
    together: Fine


def find_delays(
    reference: Source,
    render: Source,
    max_delay: int | None = None,
    spread: MapFunction = map,
) -> tuple[Delay, list[Delay]]:
    """The delay that all channels share, and that of each channel.

    Args:
        reference, render: same rate and channels, finite.
        max_delay: the search is kept within this many frames to either side.
        spread: does the pieces that a long file is searched in.
    Source:
        C. H. Knapp and G. C. Carter, The generalized correlation method for estimation of time delay, IEEE Trans.
        ASSP 24 (1976).
    """
    if max_delay is not None:
        return _widened(reference, render, *find_delays_within(reference, render, max_delay, spread))
    if _is_steady_tone(reference):
        none = no_delay("silence" if _is_silent(render) else "periodic")
        return none, [none] * reference.channels
    reach = min(max(reference.frames, render.frames) - 1, MAX_REACH)
    tried: list[_Tried] = []
    first = _look(reference, render, 0, reach)
    if first is not None:
        tried.append(first)
    if first is None or not first.together.steady or first.together.strength < _SURE:
        for lag in _candidates(reference, render, reach, spread):
            if all(abs(lag - one.lag - one.together.samples) > 2.0 for one in tried):
                found = _look(reference, render, lag, reach)
                if found is not None:
                    tried.append(found)
    best = _best(tried, reference, render)
    if best is None or not _stands_alone(reference, render, best):
        sounding = _sounding(reference, render)
        if sounding is not None:
            # Blocks spread over all of it met silence: what sounds is looked at alone.
            return find_delays(_Stretch(reference, *sounding), _Stretch(render, *sounding), spread=spread)
        apart = _where_it_sounds(reference, render, reach, spread)
        if apart is not None:
            return apart
        silent = _is_silent(reference) or _is_silent(render)
        none = no_delay("silence" if silent else "unrelated")
        return none, [none] * reference.channels
    channels = _of_each(reference, render, best, reach)
    period = _period(reference, render, best, channels, spread)
    if period is not None and abs(best.lag + best.together.samples) >= _LEAST * period:
        none = no_delay("periodic")
        return none, [none] * reference.channels
    overall = _delay(best.together, best.lag, reference.rate)
    if (overall.uncertainty or 0.0) > NEAR:  # it was not looked for any further away
        none = no_delay("unrelated")
        return none, [none] * reference.channels
    each = [no_delay("silence") if one is None else _delay(one, best.lag, reference.rate) for one in channels]
    # A render that differs by no filter has the delay that its correlation tells most finely.
    if best.together.level and best.together.linearity >= _PLAIN:
        around = correlation_near(reference, render, overall, spread)
        if around is not None:
            overall, each = sharpen(around, overall, each)
    return overall, [one if fine is None or fine.steady else no_delay("unrelated")
                     for one, fine in zip(each, channels, strict=True)]  # fmt: skip


def _widened(reference: Source, render: Source, overall: Delay, each: list[Delay]) -> tuple[Delay, list[Delay]]:
    """The delays of a correlation, as uncertain as the phases make them: a filter moves the peak of a correlation."""
    if overall.samples is None or _is_steady_tone(reference):
        return overall, each
    tried = _look(reference, render, round(overall.samples), MAX_REACH)
    if tried is None or (tried.together.level and tried.together.linearity >= _PLAIN):
        return overall, each
    channels = _of_each(reference, render, tried, MAX_REACH)
    widened = [_widened_one(one, fine, tried.lag, reference.rate) for one, fine in zip(each, channels, strict=True)]
    return _widened_one(overall, tried.together, tried.lag, reference.rate), widened


def _widened_one(delay: Delay, fine: Fine | None, lag: int, rate: int) -> Delay:
    if delay.samples is None or fine is None or not fine.steady:
        return delay
    samples, spread = settled(fine, lag, rate)
    return replace(delay, uncertainty=max(delay.uncertainty or 0.0, spread, abs(samples - delay.samples)))


@dataclass(frozen=True)
class _Stretch(Derived):
    """Frames of a source as a source; silence where it has none."""

    first: int
    last: int

    @property
    def frames(self) -> int:
        return self.last - self.first

    def read(self, start: int, stop: int) -> Samples:
        return read_padded(self.source, self.first + start, self.first + stop)


def _sounding(reference: Source, render: Source) -> tuple[int, int] | None:
    """The frames in which either of two files sounds, and a little beside; None where that is most of the reference."""
    ends = []
    for side in (reference, render):
        powers = np.array([float(np.einsum("fc,fc->", block, block)) for _, block in blocks(side, size=_BESIDE)])
        there = np.flatnonzero(powers > _SOUNDS * powers.max(initial=0.0))
        if len(there) == 0:
            return None
        ends.append(((int(there[0]) - 1) * _BESIDE, (int(there[-1]) + 2) * _BESIDE))
    lo, hi = max(0, min(first for first, _ in ends)), min(reference.frames, max(last for _, last in ends))
    return (lo, hi) if 2 * (hi - lo) <= reference.frames else None


@dataclass(frozen=True)
class _Joined(Derived):
    """Stretches of a source, one after the other, each so many frames later; silence where it has none."""

    stretches: tuple[tuple[int, int], ...]
    shift: int = 0

    @cached_property
    def _ends(self) -> NDArray[np.int64]:
        return np.cumsum([last - first for first, last in self.stretches])

    @property
    def frames(self) -> int:
        return int(self._ends[-1])

    def read(self, start: int, stop: int) -> Samples:
        found, at = [], start
        for place in range(int(np.searchsorted(self._ends, start, "right")), len(self.stretches)):
            if at >= stop:
                break
            end = int(self._ends[place])
            until = min(stop, end)
            last = self.stretches[place][1] + self.shift
            found.append(read_padded(self.source, last - (end - at), last - (end - until)))
            at = until
        return np.concatenate(found) if found else np.zeros((0, self.source.channels))


def _where_it_sounds(
    reference: Source, render: Source, reach: int, spread: MapFunction
) -> tuple[Delay, list[Delay]] | None:
    """Delays from the stretches in which the reference sounds, where these are under half of it, as around a mute.

    They are laid over as many of the render at the lag where the waveforms match best; None where these do not tell.
    """
    powers = np.array([float(np.einsum("fc,fc->", block, block)) for _, block in blocks(reference, size=_BESIDE)])
    sounds = powers > _SOUNDS * powers.max(initial=0.0)
    beside = sounds | np.append(sounds[1:], False) | np.append(False, sounds[:-1])
    if not sounds.any() or 2 * int(beside.sum()) > len(beside):
        return None
    edges = np.flatnonzero(np.diff(np.concatenate([[False], beside, [False]]).astype(int)))
    stretches = tuple(
        (int(first) * _BESIDE, min(int(last) * _BESIDE, reference.frames)) for first, last in edges.reshape(-1, 2)
    )
    here = _Joined(reference, stretches)
    lags = _candidates(reference, render, reach, spread)
    best = max(lags, key=lambda lag: _match(here, _Joined(render, stretches, lag)))
    overall, each = find_delays(here, _Joined(render, stretches, best), spread=spread)
    if overall.samples is None or abs(overall.samples) > NEAR:
        return None
    overall, *each = (
        one if one.samples is None else replace(one, samples=one.samples + best) for one in (overall, *each)
    )
    return overall, each


def _match(one: Source, other: Source) -> float:
    """Greatest correlation coefficient of a channel of two sources of one length, to either sign."""
    sums = np.zeros((3, one.channels))
    for start, x in blocks(one):
        y = other.read(start, start + len(x))
        sums += [(x * x).sum(axis=0), (x * y).sum(axis=0), (y * y).sum(axis=0)]
    scale = np.sqrt(sums[0] * sums[2])
    return float(np.divide(np.abs(sums[1]), scale, out=np.zeros(len(scale)), where=scale > 0.0).max())


def _delay(fine: Fine, lag: int, rate: int) -> Delay:
    samples, spread = settled(fine, lag, rate)
    return Delay(samples, fine.polarity, spread)


def _look(reference: Source, render: Source, lag: int, reach: int) -> _Tried | None:
    """What blocks all over the file say of a lag; None where too little of the two lies over each other."""
    lo, hi = max(0, -lag), min(reference.frames, render.frames - lag)
    if hi - lo < max(8, _LEAST_OVERLAP * min(reference.frames, render.frames)):
        return None
    together = fine_delay(read_blocks(reference, render, lag, (lo, hi)), _near(lag, reach), whole_file=True)
    return None if together is None else _Tried(lag, together)


def _of_each(reference: Source, render: Source, tried: _Tried, reach: int) -> list[Fine | None]:
    """What each channel says of a lag by itself; None for one that is silent."""
    if reference.channels == 1:
        return [tried.together]
    within = max(0, -tried.lag), min(reference.frames, render.frames - tried.lag)
    sets = read_blocks(reference, render, tried.lag, within)
    return [fine_delay([one], _near(tried.lag, reach), whole_file=True) for one in sets]


def _near(lag: int, reach: int) -> int:
    """Samples around a lag within which a finer one is looked for."""
    return max(1, min(NEAR, reach - abs(lag)) if reach < abs(lag) + NEAR else NEAR)


def _best(tried: Sequence[_Tried], reference: Source, render: Source) -> _Tried | None:
    steady = [one for one in tried if one.together.steady]
    if min(reference.frames, render.frames) < _SHORT or any(one.together.strength == _TOO_FEW for one in steady):
        steady = [one for one in steady if _coefficient(reference, render, one) >= _CERTAIN]
    if not steady:
        # Of a short sound, that a filter turns about from block to block, few blocks agree, but those by far.
        at_rest = [
            one for one in tried if abs(one.lag + one.together.samples) < 1.0 and one.together.strength > _STRONG
        ]
        alone = [one for one in at_rest if _stands_alone(reference, render, one, _FAR)]
        return alone[0] if alone else None
    top = max(one.together.strength for one in steady)
    best = min((one for one in steady if one.together.strength >= _BEST * top), key=lambda one: abs(one.lag))
    closest = max(tried, key=lambda one: one.together.match_less(0.0))
    match = closest.together.match_less(0.0)
    # Where the waveforms themselves all but coincide, blocks that agree a little better elsewhere do so by its pattern.
    agrees = closest.together.strength > _STRONG * best.together.strength
    return closest if agrees and match >= _COINCIDE and best.together.match_less(0.0) < _BEST * match else best


def _stands_alone(reference: Source, render: Source, best: _Tried, by: float = _STANDS_OUT) -> bool:
    """Whether the two agree better at a lag than at lags taken at random, as notes that are held or come again do."""
    span = min(reference.frames, render.frames) // 2
    if (by == _STANDS_OUT and best.together.strength >= _ALONE) or span < _SHORT:
        return True
    # Waveforms that all but coincide where they are need no other lag to speak against.
    if abs(best.lag + best.together.samples) < 0.5 and best.together.match_less(0.0) >= _COINCIDE:
        return True
    # Of two that share a loop or a chord some bands agree; what is the same sound coheres in most of its power, or
    # lies under noise that agrees nowhere.
    little = best.together.coherent < _COHERENT
    by = max(by, _BY_FAR) if little else by
    others = [round(((k * _GOLDEN) % 1.0 - 0.5) * 2 * span) for k in range(1, _OTHERS + 1)]
    for lag in others:
        looked = _look(reference, render, lag, span) if abs(lag - best.lag) > 2 * NEAR else None
        if looked is None or looked.together.strength == _TOO_FEW:
            continue
        if by * looked.together.strength >= best.together.strength:
            if little:
                return False
            # Where the sound itself comes again so long after, the two agree there too.
            itself = _look(reference, reference, lag - best.lag, span)
            share = looked.together.strength / best.together.strength
            if itself is None or itself.together.strength < _COMES_AGAIN * share:
                return False
    return True


def _coefficient(reference: Source, render: Source, tried: _Tried) -> float:
    """Correlation coefficient of two short files at a lag; of whichever channel correlates best."""
    lag = tried.lag + round(tried.together.samples)
    x = as_rows(reference.read(0, reference.frames))
    y = as_rows(read_padded(render, lag, lag + reference.frames))
    scale = np.sqrt((x**2).sum(axis=1) * (y**2).sum(axis=1))
    return float(np.divide(np.abs((x * y).sum(axis=1)), scale, out=np.zeros(len(x)), where=scale > 0).max(initial=0.0))


def _candidates(reference: Source, render: Source, reach: int, spread: MapFunction) -> list[int]:
    """Lags at which the two may belong together, by two correlations: as they are, and with their colour taken off."""
    if min(reference.frames, render.frames) > _LONG and reach > 0:
        x, y, first = _excerpt(reference, render, reach)
        found = _peaks(*_slide(x, y, spread))
        return [lag + first for lag in found]
    longest = max(reference.frames, render.frames) - 1
    span = min(longest, reach)
    x, y = (_scaled(as_rows(side.read(0, side.frames))) for side in (reference, render))
    size = fast_length(x.shape[1] + y.shape[1])
    plain, level = np.zeros(size), np.zeros(size)
    for a, b in zip(x, y, strict=True):
        one, other = fft.rfft(a, size), fft.rfft(b, size)
        cross = np.conj(one) * other
        for total, spectrum in ((plain, cross), (level, cross / _colour(one, other))):
            lags = fft.irfft(spectrum, size)
            top = float(lags[np.abs(lags).argmax()])
            # Channels may have opposite polarity, so their correlations are folded to one sign before they are added.
            total += lags * np.sign(total @ lags or top)
    around = np.concatenate([np.arange(0, span + 1), np.arange(-span, 0)])
    return [int(lag) for lag in _peaks(level[around], plain[around], around)]


def _colour(one: NDArray[np.complex128], other: NDArray[np.complex128]) -> Floats:
    """What both spectra have in common, smoothed, with a floor that keeps what neither has from growing."""
    powers = [_smooth(np.abs(side) ** 2) for side in (one, other)]
    floored = [power + _FLOOR * power.max(initial=0.0) + 1e-300 for power in powers]
    return np.asarray(np.sqrt(floored[0]) * np.sqrt(floored[1]))


def _smooth(power: Floats) -> Floats:
    total = np.concatenate([[0.0], np.cumsum(power)])
    bins = np.arange(len(power))
    half = max(_SMOOTH_BINS, len(power) // 4096)
    lo, hi = np.maximum(0, bins - half), np.minimum(len(power), bins + half + 1)
    return np.asarray((total[hi] - total[lo]) / (hi - lo))


def _peaks(level: Floats, plain: Floats, lags: NDArray[np.int64] | None = None) -> list[int]:
    """The lags of the greatest magnitudes of two correlations, apart from each other."""
    places = np.arange(len(level)) if lags is None else lags
    found: list[int] = []
    for values in (level, plain):
        left = np.abs(values)
        for _ in range(_PEAKS):
            best = int(left.argmax())
            lag = int(places[best])
            if all(abs(lag - other) > _APART for other in found):
                found.append(lag)
            left[np.abs(places - lag) <= _APART] = 0.0
    return found


def _excerpt(reference: Source, render: Source, reach: int) -> tuple[Floats, Floats, int]:
    """The loudest stretch of the reference, what of the render it may lie in, and the first lag of that."""
    powers = [float(np.einsum("fc,fc->", block, block)) for _, block in blocks(reference, size=_EXCERPT)]
    start = int(np.argmax(powers)) * _EXCERPT
    stop = min(start + _EXCERPT, reference.frames)
    x = reference.read(start, stop)
    channel = int(np.square(x).sum(axis=0).argmax())
    lo, hi = max(start - reach, -(stop - start)), min(stop + reach, render.frames + (stop - start))
    y = read_padded(render, lo, hi)[:, channel]
    return _scaled(x[:, channel]), _scaled(y), lo - start


def _scaled(values: Floats) -> Floats:
    """To a greatest magnitude of 1, in 64 bits: the power of the least numbers of a format is 0."""
    return np.divide(values, float(np.abs(values).max(initial=0.0)) or 1.0, dtype=np.float64)


def _slide(x: Floats, y: Floats, spread: MapFunction) -> tuple[Floats, Floats]:
    """The two correlations of an excerpt with all that it may lie over, by overlap-save in pieces."""
    size = fast_length(max(_WINDOW, 2 * len(x)))
    step, places = size - len(x) + 1, max(1, len(y) - len(x) + 1)
    one = fft.rfft(x, size)
    own = _smooth(np.abs(one) ** 2)
    own += _FLOOR * own.max(initial=0.0) + 1e-300

    def piece(a: int) -> tuple[Floats, Floats]:
        cross = np.conj(one) * fft.rfft(y[a : a + size], size)
        return fft.irfft(cross / own, size)[:step], fft.irfft(cross, size)[:step]

    found = list(spread(piece, range(0, places, step)))
    level, plain = (np.concatenate([one[k] for one in found])[:places] for k in (0, 1))
    return level, plain


def _period(
    reference: Source, render: Source, tried: _Tried, channels: Sequence[Fine | None], spread: MapFunction
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
        other = _look(reference, reference, away, near)
        if other is not None and other.together.usual >= _THE_SAME:
            return abs(away)
    return None


def _is_silent(source: Source) -> bool:
    return all(not block.any() for _, block in blocks(source))


def _is_steady_tone(source: Source) -> bool:
    """Whether a file is one tone throughout: but for its ends it is the same a period later."""
    if source.frames < _SHORT:
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
    sounds = np.array(powers) > _SOUNDS * powers[loudest]
    same = (np.abs(np.array(lines) - lines[loudest]) <= 1) & (np.array(shares) >= _TONE_SHARE) & sounds
    return lines[loudest] > _TONE_BINS and bool(same.sum() >= _TONE_MOST * sounds.sum() > 0)
