"""The middle stage of an explanation: the models of each channel, fitted to a pair that is lined up."""

from concurrent.futures import Executor
from dataclasses import dataclass, replace

import numpy as np

from kind_echo.core.audio.align import AlignedSource
from kind_echo.core.causes.excerpts import Excerpt, main_offset
from kind_echo.core.causes.lineup import LinedUp, Pair, line_up, without_events
from kind_echo.core.causes.loudest_line import is_steady_tone, line_share
from kind_echo.core.causes.models import Model, explain_channel
from kind_echo.core.causes.shapes import Shape, shape_of
from kind_echo.core.causes.shares import fall
from kind_echo.core.causes.thresholds import NAMING

Shapes = dict[int, Shape | None]


@dataclass(frozen=True)
class Fitted:
    """The models of a pair, by channel that sounds.

    Attributes:
        at: the pair as it was lined up first.
        source: the render as the models were fitted to it.
        masked: without gaps and clicks.
        offsets: of each channel.
        level: without these too: what the models are fitted to.
        floors: power by channel, that need not be explained.
        tones: whether a channel is one steady tone, of which no filter can be told.
        shapes: of the filters, where they can be told.
    """

    at: LinedUp
    source: AlignedSource
    masked: list[Excerpt]
    offsets: list[float]
    level: list[Excerpt]
    floors: list[float]
    models: dict[int, Model]
    tones: dict[int, bool]
    shapes: Shapes

    @property
    def left(self) -> float:
        """Power that the models leave, over all channels."""
        return sum(model.left for model in self.models.values())


def fit(pair: Pair, at: LinedUp, pool: Executor) -> Fitted:
    """The models of a pair, under the alignment that explains it most plainly."""
    found = _fit(pair, at, pool)
    known = pair.known
    fraction = (known.delay or 0.0) - round(known.delay or 0.0)
    filters = any(m.filter is not None for m in found.models.values())
    if abs(fraction) > 1e-3 and not known.drift and (filters or abs(fraction) < NAMING.barely_late_samples):
        # A part of a sample is a filter too, and one filter is told more surely than two in a row.
        whole = line_up(pair, fine=False)
        again = None if whole is None else _fit(pair, whole, pool, found.floors)
        if again is not None and again.left < found.left:
            found = replace(found, source=again.source, level=again.level, models=again.models)
    return _shaped(_with_second_offsets(found))


def fit_without_delay(pair: Pair, found: Fitted, base: list[float], pool: Executor) -> Fitted | None:
    """The models with no delay off, where an all-pass alone explains as much as it does beside one; else None.

    At the frequencies that a sound is strong in, the phase of an all-pass is often that of a delay.

    Args:
        base: power of the difference as rendered, by channel.
    """
    delay = abs(pair.known.delay or 0.0)
    filters = bool(found.models) and all(model.parts == ("filter",) for model in found.models.values())
    if not (NAMING.barely_late_samples < delay < NAMING.all_pass_seconds * pair.reference.rate and filters):
        return None
    if all(line_share(found.level[c]) > NAMING.line_share for c in pair.heard):
        return None  # of one line, either is the other
    at = line_up(pair, delay=0.0)
    if at is None:
        return None
    again = _fit(pair, at, pool, found.floors)
    again = replace(again, tones=found.tones, shapes=_shapes(again.level, again.models, found.tones))
    raw = sum(base[c] for c in pair.heard)
    enough = again.left <= NAMING.all_pass_share * found.left or fall(raw, again.left) >= NAMING.all_pass_enough_db
    return again if enough and _are_all_pass(again) else None


def _fit(pair: Pair, at: LinedUp, pool: Executor, floors: list[float] | None = None) -> Fitted:
    plain, heard = without_events_and_offsets(pair, at), pair.heard
    floors = floors or plain.floors
    models = pool.map(explain_channel, [plain.level[c] for c in heard], [floors[c] for c in heard])
    return replace(plain, floors=floors, models=dict(zip(heard, models, strict=True)))


def without_events_and_offsets(pair: Pair, at: LinedUp) -> Fitted:
    """What models are to be fitted to; no models yet."""
    masked = [without_events(one, pair.known) for one in at.lined]
    offsets = [main_offset(one) for one in masked]
    level = [replace(one, y=one.y - offset) for one, offset in zip(masked, offsets, strict=True)]
    floors = [max(NAMING.floor, 1e-13 * one.power(one.y)) for one in level]
    return Fitted(at, at.source, masked, offsets, level, floors, {}, {}, {})


def _with_second_offsets(found: Fitted) -> Fitted:
    """An offset that shows once the rest is explained is taken off as well, and the rest explained anew."""
    level, models, offsets = list(found.level), dict(found.models), list(found.offsets)
    for c, model in found.models.items():
        total = float(level[c].weight.sum())
        mean = float((model.error * level[c].weight).sum()) / total if total else 0.0
        if mean**2 < 0.2 * model.left or abs(mean) < 1e-6:
            continue
        without = replace(level[c], y=level[c].y - mean)
        again = explain_channel(without, found.floors[c])
        if fall(model.left, again.left) >= NAMING.worth_db:
            level[c], models[c], offsets[c] = without, again, offsets[c] + mean
    return replace(found, level=level, models=models, offsets=offsets)


def _shaped(found: Fitted) -> Fitted:
    tones = {c: is_steady_tone(found.level[c]) for c in found.models}
    return replace(found, tones=tones, shapes=_shapes(found.level, found.models, tones))


def _shapes(level: list[Excerpt], models: dict[int, Model], tones: dict[int, bool]) -> Shapes:
    """The shape of each channel's filter, where there is one that can be told."""
    return {c: None if m.filter is None or tones[c] else shape_of(m.filter, level[c]) for c, m in models.items()}


def _are_all_pass(found: Fitted) -> bool:
    """Whether a filter that turns phases alone is all that was found in every channel."""
    return bool(found.models) and all(
        m.parts == ("filter",)
        and shape is not None
        and (shape.turns_most or shape.angle is not None)
        and np.abs(shape.phase).max() > NAMING.all_pass_degrees
        for m, shape in zip(found.models.values(), found.shapes.values(), strict=True)
    )
