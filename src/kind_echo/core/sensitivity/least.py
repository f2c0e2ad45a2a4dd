"""The least size of each fault that a check notices in one approved render, found by halving."""

import math
from collections.abc import Iterable
from dataclasses import asdict, dataclass
from typing import Literal, TypedDict, cast

import numpy as np

from kind_echo.core.audio.source import Samples
from kind_echo.core.sensitivity.fault import Fault
from kind_echo.core.sensitivity.faults import FAULTS
from kind_echo.core.sensitivity.noticing import Approved, Noticer

_SLOPE_STEPS = 8  # steps
_BESIDE_DB = 0.15  # dB


class LeastDocument(TypedDict, total=False):
    """What came of planting one fault, as JSON keeps it: what is as usual is left out."""

    fault: str
    state: "State"
    size: float | None
    by: str
    at_most: bool


State = Literal["noticed", "passes", "no change", "not there", "fails already"]


@dataclass(frozen=True)
class Least:
    """What came of planting one fault.

    Attributes:
        state: "noticed" from `size` on; "passes" at its greatest size, `size`; "no change": it changes no sample here;
            "not there": it has nothing to take hold of; "fails already": the render fails without it.
        size: in the fault's unit; 1 for one that is there or not; None where no size was tried.
        by: the measure by which it is noticed.
        at_most: it is noticed at its least size already, and perhaps below.
    """

    fault: str
    state: State
    size: float | None = None
    by: str = ""
    at_most: bool = False

    def document(self) -> LeastDocument:
        """As JSON keeps it."""
        kept = {key: value for key, value in asdict(self).items() if value not in ("", False)}
        return cast("LeastDocument", kept)

    @classmethod
    def of(cls, document: LeastDocument) -> "Least":
        """What was kept as a document."""
        return cls(**document)


def least_noticed(approved: Approved, faults: Iterable[Fault] = FAULTS) -> list[Least]:
    """The least size of each fault that is noticed.

    What is noticed at a size is taken to be noticed at every greater one.
    """
    return least_of(Noticer(approved), faults)


def least_of(noticer: Noticer, faults: Iterable[Fault] = FAULTS) -> list[Least]:
    """As `least_noticed`, of a render that is prepared to be judged."""
    if noticer.baseline.broken and not noticer.baseline.limits:
        return [Least(fault.key, "fails already", by=noticer.baseline.broken[0]) for fault in faults]
    return [_Planted(noticer, fault).least() for fault in faults]


class _Planted:
    """One fault in one render."""

    def __init__(self, noticer: Noticer, fault: Fault) -> None:
        self._noticer, self._fault = noticer, fault
        approved = noticer.approved
        self._samples = approved.samples
        self._grow = fault.prepare(approved.samples, approved.rate)

    def least(self) -> Least:
        """The least size that is noticed."""
        fault = self._fault
        if self._grow is None:
            return Least(fault.key, "not there")
        if not fault.of_claim and np.array_equal(self._grow(fault.most), self._samples):
            return Least(fault.key, "no change")
        if fault.of_claim and not self._noticer.hears_claims:
            return Least(fault.key, "passes", fault.most)
        least = fault.least
        if fault.is_count or not fault.has_size:
            by = self._notices(least)
            if by is not None:
                return Least(fault.key, "noticed", least, by, at_most=fault.has_size)
        most = self._first_over(least, fault.most)
        if most is None:
            by = self._notices(fault.most)
            if by is None:
                return Least(fault.key, "passes", fault.most if fault.has_size else 1.0)
            most = fault.most
        else:
            # What is left is too little from `most` down; something else may notice it all the same.
            below = self._below(least, most)
            by = "residual_rms" if below is None else self._notices(below)
            if below is None or by is None:
                return Least(fault.key, "noticed", most, "residual_rms", at_most=fault.has_size and most <= least)
            most = below
        found = self._notices(least) if most > least else by
        if found is not None:
            return Least(fault.key, "noticed", least, found, at_most=fault.has_size)
        low, high = least, most
        while (middle := fault.between(low, high)) is not None:
            found = self._notices(middle)
            if found is None:
                low = middle
            else:
                high, by = middle, found
        return Least(fault.key, "noticed", high, by)

    def _first_over(self, low: float, high: float) -> float | None:
        """The least size at which what is left alone breaks its limit; None where none does, or that tells nothing."""
        if self._fault.of_claim or self._moves(low):
            return None
        over = self._over(high)
        if over <= 0.0:
            return None
        if self._over(low) > 0.0:
            return low
        tried, size = 0, high
        while (middle := self._fault.between(low, high)) is not None:
            # What is left grows as the size does, or nearly so: a step there, and one beside it, settle most.
            if tried < _SLOPE_STEPS and math.isfinite(over):
                step = self._fault.scaled(size, -over)
                step = self._fault.scaled(step, _BESIDE_DB if low < step < high and tried % 2 else -_BESIDE_DB)
                middle = step if low < step < high else middle
            tried, size, over = tried + 1, middle, self._over(middle)
            low, high = (low, middle) if over > 0.0 else (middle, high)
        return None if self._moves(high) else high

    def _below(self, least: float, size: float) -> float | None:
        """The size next under another; None where there is none."""
        fault = self._fault
        if not fault.has_size or size <= least:
            return None
        if fault.is_count:
            return max(least, min(size - 1, float(round(size / 1.05))))
        return max(least, size - 0.5 if fault.is_level else size / 1.05)

    def _moves(self, size: float) -> bool:
        return self._fault.moves is not None and self._fault.moves(size, len(self._samples)) >= 0.5

    def _over(self, size: float) -> float:
        return self._noticer.over_residual(self._changed(size))

    def _notices(self, size: float) -> str | None:
        moved = 0.0 if self._fault.moves is None else self._fault.moves(size, len(self._samples))
        claim = size if self._fault.of_claim else 0.0
        return self._noticer.notices(self._changed(size), moved, claim)

    def _changed(self, size: float) -> Samples:
        assert self._grow is not None
        return self._grow(size)
