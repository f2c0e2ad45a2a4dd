"""Loading the compiled loops ahead of their use: the first costs half a second, whatever it computes."""

import sys
from collections.abc import Iterator
from contextlib import contextmanager

import numpy as np

_LINEAR_ALGEBRA = "scipy.linalg"


def load_loops() -> None:
    """Bring numba and the compiled loops into memory."""
    with _without_linear_algebra():
        from kind_echo.core import loops

        block, sums = np.zeros((8, 1)), np.zeros(1)
        loops.scan(block, np.zeros(1), sums, np.zeros(1))


@contextmanager
def _without_linear_algebra() -> Iterator[None]:
    """Let numba find no scipy.linalg while it starts, unless it is there already.

    numba looks for it to see whether np.dot can be compiled, which no loop here wants; importing it takes as long as
    all the rest of numba.
    """
    if _LINEAR_ALGEBRA in sys.modules:
        yield
        return
    sys.modules[_LINEAR_ALGEBRA] = None  # type: ignore[assignment]
    try:
        yield
    finally:
        del sys.modules[_LINEAR_ALGEBRA]
