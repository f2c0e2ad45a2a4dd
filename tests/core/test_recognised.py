"""What a pair of test signals tells beside its difference."""

from typing import Any

import numpy as np
import pytest

from kind_echo.core.comparison.compare import compare
from kind_echo.core.registry.readings import value_of
from kind_echo.core.signals import make_request, synthesise
from kind_echo.core.systems.of_test_signal import measure_test_signal
from tests.core.conftest import columns, noise

R = 48_000


def _late(samples: Any, by: int) -> Any:
    return np.concatenate([np.zeros(by), samples])[: len(samples)]


def test_two_tones_give_level_harmonics_and_noise_of_both() -> None:
    """x − x³/3 of a tone of amplitude ½: a third harmonic of 1/96, and ½ − 1/32 at the tone (Chebyshev polynomials)."""
    x = synthesise(make_request("tone", frequency=997, level=20 * np.log10(0.5)), R)[:, 0]
    y = _late(x - x**3 / 3, 10) + 1e-4 * noise(len(x))[:, 0]
    told = measure_test_signal(columns(x), columns(y))
    assert value_of(told.reference, "fundamental_level") == pytest.approx(20 * np.log10(0.5), abs=0.01)
    assert value_of(told.render, "fundamental_level") == pytest.approx(20 * np.log10(0.5 - 1 / 32), abs=0.01)
    assert value_of(told.render, "harmonic_3") == pytest.approx(20 * np.log10(1 / 96 / (0.5 - 1 / 32)), abs=0.1)
    within = 10 * np.log10(20_000 / 24_000)  # of white noise up to half the rate, the part in the band of noise
    rms = 20 * np.log10(np.sqrt(2) * 1e-4 * np.std(noise(len(x))))
    assert value_of(told.render, "noise_floor") == pytest.approx(rms + within, abs=0.5)


def test_a_staircase_gives_its_levels_and_a_burst_its_times() -> None:
    stairs = synthesise(make_request("staircase"), R)[:, 0]
    told = measure_test_signal(columns(stairs), columns(0.5 * stairs))
    assert value_of(told.render, "gain_below_threshold") == pytest.approx(-6.02, abs=0.01)
    burst = synthesise(make_request("burst"), R)[:, 0]
    told = measure_test_signal(columns(burst), columns(_late(0.5 * burst, 33)))
    assert value_of(told.render, "settled_gain_high") == pytest.approx(-6.02, abs=0.01)


def test_other_sounds_give_nothing_more() -> None:
    for kind in ("noise", "sweep", "clicks", "piece", "silence"):
        x = synthesise(make_request(kind), R)[:, 0]
        told = measure_test_signal(columns(x), columns(0.5 * x))
        assert (told.reference, told.render, told.curves) == ([], [], {})
    broken = synthesise(make_request("tone"), R)[:, 0].copy()
    broken[5] = np.nan
    assert measure_test_signal(columns(broken), columns(broken)).render == []


@pytest.mark.parametrize(("change", "delay", "polarity"), [
    (lambda x: _late(x, 33), 33.0, 1.0), (lambda x: 0.7 * _late(x, 33), 33.0, 1.0), (lambda x: -x, 0.0, -1.0),
])  # fmt: skip
def test_two_tones_are_late_by_what_both_agree_on(change: Any, delay: float, polarity: float) -> None:
    """8.98 samples late and inverted, or 24.02 early, meet both phases to half a degree, and are not the delay."""
    x = synthesise(make_request("pair", frequency=997, second=7000), R)[:, 0]
    found = compare(columns(x), columns(change(x))).readings
    assert value_of(found, "delay") == pytest.approx(delay, abs=1e-3)
    assert value_of(found, "polarity") == polarity
