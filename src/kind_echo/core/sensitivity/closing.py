"""What would close a gap: a test signal that shows a fault, and a limit that would just notice it. Both are tried."""

from collections.abc import Mapping
from functools import cache

from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import default_limits
from kind_echo.core.sensitivity.fault import Fault
from kind_echo.core.sensitivity.least import Least, least_of
from kind_echo.core.sensitivity.noticing import Approved, Noticer
from kind_echo.core.signals import SignalDocument, make_request, synthesise

TRIED: Mapping[str, SignalDocument] = {
    "Pink noise, two channels apart": {
        "kind": "noise", "color": "pink", "level": -20.0, "seconds": 2.0, "channels": 2, "placement": "apart"
    },
    "Sweep": {"kind": "sweep", "level": -12.0, "seconds": 2.0},
    "Clicks": {"kind": "clicks", "level": -6.0, "seconds": 2.0},
    "Steady tone": {"kind": "tone", "frequency": 997.0, "level": -6.0, "seconds": 2.0},
}  # fmt: skip
"""Signals that are tried, by what they are called."""

_MARGIN_DB = 1.0  # dB under what a fault leaves
_TAKES_DB = 3.0  # dB over the spread of the takes, as the rules of verdicts have it


def signals_that_show(fault: Fault, wanted: float | None, rate: int) -> list[tuple[str, Least]]:
    """The signals in which a fault is noticed at the size wanted, or at any where none is, by the usual limits.

    It is planted into the signal itself, as an effect that changes nothing would pass it on: what an effect makes of
    the signal may show it better or worse.
    """
    found = []
    for title in TRIED:
        (least,) = least_of(_tried(title, rate), [fault])
        is_fine = wanted is None or (least.size is not None and fault.as_fine(least.size, wanted))
        if least.state == "noticed" and is_fine:
            found.append((title, least))
    return found


@cache
def _tried(title: str, rate: int) -> Noticer:
    samples = synthesise(make_request(**TRIED[title]), rate)
    return Noticer(Approved(samples, rate, default_limits(("integrity", "compare"))))


def limit_that_notices(approved: Approved, fault: Fault, size: float) -> Limit | None:
    """The limit of the residual by which a size of a fault is just noticed.

    None where it leaves nothing, or no more than the takes are apart.
    """
    grow = fault.prepare(approved.samples, approved.rate)
    if grow is None or fault.of_claim:
        return None
    usual = Limit(at_most=0.0)
    over = Noticer(Approved(approved.samples, approved.rate, {"residual_rms": usual})).over_residual(grow(size))
    most = float(f"{over - _MARGIN_DB:.1f}") if over > -300.0 else None
    if most is None or (approved.take_spread is not None and most < approved.take_spread + _TAKES_DB):
        return None
    return Limit(at_most=most)
