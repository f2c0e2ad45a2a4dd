"""A render against its reference: identity, delay, polarity, gain, what a null test leaves and what explains it."""

import math
import threading
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from functools import partial

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import Align, AlignedSource, Aligner, Alignment, DifferenceSource, rows_of_pair
from kind_echo.core.audio.source import ArraySource, MonoSource, Source, TurnTaking, in_memory
from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.curves import fit_curve
from kind_echo.core.causes.excerpts import take_excerpts
from kind_echo.core.causes.explained import ComparedFacts, Explained
from kind_echo.core.causes.explanation import explain
from kind_echo.core.causes.thresholds import NAMING
from kind_echo.core.comparison.account import STEPS, complete, power_left
from kind_echo.core.comparison.bands import third_octaves
from kind_echo.core.comparison.gains import find_gains, fine_sums, gains_under_drift, upright_at_level
from kind_echo.core.comparison.residual import MEASURES as RESIDUAL
from kind_echo.core.comparison.residual import (
    Residual,
    changed_curve,
    perfect_null,
    residual_meter,
    residual_of,
    residual_readings,
)
from kind_echo.core.comparison.rest import Found
from kind_echo.core.comparison.swapping import find_swap
from kind_echo.core.comparison.telling import delay_readings, fitness, left_out, not_finite, of_samples, refused
from kind_echo.core.delays.delay import find_delays
from kind_echo.core.delays.delay_reading import Delay
from kind_echo.core.delays.drift import Drift, find_drift
from kind_echo.core.levels.analysis import FileScan, MeasureOptions, scan_file
from kind_echo.core.levels.integrity import (
    NOT_FINITE,
    Gap,
    GapFinder,
    channel_missing,
    click_readings,
    find_clicks,
    gap_readings,
    lead_in_excess,
    not_of_the_reference,
    steeper,
    without_gaps,
)
from kind_echo.core.registry.errors import BadParameter, ChannelMismatch, RateMismatch
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Curve, Reading, for_channels, null

Floats = NDArray[np.float64]

_DEEPEST = 3  # changes that are undone one in the other

_SOUNDS = 0.001  # of the greatest sample, from which the reference sounds
_APART = 3e-4  # of the reference: half of all samples differ by more
_BENT = 0.1  # of what a gain leaves
_NOTHING_LEFT = 0.5e-14  # mean square, −140 dBFS: no filter need explain what is under it
_AS_USUAL = MeasureOptions()


@dataclass(frozen=True)
class CompareOptions:
    """How the two sides are lined up before the difference is taken; nothing is taken off silently.

    Attributes:
        align: what of the delay is taken off: nothing, whole samples, or fractions too.
        match_gain: bring the render to the reference's level.
        match_polarity: turn an inverted render over.
        max_delay: keep the search for the delay within this many samples to either side; None for the widest.
        ceiling: dBFS of the reference under which changed samples are counted apart; None for not at all.
    """

    align: Align = "samples"
    match_gain: bool = False
    match_polarity: bool = False
    max_delay: int | None = None
    ceiling: float | None = None

    def __post_init__(self) -> None:
        if self.max_delay is not None and self.max_delay < 1:
            raise BadParameter("max_delay", self.max_delay, "at least 1 sample")


@dataclass(frozen=True)
class Comparison:
    """Readings of a pair, the alignment under which its residual was taken, and what both files are by themselves.

    Attributes:
        is_deep: whether next to nothing of the difference is left unexplained.
        gaps, clicks: that were found in the render on the reference's time axis; clicks as frames by channel.
    """

    readings: list[Reading]
    alignment: Alignment
    causes: list[Cause] = field(default_factory=list)
    curves: dict[str, Curve] = field(default_factory=dict)
    sides: tuple[FileScan, FileScan] | None = None
    gaps: list[Gap] = field(default_factory=list)
    clicks: list[list[int]] = field(default_factory=list)
    is_deep: bool = False


def check_pair(reference: Source, render: Source) -> None:
    """Raises RateMismatch or ChannelMismatch when two files cannot be compared sample by sample."""
    if reference.rate != render.rate:
        raise RateMismatch(reference.rate, render.rate)
    if reference.channels != render.channels:
        raise ChannelMismatch(reference.channels, render.channels)


def compare(
    reference: Source,
    render: Source,
    options: CompareOptions = CompareOptions(),
    measuring: MeasureOptions = _AS_USUAL,
) -> Comparison:
    """All measures of a pair.

    Args:
        reference, render: at least one frame each.
    Raises:
        RateMismatch, ChannelMismatch: the two cannot be compared sample by sample.
    """
    check_pair(reference, render)
    return _compare_at(reference, render, frozenset(), options, measuring)


