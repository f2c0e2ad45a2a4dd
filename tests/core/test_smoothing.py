"""Moving means, maxima, polynomials and the analytic signal, beside those of SciPy."""

import numpy as np
import pytest
from scipy import ndimage, signal

from kind_echo.core.audio.smoothing import analytic, cubic_weights, is_highest, moving_mean, smoothed

_RNG = np.random.default_rng(5)


@pytest.mark.parametrize("width", [1, 2, 3, 8, 9, 101])
def test_a_moving_mean_is_that_of_scipy(width: int) -> None:
    values = _RNG.normal(size=200)
    assert moving_mean(values, width) == pytest.approx(ndimage.uniform_filter1d(values, width, mode="constant"))


@pytest.mark.parametrize("half", [1, 4])
def test_the_highest_are_those_of_scipy(half: int) -> None:
    values = np.round(_RNG.normal(size=300), 1)  # some are alike
    expected = values == ndimage.maximum_filter1d(values, 2 * half + 1)
    assert is_highest(values, half).tolist() == expected.tolist()


def test_smoothing_by_weights_and_by_cubics_is_that_of_scipy() -> None:
    values = _RNG.normal(size=400) + 1j * _RNG.normal(size=400)
    assert cubic_weights(51) == pytest.approx(signal.savgol_coeffs(51, 3), abs=1e-12)
    weights = cubic_weights(51)
    for side in (values, values.real):
        longer = np.pad(side, 25, mode="reflect", reflect_type="odd")
        assert smoothed(side, weights) == pytest.approx(np.convolve(longer, weights, "valid"), abs=1e-12)
    cubic = np.polyval([2e-6, -3e-4, 0.1, 4.0], np.arange(400.0))
    assert smoothed(cubic, weights)[30:-30] == pytest.approx(cubic[30:-30])


@pytest.mark.parametrize("size", [7, 8, 1000])
def test_the_analytic_signal_is_that_of_scipy(size: int) -> None:
    values = _RNG.normal(size=(size, 2))
    assert analytic(values) == pytest.approx(signal.hilbert(values, axis=0))
