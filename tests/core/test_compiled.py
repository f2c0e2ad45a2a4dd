"""The compiled loops: both forms give the same numbers, and the gate sees what is not finite wherever it stands."""

from importlib import import_module
from importlib.util import find_spec

import numpy as np
import pytest

from kind_echo.core.compiled._processor import is_wide

_HERE = "kind_echo.core.compiled"


def _forms(name: str) -> list[str]:
    wide = f"{_HERE}._{name}_wide"
    return [f"{_HERE}._{name}", *([wide] if is_wide() and find_spec(wide) else [])]


@pytest.mark.parametrize("form", _forms("gate"))
@pytest.mark.parametrize("bad", [np.nan, np.inf, -np.inf])
@pytest.mark.parametrize("at", [0, 1, 7, 8, 500, 1022])
def test_one_sample_that_is_not_finite_spoils_the_sums(form: str, bad: float, at: int) -> None:
    rows = np.full((2, 1023), 0.25)
    rows[1, at] = bad
    peak, energy, total = np.zeros(2), np.zeros(2), np.zeros(2)
    import_module(form).scan(rows, peak, energy, total)
    assert np.isfinite(energy).tolist() == [True, False]
    assert np.isfinite(total).tolist() == [True, False]


def test_both_forms_of_a_loop_give_the_sums_that_numpy_gives() -> None:
    rng = np.random.default_rng(5)
    x, y = rng.standard_normal((2, 2, 4097))
    for form in _forms("loops"):
        sums, peaks, counts = np.zeros((2, 4)), np.zeros(2), np.zeros((2, 3), dtype=np.int64)
        import_module(form).pair_sums(x, y, 0.5, 1.0, sums, peaks, counts)
        assert peaks == pytest.approx(np.abs(y - x).max(axis=1), rel=1e-12)
        assert counts[:, 0].tolist() == (np.abs(y - x) > 0.5).sum(axis=1).tolist()
        truth = np.stack([(x * x).sum(1), (x * y).sum(1), (y * y).sum(1), ((y - x) ** 2).sum(1)], axis=1)
        np.testing.assert_allclose(sums, truth, rtol=1e-10)
