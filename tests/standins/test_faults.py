"""Each planted fault is found by the measure that is named for it, from the render beside that of the good build."""

import numpy as np
import pytest

from kind_echo.core.audio.source import ArraySource, Samples
from kind_echo.core.comparison.compare import compare
from kind_echo.core.comparison.pair import CompareOptions
from kind_echo.core.registry.readings import Reading
from kind_echo.core.signals import make_request, synthesise
from kind_echo.standins.catalogue import load_effect
from kind_echo.standins.effects import Values

_BELLS = make_request("bells", seconds=2.5, level=-6.0, lead_in=0.1)


def _render(name: str, version: str, values: Values, samples: Samples, rate: int, block: int = 512) -> Samples:
    effect = load_effect(name, version, values, rate, samples.shape[1])
    fed = np.concatenate([samples, np.zeros((effect.claimed_latency, samples.shape[1]))])
    out = np.concatenate([effect.process(fed[i : i + block]) for i in range(0, len(fed), block)])
    return out[effect.claimed_latency :]


def _found(
    name: str, versions: tuple[str, str], values: Values, rate: int = 48_000, channels: int = 1
) -> dict[str, Reading]:
    samples = synthesise(_BELLS, rate)
    if channels == 2:
        samples = np.concatenate([samples, 0.3 * samples[::-1]], axis=1)
    sides = [ArraySource(_render(name, version, values, samples, rate), rate) for version in versions]
    return {r.measure: r for r in compare(sides[0], sides[1], CompareOptions()).readings if r.channel == "all"}


def _value(found: dict[str, Reading], measure: str) -> float:
    value = found[measure].value
    assert value is not None, found[measure].why
    return value


def test_latency_that_is_not_claimed() -> None:
    found = _found("Skerry", ("2.0.3", "2.1.0-rc1"), {"shape": "hard"})
    assert _value(found, "delay") == pytest.approx(1.0, abs=0.01)
    assert _value(found, "gain") == pytest.approx(0.0, abs=0.001)


def test_level_that_is_off_in_one_shape_alone() -> None:
    found = _found("Skerry", ("2.0.3", "2.1.0-rc1"), {"shape": "soft", "ceiling": -3.0})
    assert _value(found, "gain") == pytest.approx(0.07, abs=0.001)


def test_a_filter_that_is_wrong_at_one_rate_alone() -> None:
    values: Values = {"ceiling": -12.0, "drive": 6.0, "oversampling": 8}
    assert _value(_found("Skerry", ("2.0.3", "2.1.0-rc2"), values, 44_100), "residual_rms") > -90
    assert _value(_found("Skerry", ("2.0.3", "2.1.0-rc2"), values), "identical") == 1.0
    assert _value(_found("Weir", ("1.0", "1.1-rc1"), {"output": "low"}, 96_000), "identical") == 1.0
    assert _value(_found("Weir", ("1.0", "1.1-rc1"), {"output": "high"}, 96_000), "residual_rms") > -90
    values = {"rate": 12_000.0, "filter": "on"}
    assert _value(_found("Rushlight", ("0.9", "1.0-rc1"), values, 96_000), "residual_rms") > -90
    assert _value(_found("Rushlight", ("0.9", "1.0-rc1"), values), "identical") == 1.0


def test_a_result_that_depends_on_the_block_size() -> None:
    samples = synthesise(_BELLS, 48_000)
    sides = [_render("Towpath", "1.5.0-b1", {}, samples, 48_000, block) for block in (64, 512)]
    good = [_render("Towpath", "1.4.0", {}, samples, 48_000, block) for block in (64, 512)]
    assert np.array_equal(*good)  # type: ignore[arg-type]
    assert 10 * np.log10(2 * np.mean((sides[0] - sides[1]) ** 2)) > -80


def test_level_and_cost() -> None:
    assert _value(_found("Towpath", ("1.4.0", "1.5.0-b2"), {}), "gain") == pytest.approx(-0.2, abs=0.001)


def test_a_wrong_claim_makes_the_render_early() -> None:
    assert _value(_found("Holdfast", ("3.0.1", "3.1-rc1"), {}), "delay") == pytest.approx(-64.0, abs=0.01)


def test_state_that_is_left_over_is_heard_at_the_start_alone() -> None:
    samples = synthesise(make_request("tone", seconds=2.0, level=-6.0, fade=0.0), 48_000)
    good, bad = (_render("Holdfast", version, {}, samples, 48_000) for version in ("3.0.1", "3.1-rc2"))
    assert np.abs(bad - good)[:4800].max() > 1e-2
    assert np.abs(bad - good)[-4800:].max() < 1e-9


def test_channels_that_are_exchanged() -> None:
    found = _found("Weir", ("1.0", "1.1-rc2"), {}, channels=2)
    assert _value(found, "channel_swap") == 1.0
    assert _value(_found("Weir", ("1.0", "1.1-rc1"), {}, channels=2), "channel_swap") == 0.0


def test_a_click_at_every_edge_of_a_block() -> None:
    assert _value(_found("Rushlight", ("0.9", "1.0-rc2"), {}), "clicks") > 20


def test_a_division_by_silence() -> None:
    samples = synthesise(_BELLS, 48_000)
    assert np.isnan(_render("Sedge", "2.3-rc1", {}, samples, 48_000)).sum() >= 1
    assert not np.isnan(_render("Sedge", "2.2", {}, samples, 48_000)).any()


def test_a_default_that_is_not_unity() -> None:
    found = _found("Plumb", ("1.0", "1.1-rc1"), {})
    assert _value(found, "gain") == pytest.approx(3.5, abs=0.001)
    assert _value(_found("Plumb", ("1.0", "1.1-rc1"), {"gain": 0.0}), "identical") == 1.0


def test_polarity_that_turns_over_at_one_value() -> None:
    assert _value(_found("Plumb", ("1.0", "1.1-rc2"), {"gain": -24.0}), "polarity") == -1.0
    assert _value(_found("Plumb", ("1.0", "1.1-rc2"), {"gain": -23.0}), "identical") == 1.0


def test_a_constant_that_is_added() -> None:
    samples = synthesise(_BELLS, 48_000)
    good, bad = (_render("Fogbank", version, {}, samples, 48_000) for version in ("1.1", "1.2-rc1"))
    assert float(np.mean(bad - good)) == pytest.approx(0.001, abs=1e-12)


def test_a_little_noise_is_told_at_its_level() -> None:
    found = _found("Plumb", ("1.0", "1.1-rc2"), {"polarity": "turned"})
    assert _value(found, "residual_rms") == pytest.approx(-130.0, abs=0.1)
    assert _value(_found("Plumb", ("1.0", "1.1-rc2"), {"gain": 3.0}), "identical") == 1.0
