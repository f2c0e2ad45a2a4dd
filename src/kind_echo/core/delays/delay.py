"""How much later the render is than the reference, to a hundredth of a sample, and with which polarity.

Lags at which the two may belong together are looked for first, with what both have in common in their spectrum taken
off, so that the colour of a sound does not pull them. Each is then judged by how well the phases of blocks all over the
file agree on it: what is not related, or related in one place alone, does not.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.correlation import MapFunction
from kind_echo.core.audio.source import Derived, PartSource, Samples, Source, as_rows, blocks, read_padded
from kind_echo.core.delays.candidates import candidates
from kind_echo.core.delays.delay_reading import Delay, correlation_near, no_delay, no_delay_of_period, sharpen
from kind_echo.core.delays.near_delay import find_delays_within
from kind_echo.core.delays.periods import delay_of_tone, is_steady_tone, period_of
from kind_echo.core.delays.phases import NEAR, Fine, settled
from kind_echo.core.delays.tried import SHORT, SOUNDS, Tried, look, of_each

MAX_REACH = 1 << 19
"""Frames searched to either side unless told otherwise: 10.9 s at 48 kHz."""


@dataclass(frozen=True)
class JudgingLags:
    """When a lag is taken for the delay. Strengths are agreements of phases from 0 to 1, from blocks of a file.

    Choices of this product where nothing else is named; `benchmarks.causes` and the tests of delays hold them.

    Attributes:
        certain_correlation: coefficient that unrelated signals of useful length do not reach.
        sure_strength: from which no other lag is looked at.
        near_best: share of the greatest strength, from which the shortest lag is taken: what repeats in noise fits as
            well elsewhere.
        coinciding_correlation: coefficient of the waveforms of a sound and the same sound changed a little.
        alone_strength: that no notes that come again reach.
        coherent_share: of the power, which unrelated sounds do not share; so much it is at 6 dB of noise over a signal.
        by_far: times the strength at other lags, at which it may be less.
        other_lags: that a lag is held against.
        golden_part: of the golden ratio, whose multiples spread evenly: number theory.
        too_few_strength: stands for the strength where too few blocks sound to tell one.
        comes_again: of that agreement, which the sound has with itself where it comes again.
        stands_out: times the greatest strength at other lags.
        strong_strength: from which blocks need not agree, where it is `far` times that at other lags.
        least_period: of a period, within which a delay is surely the least of those that fit.
        beside_frames: beside what sounds in a file that is mostly silent.
        short_frames: of a file, up to which waveforms alone tell where blocks do not.
        plain_agreement: of phases, from which a delay is told from the correlation.
    """

    certain_correlation: float = 0.5
    sure_strength: float = 0.97
    near_best: float = 0.95
    coinciding_correlation: float = 0.9
    alone_strength: float = 0.9
    coherent_share: float = 0.45
    by_far: float = 5.0
    other_lags: int = 16
    golden_part: float = 0.6180339887
    too_few_strength: float = 1.0
    comes_again: float = 0.8
    stands_out: float = 1.25
    strong_strength: float = 0.3
    far: float = 4.0
    least_period: float = 0.4
    beside_frames: int = 1 << 11
    short_frames: int = 1 << 17
    plain_agreement: float = 0.9


JUDGING = JudgingLags()

_LAID_OVER = 3  # times that the blocks of tones are laid over each other anew


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
    if is_steady_tone(reference):
        none = no_delay("silence") if _is_silent(render) else delay_of_tone(reference, render)
        return none, [none] * reference.channels
    reach = min(max(reference.frames, render.frames) - 1, MAX_REACH)
    tried: list[Tried] = []
    first = look(reference, render, 0, reach)
    if first is not None:
        first = _laid_over(reference, render, first, reach)
        tried.append(first)
    if first is None or not first.together.steady or first.together.strength < JUDGING.sure_strength:
        for lag in candidates(reference, render, reach, spread):
            if all(abs(lag - one.lag - one.together.samples) > 2.0 for one in tried):
                found = look(reference, render, lag, reach)
                if found is not None:
                    tried.append(found)
    best = _best(tried, reference, render)
    if best is None or not _stands_alone(reference, render, best):
        sounding = _sounding(reference, render)
        if sounding is not None:
            # Blocks spread over all of it met silence: what sounds is looked at alone.
            return find_delays(PartSource(reference, *sounding), PartSource(render, *sounding), spread=spread)
        apart = _where_it_sounds(reference, render, reach, spread)
        if apart is not None:
            return apart
        silent = _is_silent(reference) or _is_silent(render)
        coinciding = None if silent else _where_waveforms_coincide(reference, render, reach, spread)
        if coinciding is not None:
            return coinciding
        none = no_delay("silence" if silent else "unrelated")
        return none, [none] * reference.channels
    channels = of_each(reference, render, best, reach)
    period = period_of(reference, render, best, channels, spread)
    if period is not None and abs(best.lag + best.together.samples) >= JUDGING.least_period * period:
        none = no_delay_of_period(period, best.lag + best.together.samples)
        return none, [none] * reference.channels
    overall = _delay(best.together, best.lag, reference.rate)
    if settled(best.together, best.lag, reference.rate)[1] > NEAR:  # it was not looked for any further away
        none = no_delay("unrelated")
        return none, [none] * reference.channels
    each = [no_delay("silence") if one is None else _delay(one, best.lag, reference.rate) for one in channels]
    # A render that differs by no filter has the delay that its correlation tells most finely.
    if best.together.level and best.together.linearity >= JUDGING.plain_agreement:
        around = correlation_near(reference, render, overall, spread)
        if around is not None:
            overall, each = sharpen(around, overall, each)
    each = [one if fine is None or fine.steady else no_delay("unrelated")
            for one, fine in zip(each, channels, strict=True)]  # fmt: skip
    whole = round(best.together.samples)
    if best.together.groups > 0.0 and whole:
        # Blocks that are laid over each other tell group delays more finely.
        nearer = look(reference, render, best.lag + whole, reach)
        if nearer is not None:
            best, channels = nearer, of_each(reference, render, nearer, reach)
    return _spanning(overall, best.together), [_spanning(*one) for one in zip(each, channels, strict=True)]


def _laid_over(reference: Source, render: Source, tried: Tried, reach: int) -> Tried:
    """The same lag, or what fits tones better where their blocks are laid over each other."""
    best = tried
    for _ in range(_LAID_OVER):
        whole = round(tried.together.samples)
        if not tried.together.narrow or whole == 0:
            break
        nearer = look(reference, render, tried.lag + whole, reach)
        if nearer is None:
            break
        tried = nearer
        if tried.together.agreement > best.together.agreement:
            best = tried
    return best


def _spanning(delay: Delay, fine: Fine | None) -> Delay:
    """A delay, as uncertain as the group delays make it where a filter has several."""
    if delay.samples is None or fine is None:
        return delay
    return replace(delay, uncertainty=max(delay.uncertainty or 0.0, fine.groups))


def _widened(reference: Source, render: Source, overall: Delay, each: list[Delay]) -> tuple[Delay, list[Delay]]:
    """The delays of a correlation, as uncertain as the phases make them: a filter moves the peak of a correlation."""
    if overall.samples is None:
        return overall, each
    if is_steady_tone(reference):
        return replace(overall, why=delay_of_tone(reference, render).why), each
    tried = look(reference, render, round(overall.samples), MAX_REACH)
    if tried is None or (tried.together.level and tried.together.linearity >= JUDGING.plain_agreement):
        return overall, each
    channels = of_each(reference, render, tried, MAX_REACH)
    widened = [_widened_one(one, fine, tried.lag, reference.rate) for one, fine in zip(each, channels, strict=True)]
    return _widened_one(overall, tried.together, tried.lag, reference.rate), widened


def _widened_one(delay: Delay, fine: Fine | None, lag: int, rate: int) -> Delay:
    if delay.samples is None or fine is None or not fine.steady:
        return delay
    samples, spread = settled(fine, lag, rate)
    return replace(delay, uncertainty=max(delay.uncertainty or 0.0, spread, fine.groups, abs(samples - delay.samples)))


def _sounding(reference: Source, render: Source) -> tuple[int, int] | None:
    """The frames in which either of two files sounds, and a little beside; None where that is most of the reference."""
    ends = []
    for side in (reference, render):
        powers = np.array(
            [float(np.einsum("fc,fc->", block, block)) for _, block in blocks(side, size=JUDGING.beside_frames)]
        )
        there = np.flatnonzero(powers > SOUNDS * powers.max(initial=0.0))
        if len(there) == 0:
            return None
        ends.append(((int(there[0]) - 1) * JUDGING.beside_frames, (int(there[-1]) + 2) * JUDGING.beside_frames))
    lo, hi = max(0, min(first for first, _ in ends)), min(reference.frames, max(last for _, last in ends))
    return (lo, hi) if 2 * (hi - lo) <= reference.frames else None


def _where_waveforms_coincide(
    reference: Source, render: Source, reach: int, spread: MapFunction
) -> tuple[Delay, list[Delay]] | None:
    """Delays at which waveforms all but coincide, of what is too short for its blocks to agree, as one impulse is."""
    if max(reference.frames, render.frames) > JUDGING.short_frames:
        return None
    overall, each = find_delays_within(reference, render, reach, spread)
    if overall.samples is None:
        return None
    lag = round(overall.samples)
    met = PartSource(render, lag, lag + reference.frames)
    return (overall, each) if _match(reference, met) >= JUDGING.coinciding_correlation else None


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
    powers = np.array(
        [float(np.einsum("fc,fc->", block, block)) for _, block in blocks(reference, size=JUDGING.beside_frames)]
    )
    sounds = powers > SOUNDS * powers.max(initial=0.0)
    beside = sounds | np.append(sounds[1:], False) | np.append(False, sounds[:-1])
    if not sounds.any() or 2 * int(beside.sum()) > len(beside):
        return None
    edges = np.flatnonzero(np.diff(np.concatenate([[False], beside, [False]]).astype(int)))
    stretches = tuple(
        (int(first) * JUDGING.beside_frames, min(int(last) * JUDGING.beside_frames, reference.frames))
        for first, last in edges.reshape(-1, 2)
    )
    here = _Joined(reference, stretches)
    lags = candidates(reference, render, reach, spread)
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


def _best(tried: Sequence[Tried], reference: Source, render: Source) -> Tried | None:
    steady = [one for one in tried if one.together.steady]
    if min(reference.frames, render.frames) < SHORT or any(
        one.together.strength == JUDGING.too_few_strength for one in steady
    ):
        steady = [one for one in steady if _coefficient(reference, render, one) >= JUDGING.certain_correlation]
    if not steady:
        # Of a short sound, that a filter turns about from block to block, few blocks agree, but those by far.
        at_rest = [
            one
            for one in tried
            if abs(one.lag + one.together.samples) < 1.0 and one.together.strength > JUDGING.strong_strength
        ]
        alone = [one for one in at_rest if _stands_alone(reference, render, one, JUDGING.far)]
        return alone[0] if alone else None
    top = max(one.together.strength for one in steady)
    best = min(
        (one for one in steady if one.together.strength >= JUDGING.near_best * top), key=lambda one: abs(one.lag)
    )
    closest = max(tried, key=lambda one: one.together.match_less(0.0))
    match = closest.together.match_less(0.0)
    # Where the waveforms themselves all but coincide, blocks that agree a little better elsewhere do so by its pattern.
    agrees = closest.together.strength > JUDGING.strong_strength * best.together.strength
    return (
        closest
        if agrees
        and match >= JUDGING.coinciding_correlation
        and best.together.match_less(0.0) < JUDGING.near_best * match
        else best
    )


def _stands_alone(reference: Source, render: Source, best: Tried, by: float = JUDGING.stands_out) -> bool:
    """Whether the two agree better at a lag than at lags taken at random, as notes that are held or come again do."""
    span = min(reference.frames, render.frames) // 2
    if (by == JUDGING.stands_out and best.together.strength >= JUDGING.alone_strength) or span < SHORT:
        return True
    # Waveforms that all but coincide where they are need no other lag to speak against.
    if abs(best.lag + best.together.samples) < 0.5 and best.together.match_less(0.0) >= JUDGING.coinciding_correlation:
        return True
    # Of two that share a loop or a chord some bands agree; what is the same sound coheres in most of its power, or
    # lies under noise that agrees nowhere.
    little = best.together.coherent < JUDGING.coherent_share
    by = max(by, JUDGING.by_far) if little else by
    others = [round(((k * JUDGING.golden_part) % 1.0 - 0.5) * 2 * span) for k in range(1, JUDGING.other_lags + 1)]
    for lag in others:
        looked = look(reference, render, lag, span) if abs(lag - best.lag) > 2 * NEAR else None
        if looked is None or looked.together.strength == JUDGING.too_few_strength:
            continue
        if by * looked.together.strength >= best.together.strength:
            if little:
                return False
            # Where the sound itself comes again so long after, the two agree there too.
            itself = look(reference, reference, lag - best.lag, span)
            share = looked.together.strength / best.together.strength
            if itself is None or itself.together.strength < JUDGING.comes_again * share:
                return False
    return True


def _coefficient(reference: Source, render: Source, tried: Tried) -> float:
    """Correlation coefficient of two short files at a lag; of whichever channel correlates best."""
    lag = tried.lag + round(tried.together.samples)
    x = as_rows(reference.read(0, reference.frames))
    y = as_rows(read_padded(render, lag, lag + reference.frames))
    scale = np.sqrt((x**2).sum(axis=1) * (y**2).sum(axis=1))
    return float(np.divide(np.abs((x * y).sum(axis=1)), scale, out=np.zeros(len(x)), where=scale > 0).max(initial=0.0))


def _is_silent(source: Source) -> bool:
    return all(not block.any() for _, block in blocks(source))
