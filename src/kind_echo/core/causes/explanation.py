"""Which causes explain a difference: each is undone, or predicted where it was not fitted, before it is named."""

import math
from collections.abc import Sequence
from concurrent.futures import Executor
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import Aligner, Alignment
from kind_echo.core.audio.source import Source
from kind_echo.core.audio.warping import WarpedSource
from kind_echo.core.causes.amounts import found_amount, lossy_words
from kind_echo.core.causes.cause import Cause, CauseName
from kind_echo.core.causes.events import clicks_left, gaps_left
from kind_echo.core.causes.excerpts import Excerpt, best_gain, best_left, main_offset, take_excerpts
from kind_echo.core.causes.explained import ComparedFacts, Explained
from kind_echo.core.causes.filtering import REACH, fit_filter
from kind_echo.core.causes.leftover import judge_leftover, word_length
from kind_echo.core.causes.models import Kind, Model, decibels, explain_channel, plain_gain
from kind_echo.core.causes.plain import length_cause, plain_causes
from kind_echo.core.causes.shapes import Shape, is_steady_tone, shape_of
from kind_echo.core.causes.shares import by_share, fall, without_gain
from kind_echo.core.levels.integrity import Gap, click_readings, gap_readings
from kind_echo.core.registry.readings import Curve, value_of

Floats = NDArray[np.float64]
Shapes = dict[int, Shape | None]

_WORTH_DB = 1.0
_FLOOR = 0.5e-14  # mean square, −140 dBFS: what is under it need not be explained
_LEAST_GAIN = 0.005  # dB
_CHANNELS_APART = 0.02  # dB, by which the gains of channels differ
_NO_DECIBELS, _NO_DEGREES = 0.15, 2.0  # within which a filter beside a curve changes nothing
_FILTERS_GAIN = 0.25  # dB, twice the width of the level part of a filter, from which that is a gain
_BENT_APART = 0.1  # dB, the same where a curve or a moving gain stands beside them
_WELL_EXPLAINED = 20.0  # dB off what there was, after which what is left is how well the causes are known
_FILTERS_OWN, _CURVES_OWN = 1e5, 10**3.8  # times what is left, that a model has explained: then it is the model's own
_CODECS_EDGE = 8.0  # dB, that the filter of a codec takes off
_ALL_PASS_SECONDS = 0.001  # a delay longer than that is none of an all-pass
_AS_MUCH, _ENOUGH = 2.0, 40.0  # times what is left beside a delay, or dB off, at which an all-pass explains it all
_FADED = 0.5  # of its level, under which a channel has part in the gap of another
_TURNS = 10.0  # degrees, under which a filter beside a delay is no all-pass
_NOTHING = 1e-20
_KINDS: dict[Kind, CauseName] = {
    "filter": "filter", "curve": "non_linear", "clipping": "clipping", "motion": "level_control",
}  # fmt: skip


def explain(reference: Source, lay: Aligner, known: ComparedFacts, pool: Executor) -> Explained:
    """The causes of a difference, those that explain most first."""
    plain = plain_causes(known)
    if plain is not None:
        return Explained(plain)
    return _Explanation(reference, lay, known, pool).found()


