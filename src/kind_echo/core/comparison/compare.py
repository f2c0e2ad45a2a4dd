"""A render against its reference: identity, delay, polarity, gain, what a null test leaves and what explains it."""

import threading
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial

import numpy as np

from kind_echo.core.audio.align import Aligner, Alignment, DifferenceSource
from kind_echo.core.audio.source import ArraySource, Source, TurnTaking, in_memory
from kind_echo.core.causes.explained import ComparedFacts, Explained
from kind_echo.core.causes.explanation import explain
from kind_echo.core.comparison.account import STEPS, account_of, power_left
from kind_echo.core.comparison.bands import third_octaves
from kind_echo.core.comparison.clicks import clicks_among
from kind_echo.core.comparison.lining_up import Delayed, LinedUp, Sides, begin_delays, choose_delay, line_up
from kind_echo.core.comparison.pair import USUAL, CompareOptions, Comparison, alignment_for, check_pair
from kind_echo.core.comparison.residual import MEASURES as RESIDUAL
from kind_echo.core.comparison.residual import changed_curve, residual_of, residual_readings
from kind_echo.core.comparison.rest import Found
from kind_echo.core.comparison.swapping import find_swap
from kind_echo.core.comparison.telling import delay_readings, fitness, left_out, not_finite, of_samples, refused
from kind_echo.core.levels.analysis import FileScan, MeasureOptions, scan_file
from kind_echo.core.levels.integrity import (
    NOT_FINITE,
    channel_missing,
    click_readings,
    gap_readings,
    lead_in_excess,
)
from kind_echo.core.registry.readings import Curve, Reading, for_channels

_DEEPEST = 3  # changes that are undone one in the other
_AS_USUAL = MeasureOptions()