def compare_as_it_is(
    reference: Source, render: Source, options: CompareOptions = CompareOptions(), *, account: bool = True
) -> Comparison:
    """As `compare`, with the causes that lie open alone: none is undone to look for others under it.

    What is read is the same but for clicks that only show under another change.

    Args:
        account: with the account of the difference and its causes, which take most of the time. Without it a filter,
            which explains some clicks, is looked for only where there are clicks.
    Raises:
        RateMismatch, ChannelMismatch: the two cannot be compared sample by sample.
    """
    check_pair(reference, render)
    return _compare_at(reference, render, frozenset(), options, depth=_DEEPEST, account=account)


def _compare_at(
    reference: Source,
    render: Source,
    skip: Found,
    options: CompareOptions = CompareOptions(),
    measuring: MeasureOptions = _AS_USUAL,
    *,
    depth: int = 0,
    account: bool = True,
) -> Comparison:
    """All measures of a pair in which changes of some kinds, one in the other so deep, are undone already."""
    turns = threading.Lock()

    def taken(side: Source) -> Source:
        held = in_memory(side)
        return held if isinstance(held, ArraySource) else TurnTaking(held, turns)

    # One of three may wait for parts of the work that it has given to the others.
    with ThreadPoolExecutor(3) as pool:
        reference, render = pool.map(taken, (reference, render))
        scans = [pool.submit(scan_file, side, measuring) for side in (reference, render)]
        delays = pool.submit(_find_delays, reference, render, options, pool)
        return _compared(
            reference, render, options, (scans[0].result(), scans[1].result()), delays, pool, (depth, skip), account
        )


_Delays = tuple[Delay, list[Delay]]


def _find_delays(reference: Source, render: Source, options: CompareOptions, pool: Executor) -> _Delays:
    """Begun before it is known whether all samples are finite; where they are not, nobody looks at what comes of it."""
    with np.errstate(all="ignore"):
        return find_delays(reference, render, options.max_delay, pool.map)