class _Explanation:
    """The work on one pair; steps that hold are undone before the next is looked at."""

    def __init__(self, reference: Source, lay: Aligner, known: ComparedFacts, pool: Executor) -> None:
        self._reference, self._lay, self._known, self._pool = reference, lay, known, pool
        self._causes: list[Cause] = []
        self._lined = lay.at(Alignment())  # as the models are fitted to it
        self._curves: dict[str, Curve] = {}
        self._channels = reference.channels

    def found(self) -> Explained:
        known = self._known
        missing = self._flags("channel_missing")
        if len(missing) == self._channels:
            return Explained([Cause("silent", why="the render is silent"), *length_cause(known)])
        swapped = len(self._flags("channel_swap")) == 2 == self._channels
        if known.delay is None and not known.drift and not swapped:
            return Explained([self._no_delay(), *length_cause(known)])
        whole = self._excerpts(swapped=swapped)
        if not whole:
            return Explained([Cause("unexplained", why="the alignment leaves no overlap")])
        heard = [c for c in range(self._channels) if c not in missing]
        raw, lined = whole
        self._base = [max(_NOTHING, one.power(one.y - one.inner)) for one in raw]
        if swapped:
            self._add(Cause("channel_swap", takes_off=self._taken_off(raw, self._straight(raw), heard)))
        for c in missing:
            self._add(Cause("channel_missing", str(c + 1), why=f"channel {c + 1} is silent"))
        signs = [_sign(lined[c]) for c in range(self._channels)]
        self._delay(raw, lined, heard, signs)
        masked = [self._masked(one) for one in lined]
        offsets = [main_offset(one) for one in masked]
        level = [replace(one, y=one.y - offset) for one, offset in zip(masked, offsets, strict=True)]
        floors = [max(_FLOOR, 1e-13 * one.power(one.y)) for one in level]
        by_channel = self._fitted(level, floors, heard)
        fraction = (known.delay or 0.0) - round(known.delay or 0.0)
        if abs(fraction) > 1e-3 and not known.drift and any(m.filter is not None for m in by_channel.values()):
            # A part of a sample is a filter too, and one filter is told more surely than two in a row.
            level, by_channel = self._by_whole_samples(level, by_channel, floors, heard, swapped=swapped)
        self._second_offsets(level, offsets, by_channel, floors)
        tones = {c: is_steady_tone(level[c]) for c in heard}
        shapes = _shapes(level, by_channel, tones)
        if 0.0 < abs(known.delay or 0.0) < _ALL_PASS_SECONDS * self._reference.rate and _are_all_pass(
            by_channel, shapes
        ):
            undelayed = self._without_delay(by_channel, floors, heard, tones, swapped=swapped)
            if undelayed is not None:
                lined, masked, offsets, level, by_channel, shapes = undelayed
                signs = [_sign(lined[c]) for c in range(self._channels)]
                self._causes = [cause for cause in self._causes if cause.cause != "delay"]
        # A filter that turns the phase by half a turn somewhere is no change of polarity.
        for c, model in by_channel.items():
            shape = shapes[c]
            if model.parts == ("filter",) and shape is not None and shape.is_upright:
                signs[c] = 1.0
        self._polarity(lined, heard, signs)
        self._gains(level, by_channel, shapes, signs)
        self._offset(level, by_channel, offsets)
        clicks = clicks_left(self._reference, self._lined, known.clicks, by_channel, offsets)
        self._events(lined, masked, heard, clicks, gaps_left(self._reference, known.gaps, by_channel))
        self._models(level, by_channel, shapes, tones)
        self._leftover(lined, level, by_channel, heard)
        filtered, why = self._filtered(level, by_channel, tones)
        causes = by_share(self._causes)
        causes += length_cause(known)
        if not causes:
            causes = [Cause("unexplained", why="nothing that is known explains it")]
        return Explained(causes, filtered, why, self._curves, clicks)

    def _fitted(self, level: list[Excerpt], floors: list[float], heard: list[int]) -> dict[int, Model]:
        models = self._pool.map(explain_channel, [level[c] for c in heard], [floors[c] for c in heard])
        return dict(zip(heard, models, strict=True))

    def _second_offsets(
        self, level: list[Excerpt], offsets: list[float], models: dict[int, Model], floors: list[float]
    ) -> None:
        """An offset that shows once the rest is explained is taken off as well, and the rest explained anew."""
        for c, model in models.items():
            total = float(level[c].weight.sum())
            mean = float((model.error * level[c].weight).sum()) / total if total else 0.0
            if mean**2 < 0.2 * model.left or abs(mean) < 1e-6:
                continue
            without = replace(level[c], y=level[c].y - mean)
            again = explain_channel(without, floors[c])
            if fall(model.left, again.left) >= _WORTH_DB:
                level[c], models[c], offsets[c] = without, again, offsets[c] + mean

    def _by_whole_samples(
        self, level: list[Excerpt], models: dict[int, Model], floors: list[float], heard: list[int], *, swapped: bool
    ) -> tuple[list[Excerpt], dict[int, Model]]:
        """The models with whole samples of the delay off alone, where they leave less."""
        before = self._lined
        whole = self._excerpts(swapped=swapped, fine=False)
        if whole is None:
            return level, models
        masked = [self._masked(one) for one in whole[1]]
        again = [replace(one, y=one.y - main_offset(one)) for one in masked]
        found = self._fitted(again, floors, heard)
        if sum(m.left for m in found.values()) < sum(m.left for m in models.values()):
            return again, found
        self._lined = before
        return level, models

    def _without_delay(
        self, models: dict[int, Model], floors: list[float], heard: list[int], tones: dict[int, bool], *, swapped: bool
    ) -> tuple[list[Excerpt], list[Excerpt], list[float], list[Excerpt], dict[int, Model], Shapes] | None:
        """The pair and its models with no delay off, where an all-pass alone explains as much as it does beside one.

        At the frequencies that a sound is strong in, the phase of an all-pass is often that of a delay.
        """
        delayed = self._lined
        whole = self._excerpts(swapped=swapped, delay=0.0)
        if whole is None:
            return None
        lined = whole[1]
        masked = [self._masked(one) for one in lined]
        offsets = [main_offset(one) for one in masked]
        level = [replace(one, y=one.y - offset) for one, offset in zip(masked, offsets, strict=True)]
        found = self._fitted(level, floors, heard)
        shapes = _shapes(level, found, tones)
        left, before = (sum(m.left for m in side.values()) for side in (found, models))
        raw = sum(self._base[c] for c in heard)
        enough = left <= _AS_MUCH * before or fall(raw, left) >= _ENOUGH
        if enough and _are_all_pass(found, shapes):
            return lined, masked, offsets, level, found, shapes
        self._lined = delayed
        return None

    def _add(self, cause: Cause) -> None:
        self._causes.append(cause)

    def _flags(self, measure: str) -> list[int]:
        return [c for c in range(self._channels) if value_of(self._known.readings, measure, str(c + 1)) == 1.0]

    def _no_delay(self) -> Cause:
        if self._known.no_delay == "periodic":
            why = "one steady sound cannot tell: the signal is periodic: the delay is known up to whole periods only"
            return Cause("unexplained", why=why)
        return Cause("unrelated", why="nothing in the render correlates with the reference")

    def _excerpts(
        self, *, swapped: bool, fine: bool = True, delay: float | None = None
    ) -> tuple[list[Excerpt], list[Excerpt]] | None:
        """The pair as rendered, and lined up by delay and drift; the same stretches."""
        known, reference = self._known, self._reference
        delay = (known.delay or 0.0) if delay is None else delay
        whole = round(delay)
        fraction = delay - whole if fine and abs(delay - whole) > 1e-3 else 0.0
        lined = self._lay.at(Alignment(whole, 0.0 if known.drift else fraction))
        if known.drift:
            lined = replace(lined, render=WarpedSource(self._lay.render, delay, known.drift, reference.frames),
                            alignment=Alignment(), advanced=None)  # fmt: skip
        self._lined = lined
        after = take_excerpts(reference, lined, REACH)
        if not after:
            return None
        starts, size = after[0].starts, after[0].y.shape[1]
        untouched = self._lay.at(Alignment())
        before = []
        for c in range(self._channels):
            y = np.stack([_read(untouched, s, s + size)[:, c] for s in starts])
            before.append(replace(after[c], y=y))
        if swapped:
            after = [replace(one, y=other.y) for one, other in zip(after, after[::-1], strict=True)]
        return before, after

    def _straight(self, raw: list[Excerpt]) -> list[Excerpt]:
        return [replace(one, y=other.y) for one, other in zip(raw, raw[::-1], strict=True)]

    def _taken_off(self, before: list[Excerpt], after: list[Excerpt], heard: Sequence[int]) -> float:
        powers = [sum(side[c].power(side[c].y - side[c].inner) for c in heard) for side in (before, after)]
        return fall(powers[0], powers[1])

    def _delay(self, raw: list[Excerpt], lined: list[Excerpt], heard: Sequence[int], signs: Sequence[float]) -> None:
        """A delay and a drift hold where, at the best gain, less is left once they are off."""
        known = self._known
        swapped = any(cause.cause == "channel_swap" for cause in self._causes)
        before = self._straight(raw) if swapped else raw
        powers = [sum(best_left(side[c]) for c in heard) for side in (before, lined)]
        if fall(powers[0], powers[1]) < _WORTH_DB:
            return
        # What the delay takes off is told of the sides as they are, but for their polarity.
        plain = [sum(side[c].power(signs[c] * side[c].y - side[c].inner) for c in heard) for side in (before, lined)]
        off = max(0.0, fall(plain[0], plain[1]))
        if known.drift and abs(known.drift) * 1e-6 * self._reference.frames > 0.05:
            self._add(Cause("drift", amount=known.drift, unit="ppm", takes_off=off))
            if abs(known.delay or 0.0) < abs(known.drift) * 1e-6 * self._reference.frames + 2.0:
                return
        if known.delay is not None and abs(known.delay) > 5e-4:
            self._add(Cause("delay", amount=known.delay, unit="samples", takes_off=off))

    def _masked(self, one: Excerpt) -> Excerpt:
        """An excerpt with gaps and clicks left out: they count for nothing, and models see what was to come there."""
        weight, spoilt = one.weight.copy(), False
        reach = max(8, round(0.002 * one.rate))
        # What spoils one channel may spoil another a little less than is counted.
        gaps = [(g.start, g.start + g.length) for g in self._known.gaps]
        clicks = [(f - reach, f + reach) for steps in self._known.clicks for f in steps]
        level = abs(best_gain(one))
        for row, start in enumerate(one.starts):
            for places, fades in ((gaps, True), (clicks, False)):
                for a, b in places:
                    lo, hi = max(0, a - 4 - start), min(weight.shape[1], b + 4 - start)
                    if hi <= lo or (fades and not _is_faded(one, level, row, slice(lo, hi))):
                        continue
                    weight[row, lo:hi] = 0.0
                    spoilt = True
        if not spoilt:
            return one
        good = replace(one, weight=weight)
        gain = best_gain(good)
        return replace(good, y=np.where(weight > 0, one.y, gain * one.inner))

    def _polarity(self, lined: list[Excerpt], heard: Sequence[int], signs: Sequence[float]) -> None:
        turned = [c for c in heard if signs[c] < 0]
        for c in self._shared(turned, heard):
            mine = heard if c is None else [c]
            powers = [sum(lined[k].power(s * lined[k].y - lined[k].inner) for k in mine) for s in (1.0, -1.0)]
            off = fall(powers[0], powers[1])
            if off >= _WORTH_DB:
                self._add(Cause("polarity", _name(c), takes_off=off))

    def _shared(self, which: Sequence[int], heard: Sequence[int]) -> list[int | None]:
        """None for all channels together where all have it, else each that has."""
        return [None] if which and len(which) == len(heard) else list(which)

    def _gains(self, level: list[Excerpt], models: dict[int, Model], shapes: Shapes, signs: Sequence[float]) -> None:
        if any(m.motion is not None for m in models.values()):
            return  # what of a gain that moves is a gain that does not, nothing tells
        gains = {c: abs(plain_gain(models[c], shapes[c])) for c in models}
        found = {c: 20 * math.log10(max(g, 1e-9)) for c, g in gains.items()}
        together = sorted(found.values())
        bent = any(set(m.parts) & {"curve", "clipping"} for m in models.values())
        share = max(m.left / max(_NOTHING, level[c].power(level[c].y)) for c, m in models.items())
        least = max(_BENT_APART if bent else _CHANNELS_APART, 2.0 * math.sqrt(share))
        if len(together) > 1 and together[-1] - together[0] > least:
            # What most channels share is the gain of all; of two, that of the one that changed less.
            common = min(found.values(), key=abs) if len(found) == 2 else float(np.median(together))
            apart = [c for c, value in found.items() if abs(value - common) > least]
            if bent:
                return  # soft parts that gains are told from differ by channel
        else:
            common, apart = float(np.mean(together)), []
        for c in apart:
            own = level[c]
            off = fall(own.power(signs[c] * own.y - own.inner), own.power(own.y / (gains[c] * signs[c]) - own.inner))
            if off >= _WORTH_DB:
                self._add(Cause("channel_gain", str(c + 1), found[c], "dB", off))
        rest = [c for c in models if c not in apart]
        if abs(common) < _LEAST_GAIN or not rest:
            return
        factor = 10 ** (common / 20)
        before = sum(level[c].power(signs[c] * level[c].y - level[c].inner) for c in rest)
        after = sum(level[c].power(signs[c] * level[c].y / factor - level[c].inner) for c in rest)
        off = fall(before, after)
        told = off if abs(common) < _FILTERS_GAIN else max(off, without_gain(level, models, rest, factor))
        if told >= _WORTH_DB:
            self._add(Cause("gain", amount=common, unit="dB", takes_off=off if off > 0.0 else None))

    def _offset(self, level: list[Excerpt], models: dict[int, Model], offsets: Sequence[float]) -> None:
        found: dict[int, tuple[float, float]] = {}
        for c, model in models.items():
            offset = offsets[c]
            if model.curve is not None:
                offset += float(model.curve.of(np.zeros(1))[0])
            off = fall(model.left + offset**2, model.left)
            if abs(offset) < 1e-6 or off < _WORTH_DB:
                continue
            if model.parts:
                # What filters, cuts or moves the gain may have a mean of its own.
                again = explain_channel(replace(level[c], y=level[c].y + offsets[c]), max(_FLOOR, model.left))
                if set(again.parts) == set(model.parts) and again.left < model.left + 0.2 * offset**2:
                    continue
            found[c] = offset, off
        for channel in self._shared(list(found), list(models)):
            amount, off = max(found.values()) if channel is None else found[channel]
            self._add(Cause("dc", _name(channel), amount, "FS", off))

    def _events(
        self,
        lined: list[Excerpt],
        masked: list[Excerpt],
        heard: Sequence[int],
        clicks: list[list[int]],
        gaps: list[Gap],
    ) -> None:
        inside = [fall(best_left(lined[c]), best_left(replace(masked[c], y=lined[c].y))) for c in heard]
        off = max(inside, default=0.0)
        missing = self._flags("channel_missing")
        swapped = any(cause.cause == "channel_swap" for cause in self._causes)
        if swapped:
            # Where one channel sounds and the other does not, swapped channels have no gap.
            gaps = [gap for gap in gaps if gap.channel == 0 and self._is_in_all(gap)]
        if any(gap.channel not in missing for gap in gaps):
            count = value_of(gap_readings(gaps, self._channels), "gaps")
            self._add(Cause("gap", amount=count, unit="", takes_off=off if off >= 0.1 else None))
        if any(clicks) and not swapped:
            count = value_of(click_readings(clicks, self._reference.rate), "clicks")
            self._add(Cause("click", amount=count, unit="", takes_off=off if off >= 0.1 else None))

    def _is_in_all(self, gap: Gap) -> bool:
        """Whether every channel of the render has a gap at one time."""
        meeting = {g.channel for g in self._known.gaps
                   if g.start < gap.start + gap.length and gap.start < g.start + g.length}  # fmt: skip
        return len(meeting) == self._channels

    def _models(self, level: list[Excerpt], models: dict[int, Model], shapes: Shapes, tones: dict[int, bool]) -> None:
        heard = list(models)
        for kind, name in _KINDS.items():
            having = [
                c
                for c in heard
                if kind in models[c].parts
                and not (kind == "filter" and (tones[c] or self._is_rest(shapes[c], models[c].parts)))
            ]
            for channel in self._shared(having, heard):
                mine = having if channel is None else [channel]
                lead = max(mine, key=lambda c: models[c].error.size * level[c].power(level[c].y))
                off = max(fall(before, after) for c in mine for k, before, after in models[c].steps if k == kind)
                ending = "" if channel is None else f" {channel + 1}"
                amount, unit, why, curves = found_amount(kind, models[lead], shapes[lead], ending)
                self._curves |= curves
                self._add(Cause(name, _name(channel), amount, unit, off, why))

    def _is_rest(self, shape: Shape | None, parts: Sequence[Kind]) -> bool:
        """Whether a filter changes nothing by itself: it is what a drift, or a curve that was found, leaves."""
        if len(parts) > 1 and shape is not None and abs(shape.greatest) < _NO_DECIBELS:
            return float(np.abs(shape.phase).max()) < _NO_DEGREES
        return any(cause.cause == "drift" for cause in self._causes) and (shape is None or abs(shape.greatest) < 1.0)

    def _leftover(
        self, lined: list[Excerpt], level: list[Excerpt], models: dict[int, Model], heard: Sequence[int]
    ) -> None:
        """What is left: the rounding of words, noise of its own, a codec, or what nothing explains."""
        left, raw = (sum(values) for values in ([models[c].left for c in heard], [self._base[c] for c in heard]))
        if left <= len(heard) * _FLOOR:
            return
        bits = self._words()
        if bits is not None:
            step = 2.0 ** (1 - bits)
            gain = max(abs(plain_gain(models[c], None)) for c in heard)
            if left / len(heard) <= (0.8 * step) ** 2 * max(1.0, 1.0 / gain**2):
                self._add(Cause("quantisation", amount=float(bits), unit="bit", why=f"words of {bits} bits"))
                return
        lead = max(heard, key=lambda c: models[c].left)
        judged = judge_leftover(level[lead], models[lead].error)
        for c in heard:
            for kind, before, _ in models[c].steps:
                if before > models[c].left * (_CURVES_OWN if kind in ("curve", "motion") else _FILTERS_OWN):
                    return  # what is left is how well the model itself was found
        if judged.kind == "noise":
            self._add(Cause("noise", amount=round(decibels(left / len(heard)), 1), unit="dBFS",
                            why="what is left does not follow the signal"))  # fmt: skip
        elif judged.kind == "lossy" and self._is_coded(models[lead]):
            self._causes = [cause for cause in self._causes if cause.cause != "filter"]
            self._add(Cause("lossy", amount=judged.edge, unit="Hz" if judged.edge else "", why=lossy_words(judged)))
        elif fall(raw, left) < _WELL_EXPLAINED and all(
            (cause.takes_off or 0.0) < _WELL_EXPLAINED for cause in self._causes
        ):
            why = "what is left is explained by nothing that is known"
            if judged.kind == "follows":
                why = "what is left follows the signal, and nothing that is known predicts it"
            self._add(Cause("unexplained", amount=round(decibels(left / len(heard)), 1), unit="dBFS", why=why))

    def _is_coded(self, model: Model) -> bool:
        """A codec is told where nothing else explains much: no curve, no moving gain, no filter but its own edge."""
        if {"curve", "clipping", "motion"} & set(model.parts):
            return False
        return sum(fall(before, after) for _, before, after in model.steps) < _CODECS_EDGE

    def _words(self) -> int | None:
        """Bits of the render's words, where the reference has finer ones."""
        render, reference = self._lay.render, self._reference
        frames = min(reference.frames, render.frames, 1 << 16)
        middle = (min(reference.frames, render.frames) - frames) // 2
        own = word_length(render.read(middle, middle + frames))
        other = word_length(reference.read(middle, middle + frames))
        return own if own is not None and (other is None or other > own) else None

    def _filtered(
        self, level: list[Excerpt], models: dict[int, Model], tones: dict[int, bool]
    ) -> tuple[Floats | None, str | None]:
        if any(tones.values()):
            return None, "one steady tone cannot tell a filter"
        share = np.ones(self._channels)
        for c, model in models.items():
            if model.filter is None:
                continue
            gain = best_gain(level[c])
            base = level[c].power(level[c].y - gain * level[c].inner)
            linear = model.filter if model.parts == ("filter",) else fit_filter(level[c])
            if linear is not None:
                share[c] = linear.left / max(base, _NOTHING)
        return share, None


def _shapes(level: list[Excerpt], models: dict[int, Model], tones: dict[int, bool]) -> Shapes:
    """The shape of each channel's filter, where there is one that can be told."""
    return {c: None if m.filter is None or tones[c] else shape_of(m.filter, level[c]) for c, m in models.items()}


def _are_all_pass(models: dict[int, Model], shapes: Shapes) -> bool:
    """Whether a filter that turns phases alone is all that was found in every channel."""
    return bool(models) and all(
        m.parts == ("filter",) and shape is not None and shape.turns_alone and np.abs(shape.phase).max() > _TURNS
        for m, shape in zip(models.values(), shapes.values(), strict=True)
    )


def _is_faded(one: Excerpt, level: float, row: int, part: slice) -> bool:
    """Whether the render is clearly softer in a part than its level elsewhere makes it."""
    return bool(np.linalg.norm(one.y[row, part]) <= _FADED * level * np.linalg.norm(one.inner[row, part]))


def _read(source: Source, start: int, stop: int) -> Floats:
    return np.asarray(source.read(start, stop))


def _name(channel: int | None) -> str:
    return "all" if channel is None else str(channel + 1)


def _sign(one: Excerpt) -> float:
    return -1.0 if best_gain(one) < 0.0 else 1.0