def compare(
    reference: Source,
    render: Source,
    options: CompareOptions = USUAL,
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
    reference: Source, render: Source, options: CompareOptions = USUAL, *, account: bool = True
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


_Scans = tuple[FileScan, FileScan]


def _compare_at(
    reference: Source,
    render: Source,
    skip: Found,
    options: CompareOptions = USUAL,
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
        sides = Sides(reference, render, Aligner(render, reference.frames), pool)
        begun = [pool.submit(scan_file, side, measuring) for side in (reference, render)]
        delays = begin_delays(sides, options)
        scans = begun[0].result(), begun[1].result()
        if not (scans[0].finite and scans[1].finite):
            return _of_not_finite(sides, scans)
        delayed = choose_delay(sides, delays.result(), options)
        # What the residual is taken under is known now unless it depends on the gain.
        needs_gain = options.match_gain or options.match_polarity
        early = None if needs_gain else _begin_residual(sides, alignment_for(options, delayed.delay, None))
        lined_up = line_up(sides, delayed, options.ceiling)
        own = _readings_lined_up(sides, scans, delayed, lined_up)
        factor = lined_up.gain or lined_up.gains.level
        left = early or _begin_residual(sides, alignment_for(options, delayed.delay, factor))
        residual, curves = _of_residual(sides, delayed, lined_up, options, left)
        explained = _explain(sides, delayed, lined_up, [*own, *residual], (depth, skip), account=account)
    readings = [*own, *residual, delayed.drift.result().reading, *click_readings(explained.clicks, reference.rate)]
    return Comparison(
        [*readings, *explained.account], left.alignment, explained.found.causes,
        curves | explained.found.curves | {"gaps": _gap_curve(lined_up, reference.rate)}, scans, lined_up.gaps,
        explained.clicks, explained.found.is_deep,
    )  # fmt: skip


def _length(sides: Sides) -> list[Reading]:
    difference = float(sides.render.frames - sides.reference.frames)
    return for_channels("length_difference", [difference] * sides.reference.channels, difference)


def _of_not_finite(sides: Sides, scans: _Scans) -> Comparison:
    """Samples that are not finite cannot be compared."""
    refusals = refused(of_samples(), sides.reference.channels, NOT_FINITE, "not finite")
    return Comparison(
        [*_length(sides), *fitness(scans[1]), *refusals], Alignment(), [not_finite(scans)], {}, scans
    )  # fmt: skip


def _readings_lined_up(sides: Sides, scans: _Scans, delayed: Delayed, lined_up: LinedUp) -> list[Reading]:
    """All that is read of a pair before its residual is."""
    reference, whole, shift = sides.reference, lined_up.whole, lined_up.shift
    same = float(whole.differ == 0 and shift == 0 and sides.render.frames == reference.frames)
    return [
        *_length(sides),
        *for_channels("identical", [same] * reference.channels, same),
        *delay_readings(delayed.delay, delayed.each, reference.rate, lined_up.gains.sums),
        *lined_up.gains.readings,
        *lead_in_excess(scans[0].integrity, scans[1].integrity, delayed.late(), lined_up.gaps),
        *fitness(scans[1]),
        *channel_missing(scans[0].integrity, scans[1].integrity),
        *find_swap(reference, sides.render, shift, lined_up.cross, (whole.sums[:, 0], whole.sums[:, 2])),
        *gap_readings(lined_up.gaps, reference.channels),
    ]


@dataclass(frozen=True)
class _BegunResidual:
    """What the residual is taken under, and the residual in bands, begun."""

    alignment: Alignment
    bands: Future[Curve]


def _begin_residual(sides: Sides, alignment: Alignment) -> _BegunResidual:
    difference = DifferenceSource(sides.reference, sides.lay.at(alignment))
    return _BegunResidual(alignment, sides.pool.submit(third_octaves, difference))


def _of_residual(
    sides: Sides, delayed: Delayed, lined_up: LinedUp, options: CompareOptions, left: _BegunResidual
) -> tuple[list[Reading], dict[str, Curve]]:
    """The readings of the residual, its bands, and where it changed."""
    reference, whole = sides.reference, lined_up.whole
    if whole.frames == 0:
        why = "the alignment leaves no overlap"
        return [*refused(RESIDUAL, reference.channels, why), *refused(STEPS, reference.channels, why)], {}
    final = sides.lay.at(left.alignment)
    is_walked = left.alignment == Alignment(lined_up.shift)
    used = whole if is_walked else residual_of(reference, final, options.ceiling)
    note = left_out(reference, final, used.frames, delayed.delay, options.align)
    readings = residual_readings(reference, used, note, below=options.ceiling is not None)
    return readings, {
        "residual_bands": left.bands.result(), "changed_regions": changed_curve(used, reference.rate),
    }  # fmt: skip


@dataclass(frozen=True)
class _Explanation:
    """What explains the difference of a pair, the readings of its account, and the clicks of the render."""

    found: Explained
    account: list[Reading]
    clicks: list[list[int]]


def _explain(
    sides: Sides, delayed: Delayed, lined_up: LinedUp, readings: list[Reading], undone: tuple[int, Found], *,
    account: bool,
) -> _Explanation:  # fmt: skip
    reference, lay, pool, whole = sides.reference, sides.lay, sides.pool, lined_up.whole
    depth, skip = undone
    clicks = clicks_among(lined_up.steps.result(), lined_up.gaps, reference, lined_up.upright, lined_up.scale)
    known = ComparedFacts(
        readings, lined_up.middle, delayed.delay.reason, lined_up.moved, lined_up.gaps, clicks
    )  # fmt: skip
    account = account and whole.frames > 0
    as_it_is = pool.submit(power_left, reference, lay.at(Alignment())) if account and lined_up.shift else None
    found = explain(reference, lay, known, pool) if account or any(clicks) else Explained([])
    if depth < _DEEPEST:
        from kind_echo.core.comparison.further import explain_further  # slow to load, and not always needed

        again = partial(_compare_at, depth=depth + 1)
        found = explain_further(reference, lay, known, found, again, pool, skip)
    clicks = clicks if found.clicks is None else found.clicks
    if not account:
        return _Explanation(found, [], clicks)
    raw = whole.sums[:, 3] / whole.frames if as_it_is is None else as_it_is.result()
    return _Explanation(found, account_of(reference, lay, lined_up, np.asarray(raw), found), clicks)


def _gap_curve(lined_up: LinedUp, rate: int) -> Curve:
    """Where gaps begin in s, and how long they are in ms."""
    gaps = lined_up.gaps
    return Curve("s", "ms", [gap.start / rate for gap in gaps], [1000 * gap.length / rate for gap in gaps])