def _compared(
    reference: Source,
    render: Source,
    options: CompareOptions,
    scans: tuple[FileScan, FileScan],
    delays: Future[_Delays],
    pool: Executor,
    undone: tuple[int, Found],
    account: bool,
) -> Comparison:
    depth, skip = undone
    channels = reference.channels
    length = float(render.frames - reference.frames)
    readings = for_channels("length_difference", [length] * channels, length)
    if not (scans[0].finite and scans[1].finite):
        readings += fitness(scans[1])
        readings += refused(of_samples(), channels, NOT_FINITE, "not finite")
        return Comparison(readings, Alignment(), [not_finite(scans)], {}, scans)
    delay, each = delays.result()
    # Channels that stand in each other's place have no delay of their own, but their sum has.
    common = delay if delay.samples is not None else _of_the_sum(reference, render, options, delay)
    shift = 0 if common.samples is None else round(common.samples)
    lay = Aligner(render, reference.frames)
    aligned = lay.at(Alignment(shift))
    drift = pool.submit(find_drift, reference, render, delay.samples, delay.why, pool.map)
    if common.samples is None:
        if common.reason != "periodic":  # a line through delays that are known up to whole periods is none
            common, each = _drifting(common, each, drift.result().reading, reference.frames)
        delay = common
    # What the residual is taken under is known now unless it hangs on the gain.
    alignment = None if options.match_gain or options.match_polarity else alignment_for(options, common, None)
    bands = None if alignment is None else _bands(reference, lay.at(alignment), pool)
    whole, gaps, cross = _walk(reference, aligned, options.ceiling)
    fine = fine_sums(reference, lay, delay, whole)
    same = whole.differ == 0 and shift == 0 and length == 0.0
    readings += for_channels("identical", [float(same)] * channels, float(same))
    gains = find_gains(reference, render, fine, delay)
    gain = gains.factor
    upright, scale = upright_at_level(aligned, fine[0], gain)
    steps = pool.submit(find_clicks, reference, upright, scale)
    moved = 0.0 if common.reason == "periodic" else _drift_of(drift.result(), reference.frames)
    if moved and drift.result().middle is not None:
        lined_up = gains_under_drift(reference, render, drift.result())
        gain = lined_up.factor
        # Where the drift leaves no delay there is no gain at a delay either; the factor is needed all the same.
        gains = replace(gains, sums=lined_up.sums) if delay.samples is None else lined_up
        upright, scale = aligned, 1.0 / gain if gain else 1.0
        steps = pool.submit(find_clicks, reference, upright, scale)
    readings += delay_readings(common, each, reference.rate, gains.sums)
    readings += gains.readings
    late = [own.samples if own.samples is not None else float(shift) for own in each]
    readings += lead_in_excess(scans[0].integrity, scans[1].integrity, late, gaps)
    readings += fitness(scans[1])
    readings += channel_missing(scans[0].integrity, scans[1].integrity)
    readings += find_swap(reference, render, shift, cross, (whole.sums[:, 0], whole.sums[:, 2]))
    readings += gap_readings(gaps, channels)
    if alignment is None or bands is None:
        alignment = alignment_for(options, common, gain or gains.level)
        bands = _bands(reference, lay.at(alignment), pool)
    final = lay.at(alignment)
    curves: dict[str, Curve] = {}
    if whole.frames == 0:
        readings += refused(RESIDUAL, channels, "the alignment leaves no overlap")
        readings += refused(STEPS, channels, "the alignment leaves no overlap")
    else:
        used = whole if alignment == aligned.alignment else residual_of(reference, final, options.ceiling)
        note = left_out(reference, final, used.frames, common, options.align)
        readings += residual_readings(reference, used, note, below=options.ceiling is not None)
        curves["residual_bands"] = bands.result()
        curves["changed_regions"] = changed_curve(used, reference.rate)
    clicks = without_gaps(steps.result(), gaps, reference.rate)
    clicks = not_of_the_reference(clicks, reference, upright, scale)
    if any(clicks) and is_changed_all_along(reference, upright, scale):
        clicks = steeper(clicks, reference, upright, scale)
    middle = drift.result().middle if moved else common.samples
    known = ComparedFacts(readings, middle, common.reason, moved, gaps, clicks)
    as_it_is = pool.submit(power_left, reference, lay.at(Alignment())) if account and shift and whole.frames else None
    explained = explain(reference, lay, known, pool) if account or any(clicks) else Explained([])
    if depth < _DEEPEST:
        from kind_echo.core.comparison.further import explain_further  # slow to load, and not always needed

        again = partial(_compare_at, depth=depth + 1)
        explained = explain_further(reference, lay, known, explained, again, pool, skip)
    clicks = clicks if explained.clicks is None else explained.clicks
    readings += [drift.result().reading, *click_readings(clicks, reference.rate)]
    if account and whole.frames:
        raw = whole.sums[:, 3] / whole.frames if as_it_is is None else as_it_is.result()
        readings += _account(reference, lay, (whole, fine), (raw, shift), explained, gain)
    curves |= explained.curves
    curves["gaps"] = Curve(
        "s", "ms", [g.start / reference.rate for g in gaps], [1000 * g.length / reference.rate for g in gaps]
    )
    causes = explained.causes
    return Comparison(readings, alignment, causes, curves, scans, gaps, clicks, explained.is_deep)


def is_changed_all_along(reference: Source, aligned: AlignedSource, scale: float) -> bool:
    """Whether the two differ nearly everywhere, or a curve of output over input explains most of what a gain leaves.

    What steps in the reference then steps in the residual too.
    """
    for one in take_excerpts(reference, aligned, 0):
        sounds = np.abs(one.inner) > _SOUNDS * np.abs(one.inner).max(initial=0.0)
        if sounds.any():
            apart = np.median(np.abs(scale * one.y - one.inner)[sounds])
            if apart > _APART * float(np.median(np.abs(one.inner[sounds]))):
                return True
        own = float((one.inner**2).sum())
        gain = float((one.inner * one.y).sum()) / own if own > 0.0 else 1.0
        curve = fit_curve(one, one.inner, one.y)
        if curve is not None and curve.left < _BENT * one.power(one.y - gain * one.inner):
            return True
    return False


def _drift_of(drift: Drift, frames: int) -> float:
    """A drift in ppm that is more than its uncertainty, and that comes to something over the file; else 0."""
    value, spread = drift.reading.value, drift.reading.uncertainty or 0.0
    if value is None or abs(value) * 1e-6 * frames < NAMING.drift_samples:
        return 0.0
    return value if abs(value) > max(1.5 * spread, 0.05) else 0.0


def _of_the_sum(reference: Source, render: Source, options: CompareOptions, none: Delay) -> Delay:
    """The delay of all channels added up, where none was found channel by channel; else that none."""
    if reference.channels == 1:
        return none
    found, _ = find_delays(MonoSource(reference), MonoSource(render), options.max_delay)
    return found if found.samples is not None else none


