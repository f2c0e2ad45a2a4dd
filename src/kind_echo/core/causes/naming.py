"""The last stage of an explanation: what was found, as causes. Each is undone before it is named."""

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from kind_echo.core.causes.amounts import found_amount, lossy_words
from kind_echo.core.causes.cause import Cause, CauseName
from kind_echo.core.causes.excerpts import Excerpt, best_left
from kind_echo.core.causes.fitting import Fitted
from kind_echo.core.causes.leftover import judge_leftover, word_length
from kind_echo.core.causes.lineup import LinedUp, Pair, crossed
from kind_echo.core.causes.models import Kind, Model, decibels, explain_channel, plain_gain
from kind_echo.core.causes.shapes import Shape
from kind_echo.core.causes.shares import fall, without_gain
from kind_echo.core.causes.thresholds import NAMING
from kind_echo.core.levels.integrity import Gap, click_readings, gap_readings
from kind_echo.core.registry.readings import Curve, value_of

_MOST_PLACES = 3  # of gaps or clicks that are told one by one
_KINDS: dict[Kind, CauseName] = {
    "filter": "filter", "curve": "non_linear", "clipping": "clipping", "motion": "level_control",
}  # fmt: skip


def channel_causes(pair: Pair, at: LinedUp) -> list[Cause]:
    """Channels that stand in each other's place, or are not there."""
    causes = []
    if pair.is_swapped:
        causes.append(Cause("channel_swap", takes_off=_taken_off(at.raw, crossed(at.raw), pair.heard)))
    missing = [Cause("channel_missing", str(c + 1), why=f"channel {c + 1} is silent") for c in pair.missing]
    return causes + missing


def delay_causes(pair: Pair, at: LinedUp) -> list[Cause]:
    """A delay and a drift hold where, at the best gain, less is left once they are off."""
    known, heard, signs = pair.known, pair.heard, at.signs
    before = crossed(at.raw) if pair.is_swapped else at.raw
    powers = [sum(best_left(side[c]) for c in heard) for side in (before, at.lined)]
    if fall(powers[0], powers[1]) < NAMING.worth_db:
        return []
    # What the delay takes off is told of the sides as they are, but for their polarity.
    plain = [sum(side[c].power(signs[c] * side[c].y - side[c].inner) for c in heard) for side in (before, at.lined)]
    off = max(0.0, fall(plain[0], plain[1]))
    causes, drifted = [], abs(known.drift) * 1e-6 * pair.reference.frames
    if drifted > NAMING.drift_samples:
        causes.append(Cause("drift", amount=known.drift, unit="ppm", takes_off=off))
        if abs(known.delay or 0.0) < drifted + 2.0:
            return causes
    if known.delay is not None and abs(known.delay) > NAMING.least_delay_samples:
        causes.append(Cause("delay", amount=known.delay, unit="samples", takes_off=off))
    return causes


def rounding_alone(pair: Pair, at: LinedUp) -> list[Cause] | None:
    """Shorter words, where a pair that is lined up differs by no more than rounding to them; else None."""
    bits = _words(pair)
    if bits is None:
        return None
    left = sum(one.power(one.y - one.inner) for one in at.lined) / max(1, len(at.lined))
    if not 0.0 < left <= _rounding(bits, {}):
        return None
    return [Cause("quantisation", amount=float(bits), unit="bit", why=f"words of {bits} bits")]


def signs_of(found: Fitted) -> list[float]:
    """−1 for a channel that is inverted; a filter that turns the phase by half a turn somewhere inverts nothing."""
    signs = found.at.signs
    for c, model in found.models.items():
        shape = found.shapes[c]
        if model.parts == ("filter",) and shape is not None and (shape.is_upright or shape.turns_most):
            signs[c] = 1.0
    return signs


def causes_at_level(found: Fitted, heard: Sequence[int]) -> list[Cause]:
    """Polarity, gain and offset: what a level and its sign tell."""
    signs = signs_of(found)
    return [*polarity_causes(found, heard, signs), *gain_causes(found, signs), *offset_causes(found)]


