"""What explains a difference: the residual after each step is taken off, one on top of the other."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource, Aligner, Alignment, rows_of_pair
from kind_echo.core.audio.source import Source
from kind_echo.core.causes.explained import Explained
from kind_echo.core.comparison.lining_up import LinedUp
from kind_echo.core.comparison.residual import Residual
from kind_echo.core.registry.readings import Reading, level

Floats = NDArray[np.float64]

STEPS = (
    "account_raw", "account_delay", "account_polarity", "account_gain",
    "account_fraction", "account_filter", "account_remainder",
)  # fmt: skip
_NOTHING_LEFT_POWER = 0.5e-14  # mean square, −140 dBFS: no filter need explain what is under it


def power_left(reference: Source, aligned: AlignedSource) -> Floats:
    """Mean square of render − reference over their overlap, by channel; 0 where there is none."""
    total, frames = np.zeros(reference.channels), 0
    for _, x, y in rows_of_pair(reference, aligned):
        difference = y - x
        total += np.einsum("cf,cf->c", difference, difference)
        frames += x.shape[1]
    return total / max(1, frames)


@dataclass(frozen=True)
class Account:
    """Powers of the residual after each step, at the reference's level; shape (steps, channels).

    `why_no_filter` says why nothing can be told of a filter, where that is so.
    """

    powers: Floats
    why_no_filter: str | None = None

    def readings(self) -> list[Reading]:
        """The seven steps, in dBFS (AES17): all channels pooled, then each."""
        found = []
        for key, row in zip(STEPS, self.powers, strict=True):
            named = [("all", float(row.mean())), *((str(c + 1), float(p)) for c, p in enumerate(row))]
            if key == "account_filter" and self.why_no_filter is not None:
                found += [Reading(key, name, None, self.why_no_filter) for name, _ in named]
                continue
            found += [level(key, name, 2 * power, power=True, residual=True) for name, power in named]
        return found


def complete(steps: list[Floats], share: Floats | None, why_no_filter: str | None = None) -> Account:
    """Complete the steps that were measured: a step that does not apply leaves the value as it was.

    Args:
        steps: power by channel of the raw residual, and with delay, polarity, gain and fraction off.
        share: of the last of these, by channel, that the best linear filter leaves; None for no filter.
        why_no_filter: why a filter cannot be told at all.
    """
    raw, delay, polarity, gain, fraction = steps
    polarity = np.minimum(polarity, delay) if polarity.mean() <= delay.mean() else delay
    gain = gain if gain.mean() < polarity.mean() else polarity
    fraction = fraction if fraction.mean() < gain.mean() else gain
    last = fraction if share is None else fraction * np.minimum(share, 1.0)
    rows = np.array([raw, delay, polarity, gain, fraction, last])
    least = rows[rows.mean(axis=1).argmin()]
    return Account(np.concatenate([rows, least[None]]), why_no_filter)


def account_of(reference: Source, lay: Aligner, lined_up: LinedUp, raw: Floats, explained: Explained) -> list[Reading]:
    """The seven readings of a pair.

    Args:
        raw: mean square by channel of the difference as both sides are, nothing taken off.
    """
    whole, gain = lined_up.whole, lined_up.gain
    if gain is None or gain == 0.0:
        return complete([raw] + [whole.sums[:, 3] / whole.frames] * 4, None).readings()
    scales = (1.0, math.copysign(1.0, gain), 1.0 / gain)
    steps = [raw, *(_left(reference, lay, Alignment(lined_up.shift, 0.0, scale), whole) for scale in scales)]
    fraction = lined_up.fraction
    as_a_whole = Alignment(lined_up.shift, fraction, 1.0 / gain)
    steps.append(_left(reference, lay, as_a_whole, lined_up.fine) if fraction else steps[-1])
    if min(float(step.mean()) for step in steps) <= _NOTHING_LEFT_POWER:
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
