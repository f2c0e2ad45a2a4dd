"""What explains a difference: the residual after each step is taken off, one on top of the other."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource, rows_of_pair
from kind_echo.core.audio.source import Source
from kind_echo.core.registry.readings import Reading, level

Floats = NDArray[np.float64]

STEPS = (
    "account_raw", "account_delay", "account_polarity", "account_gain",
    "account_fraction", "account_filter", "account_remainder",
)  # fmt: skip


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
