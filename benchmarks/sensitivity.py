"""What planting faults costs, and whether the short cut agrees with judging in full: python -m benchmarks.sensitivity

As many references as a plan has cells are planted into, in two processes; then faults of drawn kinds and sizes are
judged both ways.
"""

import argparse
import time
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from typing import Any

import numpy as np

from kind_echo.core.audio.source import Samples
from kind_echo.core.registry.measures import default_limits
from kind_echo.core.sensitivity.faults import FAULTS
from kind_echo.core.sensitivity.least import least_noticed
from kind_echo.core.sensitivity.noticing import Approved, Noticer
from kind_echo.core.signals import make_request, synthesise

_RATE = 48_000
_LIMITS = default_limits(("integrity", "compare"))
_ASKED: tuple[dict[str, Any], ...] = (
    {"kind": "noise", "color": "pink", "level": -20.0}, {"kind": "tone", "frequency": 997.0},
    {"kind": "sweep", "level": -9.0}, {"kind": "clicks"}, {"kind": "bells"}, {"kind": "burst"},
)  # fmt: skip


def _sound(number: int, seconds: float) -> Samples:
    asked = {**_ASKED[number % len(_ASKED)], "seconds": seconds}
    drawn = np.random.default_rng(number)
    samples = synthesise(make_request(**asked), _RATE)
    return samples * 10 ** (drawn.uniform(-12.0, 0.0) / 20)  # no two cells are the same


def _cell(work: tuple[int, float]) -> float:
    begun = time.process_time()
    least_noticed(Approved(_sound(*work), _RATE, _LIMITS))
    return time.process_time() - begun


def _agreement(work: tuple[int, int]) -> tuple[int, list[str]]:
    number, count = work
    samples = _sound(number, 1.0)
    approved = Approved(samples, _RATE, _LIMITS)
    noticer, drawn = Noticer(approved), np.random.default_rng(100 + number)
    least = {one.fault: one for one in least_noticed(approved)}
    tried, apart = 0, []
    while tried < count:
        fault = FAULTS[int(drawn.integers(len(FAULTS)))]
        grow = fault.prepare(samples, _RATE)
        if grow is None or fault.of_claim:
            continue
        size = least[fault.key].size or fault.most
        size = float(np.clip(fault.scaled(size, drawn.uniform(-20.0, 20.0)), fault.least, fault.most))
        moved = 0.0 if fault.moves is None else fault.moves(size, len(samples))
        changed = grow(size)
        quick, full = noticer.notices(changed, moved), noticer.in_full(changed)
        if (quick is None) != (full is None):
            apart.append(f"{fault.key} {size:g}: {quick} and {full}")
        tried += 1
    return tried, apart


def main() -> None:
    """Print what came of it."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--cells", type=int, default=72)
    parser.add_argument("--seconds", type=float, default=2.0)
    parser.add_argument("--draws", type=int, default=200)
    asked = parser.parse_args()
    with ProcessPoolExecutor(2, mp_context=get_context("spawn")) as pool:
        begun = time.perf_counter()
        spent = list(pool.map(_cell, [(i, asked.seconds) for i in range(asked.cells)]))
        wall = time.perf_counter() - begun
        print(f"{asked.cells} cells of {asked.seconds:g} s, {len(FAULTS)} faults: {wall:.0f} s on two cores, "
              f"{max(spent):.1f} s of the processor for the dearest cell")  # fmt: skip
        each = -(-asked.draws // len(_ASKED))
        found = list(pool.map(_agreement, [(i, each) for i in range(len(_ASKED))]))
    apart = [one for _, some in found for one in some]
    print(f"Short cut and full judging: {sum(count for count, _ in found)} drawn, {len(apart)} apart")
    for one in apart:
        print(f"  {one}")


if __name__ == "__main__":
    main()