def polarity_causes(found: Fitted, heard: Sequence[int], signs: Sequence[float]) -> list[Cause]:
    """Channels that are inverted; all together where all are."""
    causes, lined = [], found.at.lined
    for c in _shared([c for c in heard if signs[c] < 0], heard):
        mine = heard if c is None else [c]
        powers = [sum(lined[k].power(s * lined[k].y - lined[k].inner) for k in mine) for s in (1.0, -1.0)]
        off = fall(powers[0], powers[1])
        if off >= NAMING.worth_db:
            causes.append(Cause("polarity", _name(c), takes_off=off))
    return causes


def gain_causes(found: Fitted, signs: Sequence[float]) -> list[Cause]:
    """The gain of all channels, and of those that differ from it."""
    models, level = found.models, found.level
    if any(m.motion is not None for m in models.values()):
        return []  # what of a gain that moves is a gain that does not, nothing tells
    factors = {c: abs(plain_gain(models[c], found.shapes[c])) for c in models}
    gains = {c: 20 * math.log10(max(g, 1e-9)) for c, g in factors.items()}
    together = sorted(gains.values())
    bent = any(set(m.parts) & {"curve", "clipping"} for m in models.values())
    share = max(m.left / max(NAMING.least_power, level[c].power(level[c].y)) for c, m in models.items())
    least = max(NAMING.bent_apart_db if bent else NAMING.channels_apart_db, 2.0 * math.sqrt(share))
    common, apart = float(np.mean(together)), []
    if len(together) > 1 and together[-1] - together[0] > least:
        if bent:
            return []  # soft parts that gains are told from differ by channel
        # What most channels share is the gain of all; of two, that of the one that changed less.
        common = min(gains.values(), key=abs) if len(gains) == 2 else float(np.median(together))
        apart = [c for c, value in gains.items() if abs(value - common) > least]
    causes = []
    for c in apart:
        own = level[c]
        off = fall(own.power(signs[c] * own.y - own.inner), own.power(own.y / (factors[c] * signs[c]) - own.inner))
        if off >= NAMING.worth_db:
            causes.append(Cause("channel_gain", str(c + 1), gains[c], "dB", off))
    return causes + _common_gain(found, signs, common, [c for c in models if c not in apart])


def _common_gain(found: Fitted, signs: Sequence[float], common: float, rest: list[int]) -> list[Cause]:
    if abs(common) < NAMING.least_gain_db or not rest:
        return []
    level, factor = found.level, 10 ** (common / 20)
    before = sum(level[c].power(signs[c] * level[c].y - level[c].inner) for c in rest)
    after = sum(level[c].power(signs[c] * level[c].y / factor - level[c].inner) for c in rest)
    off = fall(before, after)
    told = off
    if abs(common) >= NAMING.filters_gain_db:
        told = max(off, without_gain(level, found.models, rest, factor))
    if told < NAMING.worth_db:
        return []
    return [Cause("gain", amount=common, unit="dB", takes_off=off if off > 0.0 else None)]


def offset_causes(found: Fitted) -> list[Cause]:
    """A mean that nothing else explains."""
    level, offsets = found.level, {}
    for c, model in found.models.items():
        offset = found.offsets[c]
        if model.curve is not None:
            offset += float(model.curve.of(np.zeros(1))[0])
        off = fall(model.left + offset**2, model.left)
        if abs(offset) < 1e-6 or off < NAMING.worth_db:
            continue
        if model.parts:
            # What filters, cuts or moves the gain may have a mean of its own.
            whole = replace(level[c], y=level[c].y + found.offsets[c])
            again = explain_channel(whole, max(NAMING.floor, model.left))
            if set(again.parts) == set(model.parts) and again.left < model.left + 0.2 * offset**2:
                continue
        offsets[c] = offset, off
    causes = []
    for channel in _shared(list(offsets), list(found.models)):
        amount, off = max(offsets.values()) if channel is None else offsets[channel]
        causes.append(Cause("dc", _name(channel), amount, "FS", off))
    return causes


