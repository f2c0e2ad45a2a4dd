"""Types of the compiled gate; what it does is told in _gate.pyx."""

import numpy as np
from numpy.typing import NDArray

_Doubles = NDArray[np.float64]

def scan(rows: _Doubles, peak: _Doubles, energy: _Doubles, total: _Doubles) -> None: ...