def _drifting(delay: Delay, each: list[Delay], drift: Reading, frames: int) -> tuple[Delay, list[Delay]]:
    """Delays that could not be had; where they change over the file, for that reason."""
    if drift.value is None or abs(drift.value) * 1e-6 * frames < 1.0:
        return delay, each
    why = f"the delay changes over the file, by {number(drift.value, '+.1f')} ppm"
    none = Delay(None, why=why, reason="drifts")
    return none, [none if one.samples is None else one for one in each]


def _bands(reference: Source, aligned: AlignedSource, pool: Executor) -> Future[Curve]:
    """The residual in bands, begun."""
    return pool.submit(third_octaves, DifferenceSource(reference, aligned))


def _walk(reference: Source, aligned: AlignedSource, ceiling: float | None) -> tuple[Residual, list[Gap], Floats]:
    """One walk over the overlap: what is left, the gaps, and each channel of the reference times each of the render."""
    channels = reference.channels
    residual, gaps = residual_meter(reference, aligned, ceiling), GapFinder(channels, reference.rate)
    cross = np.zeros((channels, channels))
    for start, x, y in rows_of_pair(reference, aligned):
        residual.add(start, x, y)
        gaps.add(start, x, y)
        if channels > 1:
            cross += x @ y.T
    return residual.residual(), gaps.gaps(), cross


def readings_of_identical(source: Source) -> Comparison:
    """What follows for a pair from its being one and the same audio, without comparing it."""
    note = "identical audio"
    exact = {"length_difference": 0.0, "identical": 1.0, "delay": 0.0, "delay_time": 0.0, "delay_drift": 0.0,
             "polarity": 1.0, "gain": 0.0, "gain_in_phase": 0.0, "changed_samples": 0.0, "changed_share": 0.0,
             "changed_regions": 0.0, "longest_change": 0.0, "lead_in_excess": 0.0, "gaps": 0.0, "clicks": 0.0,
             "channel_swap": 0.0, "channel_missing": 0.0}  # fmt: skip
    readings = [
        replace(reading.noted(note), reason="identical")
        for key, value in exact.items()
        for reading in for_channels(key, [value] * source.channels, value)
        if reading.channel == "all" or not find_measure(key).common
    ]
    names = ["all", *(str(c + 1) for c in range(source.channels))]
    for key in ("residual_peak", "residual_rms", *STEPS):
        readings += [null(key, name) for name in names]
    readings += [perfect_null(name) for name in names]
    readings.append(null("residual_loudness", "all"))
    return Comparison(readings, Alignment(), [Cause("none")], is_deep=True)


def _account(
    reference: Source,
    lay: Aligner,
    found: tuple[Residual, tuple[Residual, float]],
    late: tuple[Floats, int],
    explained: Explained,
    gain: float | None,
) -> list[Reading]:
    whole, (fine, fraction) = found
    raw, shift = late
    at_once = whole.sums[:, 3] / whole.frames
    if gain is None or gain == 0.0:
        return complete([raw] + [at_once] * 4, None).readings()
    sign = math.copysign(1.0, gain)
    steps = [raw, *(_left(reference, lay, Alignment(shift, 0.0, scale), whole) for scale in (1.0, sign, 1.0 / gain))]
    steps.append(_left(reference, lay, Alignment(shift, fraction, 1.0 / gain), fine) if fraction else steps[-1])
    if min(float(step.mean()) for step in steps) <= _NOTHING_LEFT:
        return complete(steps, None).readings()
    return complete(steps, explained.filtered, explained.why_no_filter).readings()


def _left(reference: Source, lay: Aligner, alignment: Alignment, sums: Residual) -> Floats:
    """Mean square of scale·render − reference, by channel: from the sums, or by subtracting where these cancel out."""
    xx, xy, yy = sums.sums[:, 0], sums.sums[:, 1], sums.sums[:, 2]
    if alignment.scale == 1.0:
        return np.asarray(sums.sums[:, 3] / sums.frames)
    power = alignment.scale**2 * yy - 2 * alignment.scale * xy + xx
    if (power > 1e-9 * xx).all():
        return np.asarray(power / sums.frames)
    return power_left(reference, lay.at(alignment))


def alignment_for(options: CompareOptions, delay: Delay, factor: float | None) -> Alignment:
    """What the options take off of a delay, and of the signed factor of the render over the reference where known."""
    scale = 1.0
    if factor:
        gain = 1.0 / abs(factor) if options.match_gain else 1.0
        scale = gain * (-1.0 if options.match_polarity and factor < 0 else 1.0)
    if options.align == "none" or delay.samples is None:
        return Alignment(scale=scale)
    shift = round(delay.samples)
    return Alignment(shift, delay.samples - shift if options.align == "fraction" else 0.0, scale)