def event_causes(pair: Pair, found: Fitted, clicks: list[list[int]], gaps: list[Gap]) -> list[Cause]:
    """Gaps and clicks, by how much less there is without them."""
    lined, masked = found.at.lined, found.masked
    inside = [fall(best_left(lined[c]), best_left(replace(masked[c], y=lined[c].y))) for c in pair.heard]
    off = max(inside, default=0.0)
    told = off if off >= NAMING.told_events_db else None
    if pair.is_swapped:
        # Where one channel sounds and the other does not, swapped channels have no gap.
        gaps = [gap for gap in gaps if gap.channel == 0 and _is_in_all(pair, gap)]
    causes, missing = [], pair.missing
    if any(gap.channel not in missing for gap in gaps):
        count = value_of(gap_readings(gaps, pair.channels), "gaps")
        told_gaps = sorted({(gap.start, gap.length) for gap in gaps if gap.channel not in missing})
        causes.append(_event("gap", count, told, told_gaps, pair.reference.rate))
    if any(clicks) and not pair.is_swapped:
        count = value_of(click_readings(clicks, pair.reference.rate), "clicks")
        frames = sorted({frame for steps in clicks for frame in steps})
        causes.append(_event("click", count, told, [(frame, 0) for frame in frames], pair.reference.rate))
    return causes


def _event(
    name: CauseName, count: float | None, told: float | None, places: Sequence[tuple[int, int]], rate: int
) -> Cause:
    """Gaps or clicks, with where they are: first frames and lengths, in order."""
    shown = [f"{f'{1000 * length / rate:.1f} ms ' if length else ''}at {start / rate:.3f} s"
             for start, length in places[:_MOST_PLACES]]  # fmt: skip
    more = len(places) - len(shown)
    why = ", ".join(shown) + (f" and {more} more" if more else "")
    start, length = places[0] if places else (None, 0)
    return Cause(name, amount=count, takes_off=told, why=why or None, start=None if start is None else start / rate,
                 length=length / rate if length else None)  # fmt: skip


def model_causes(found: Fitted, *, drifts: bool) -> tuple[list[Cause], dict[str, Curve]]:
    """Filters, curves, clipping and moving gains, with the curves that show them."""
    models, level = found.models, found.level
    causes: list[Cause] = []
    curves: dict[str, Curve] = {}
    for kind, name in _KINDS.items():
        having = [
            c
            for c, model in models.items()
            if kind in model.parts
            and not (kind == "filter" and (found.tones[c] or _is_rest(found.shapes[c], model.parts, drifts=drifts)))
        ]
        for channel in _shared(having, list(models)):
            mine = having if channel is None else [channel]
            lead = max(mine, key=lambda c: models[c].error.size * level[c].power(level[c].y))
            off = max(fall(before, after) for c in mine for k, before, after in models[c].steps if k == kind)
            ending = "" if channel is None else f" {channel + 1}"
            amount, unit, why, shown = found_amount(kind, models[lead], found.shapes[lead], ending)
            curves |= shown
            causes.append(Cause(name, _name(channel), amount, unit, off, why))
    return causes, curves


def with_leftover(causes: list[Cause], pair: Pair, found: Fitted, base: list[float]) -> list[Cause]:
    """The causes with what is left: the rounding of words, noise of its own, a codec, or what nothing explains.

    Args:
        base: power of the difference as rendered, by channel.
    """
    heard, models = pair.heard, found.models
    left, raw = found.left, sum(base[c] for c in heard)
    bits = _words(pair)
    if left <= len(heard) * NAMING.floor:
        if causes and (bits is None or left / len(heard) < NAMING.rounded * _rounding(bits, models)):
            return causes
        if bits is None and differs_elsewhere(pair, causes):
            return [Cause("unexplained", why="what differs lies outside of the parts that were looked at closely")]
        if bits is None:
            return [Cause("unexplained", why="what differs lies under −140 dBFS")]
    if bits is not None and left / len(heard) <= _rounding(bits, models):
        return [*causes, Cause("quantisation", amount=float(bits), unit="bit", why=f"words of {bits} bits")]
    lead = max(heard, key=lambda c: models[c].left)
    judged = judge_leftover(found.level[lead], models[lead].error)
    if any(_is_own(model) for model in models.values()):
        return causes
    level = round(decibels(left / len(heard)), 1)
    if judged.kind == "noise":
        return [*causes, Cause("noise", amount=level, unit="dBFS", why="what is left does not follow the signal")]
    if judged.kind == "lossy" and _is_coded(models[lead]):
        kept = [cause for cause in causes if cause.cause != "filter"]
        edge = Cause("lossy", amount=judged.edge, unit="Hz" if judged.edge else "", why=lossy_words(judged))
        return [*kept, edge]
    well = NAMING.well_explained_db
    if fall(raw, left) < well and all((cause.takes_off or 0.0) < well for cause in causes):
        why = "what is left is explained by nothing that is known"
        if judged.kind == "follows":
            why = "what is left follows the signal, and nothing that is known predicts it"
        return [*causes, Cause("unexplained", amount=level, unit="dBFS", why=why)]
    return causes


