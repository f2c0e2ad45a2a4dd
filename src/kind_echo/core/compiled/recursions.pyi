"""Types of the compiled recursive filters; what they do is told in _recursions.pyx."""

import numpy as np
from numpy.typing import NDArray

_Doubles = NDArray[np.float64]
_Singles = NDArray[np.float32]
_Counts = NDArray[np.int64]

def add_weighted_hops(
    rows: _Doubles, start: int, edges: _Counts, first: int, energies: _Doubles, taps: _Doubles, state: _Doubles
) -> int: ...
def needle(rectified: _Singles, a: _Doubles, b: _Doubles, state: _Doubles, best: _Doubles) -> None: ...
