"""Clicks and gaps that a filter explains: what steps in a sound steps in what a filter makes of it; so does a pause."""

from collections.abc import Sequence

import numpy as np

from kind_echo.core.audio.align import AlignedSource
from kind_echo.core.audio.source import Source, read_padded
from kind_echo.core.causes.excerpts import Excerpt, best_gain
from kind_echo.core.causes.filtering import filtered
from kind_echo.core.causes.models import Model
from kind_echo.core.levels.integrity import Gap

_WINDOW_SECONDS = 0.004  # to either side of a click
_MOST_EVENTS = 256  # clicks of a channel, or gaps, that are looked at; of more, all are kept
_LONGEST_GAP_SECONDS = 1.0  # s, beyond which a gap is one whatever a filter does
_SILENT_PEAK = 10 ** (-84.0 / 20)  # twice the level under which a gap is silent
_SILENT_FRAMES_SHARE = 0.95  # of a gap's frames: at its ends what comes before and after has its part
_FILTERED_CLICK_SHARE = 0.1  # of the greatest difference about a click, that a filter leaves which explains it


def clicks_left(
    reference: Source,
    lined: AlignedSource,
    clicks: Sequence[Sequence[int]],
    models: dict[int, Model],
    offsets: Sequence[float],
) -> list[list[int]]:
    """The clicks that stay once the filter of their channel is undone; all of a channel of which more is known.

    Args:
        lined: the render as the models were fitted to it.
        clicks: frames of the reference, by channel.
        offsets: taken off the render before the models were fitted, by channel.
    """
    kept = []
    for channel, frames in enumerate(clicks):
        model = models.get(channel)
        if model is None or model.parts != ("filter",) or len(frames) > _MOST_EVENTS:
            kept.append(list(frames))
        else:
            offset = offsets[channel]
            kept.append([f for f in frames if not _is_explained(reference, lined, channel, f, model, offset)])
    return kept


def gaps_left(reference: Source, gaps: Sequence[Gap], models: dict[int, Model]) -> list[Gap]:
    """The gaps that stay: those in which the filter of their channel would let something through; of very many, all."""
    if len(gaps) > _MOST_EVENTS:
        return list(gaps)
    return [gap for gap in gaps if not _falls_silent(reference, gap, models.get(gap.channel))]


def _falls_silent(reference: Source, gap: Gap, model: Model | None) -> bool:
    if (
        model is None
        or model.parts[:1] != ("filter",)
        or model.filter is None
        or gap.length > _LONGEST_GAP_SECONDS * reference.rate
    ):
        return False
    reach = len(model.filter.taps)
    lo, hi = gap.start, gap.start + gap.length
    x = read_padded(reference, lo - reach, hi + reach)[np.newaxis, :, gap.channel]
    empty = np.zeros((1, gap.length))
    around = Excerpt(x, empty, empty, (lo,), reach, reference.rate)
    return bool(
        np.mean(np.abs(filtered(around, model.filter.taps, model.filter.before)) < _SILENT_PEAK) >= _SILENT_FRAMES_SHARE
    )


def _is_explained(
    reference: Source, lined: AlignedSource, channel: int, frame: int, model: Model, offset: float
) -> bool:
    assert model.filter is not None
    taps, before = model.filter.taps, model.filter.before
    half, reach = max(8, round(_WINDOW_SECONDS * reference.rate)), len(taps)
    lo, hi = frame - half, frame + half
    x = read_padded(reference, lo - reach, hi + reach)[np.newaxis, :, channel]
    y = lined.read(lo, hi)[np.newaxis, :, channel] - offset
    around = Excerpt(x, y, np.ones_like(y), (lo,), reach, reference.rate)
    left = np.abs(y - filtered(around, taps, before)).max()
    return bool(left <= _FILTERED_CLICK_SHARE * np.abs(y - best_gain(around) * around.inner).max())
