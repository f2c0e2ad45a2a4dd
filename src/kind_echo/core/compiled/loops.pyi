"""Types of the compiled loops; what they do is told in _loops.pyx."""

import numpy as np
from numpy.typing import NDArray

_Doubles = NDArray[np.float64]
_Singles = NDArray[np.float32]
_Counts = NDArray[np.int64]
_Bytes = NDArray[np.uint8]

UNKNOWN: float

def keep_single(block: _Doubles, start: int, kept: _Singles) -> bool: ...
def count_rail_runs(rows: _Doubles, rail: float, run: _Counts, side: _Counts, runs: _Counts) -> None: ...
def window_peaks(rows: _Doubles, start: int, window: int, out: _Doubles) -> None: ...
def add_hops(rows: _Doubles, start: int, edges: _Counts, first: int, energies: _Doubles) -> int: ...
def interpolate(padded: _Singles, phases: _Singles, best: float, mean: _Singles, edge: _Singles) -> float: ...
def pair_sums(
    x: _Doubles, y: _Doubles, step: float, ceiling: float, sums: _Doubles, peaks: _Doubles, counts: _Counts
) -> None: ...
def changed_regions(
    x: _Doubles, y: _Doubles, step: float, start: int, gap: int, beyond: _Bytes, state: _Counts
) -> None: ...
def find_steps(
    x: _Doubles,
    y: _Doubles,
    scale: float,
    reach: int,
    near: int,
    floor: float,
    ratio: float,
    steps: _Doubles,
    found: _Counts,
) -> int: ...
def quiet_runs(
    x: _Doubles,
    y: _Doubles,
    threshold: float,
    loud: float,
    least: int,
    start: int,
    state: _Counts,
    out: _Counts,
) -> int: ...
def read_between(rows: _Doubles, first: _Counts, fractions: _Doubles, table: _Doubles, out: _Doubles) -> None: ...