def differs_elsewhere(pair: Pair, causes: list[Cause]) -> bool:
    """Whether a pair of which nothing was told differs all the same, outside of its excerpts."""
    if any(cause.cause not in ("unexplained", "length") for cause in causes):
        return False
    peak = value_of(pair.known.readings, "residual_peak")
    return peak is not None and peak > NAMING.silent_dbfs


def without_doubtful(causes: list[Cause]) -> list[Cause]:
    """The causes without those that what nothing explains may be as well.

    Steps that take nothing off lie in whatever follows the signal; a filter or a curve that takes little off is the
    mean of what changes with time; beside a gain that follows the level, a filter is that gain in a band.
    """
    said = {cause.cause for cause in causes}
    if "unexplained" not in said:
        return causes
    doubtful = {"filter"} if "level_control" in said else set[str]()

    def is_sure(cause: Cause) -> bool:
        if cause.cause in ("filter", "non_linear", "clipping"):
            return cause.cause not in doubtful and (cause.takes_off or 0.0) >= NAMING.doubtful_db
        return cause.cause != "click" or cause.takes_off is not None

    return [cause for cause in causes if is_sure(cause)]


def _rounding(bits: int, models: dict[int, Model]) -> float:
    """Power that the rounding to words leaves at the most, at the reference's level."""
    gain = max((abs(plain_gain(model, None)) for model in models.values()), default=1.0)
    return float((0.8 * 2.0 ** (1 - bits)) ** 2 * max(1.0, 1.0 / gain**2))


def _is_own(model: Model) -> bool:
    """Whether what a model leaves is how well it was found itself."""
    return any(
        before > model.left * (NAMING.curves_own if kind in ("curve", "motion") else NAMING.filters_own)
        for kind, before, _ in model.steps
    )


def _is_coded(model: Model) -> bool:
    """A codec is told where nothing else explains much: no curve, no moving gain, no filter but its own edge."""
    if {"curve", "clipping", "motion"} & set(model.parts):
        return False
    return sum(fall(before, after) for _, before, after in model.steps) < NAMING.codec_edge_db


def _words(pair: Pair) -> int | None:
    """Bits of the render's words, where the reference has finer ones."""
    render, reference = pair.lay.render, pair.reference
    frames = min(reference.frames, render.frames, 1 << 16)
    middle = (min(reference.frames, render.frames) - frames) // 2
    own = word_length(render.read(middle, middle + frames))
    other = word_length(reference.read(middle, middle + frames))
    return own if own is not None and (other is None or other > own) else None


def _is_rest(shape: Shape | None, parts: Sequence[Kind], *, drifts: bool) -> bool:
    """Whether a filter changes nothing by itself: it is what a drift, or a curve that was found, leaves."""
    least = NAMING.no_filter_db if len(parts) > 1 else NAMING.least_filter_db
    if shape is not None and abs(shape.greatest) < least:
        return drifts or float(np.abs(shape.phase).max()) < NAMING.no_filter_degrees
    return drifts and (shape is None or abs(shape.greatest) < 1.0)


def _is_in_all(pair: Pair, gap: Gap) -> bool:
    """Whether every channel of the render has a gap at one time."""
    meeting = {g.channel for g in pair.known.gaps
               if g.start < gap.start + gap.length and gap.start < g.start + g.length}  # fmt: skip
    return len(meeting) == pair.channels


def _taken_off(before: list[Excerpt], after: list[Excerpt], heard: Sequence[int]) -> float:
    powers = [sum(side[c].power(side[c].y - side[c].inner) for c in heard) for side in (before, after)]
    return fall(powers[0], powers[1])


def _shared(which: Sequence[int], heard: Sequence[int]) -> list[int | None]:
    """None for all channels together where all have it, else each that has."""
    return [None] if which and len(which) == len(heard) else list(which)


def _name(channel: int | None) -> str:
    return "all" if channel is None else str(channel + 1)
