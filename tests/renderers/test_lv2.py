"""Plug-ins of the LV2 standard, with Debian's example amplifier as the effect."""

from typing import Any

import numpy as np
import pytest

from kind_echo.core.audio.source import ArraySource
from kind_echo.core.signals import make_request, synthesise
from kind_echo.core.tones.tone import ToneOptions, measure_tone
from kind_echo.renderers.contract import RenderFailed, RenderRequest
from kind_echo.renderers.plugins.offering import PluginRenderer, plugin_offer
from kind_echo.renderers.plugins.scanning import scan
from kind_echo.renderers.plugins.standards import LV2

AMPLIFIER = "http://lv2plug.in/plugins/eg-amp"
needs_plugin = pytest.mark.skipif(
    not any(one.handle == AMPLIFIER for one in scan(LV2.key).found),
    reason="Debian's liblilv-0-0 and lv2-examples are not installed: no real plug-in was rendered",
)


def _render(signal: Any, rate: int, values: dict[str, Any], **changes: Any) -> Any:
    plugin = next(one for one in scan(LV2.key).found if one.handle == AMPLIFIER)
    usual: dict[str, Any] = {
        "effect": plugin.effect, "version": plugin.version, "values": values, "host": LV2.host, "host_version": "",
        "mode": "offline", "rate": rate, "block_size": 512, "signal": signal, "handle": AMPLIFIER,
    }  # fmt: skip
    return PluginRenderer(LV2).render(RenderRequest(**(usual | changes)))


@needs_plugin
@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
@pytest.mark.parametrize("gain", [-60.0, -24.0, -6.0, 0.0, 3.0, 12.0])
def test_the_amplifier_gives_the_gain_that_is_set_at_every_rate(gain: float, rate: int) -> None:
    """Gain calibration: its manual says that the control is in decibels; 20·log10 of the ratio is what is meant."""
    tone = synthesise(make_request("tone", frequency=997.0, level=-20.0, seconds=1.0), rate)
    result = _render(tone, rate, {"gain": gain})
    readings, _ = measure_tone(ArraySource(result.samples, rate), ToneOptions(997.0))
    level = next(r.value for r in readings if (r.measure, r.channel) == ("fundamental_level", "all"))
    assert level == pytest.approx(-20.0 + gain, abs=0.0005)
    assert result.claimed_latency == 0


@needs_plugin
def test_at_unity_it_changes_no_bit() -> None:
    bells = synthesise(make_request("bells", seconds=1.0), 48_000)
    assert np.array_equal(_render(bells, 48_000, {"gain": 0.0}).samples, bells.astype(np.float32))


@needs_plugin
def test_it_is_found_with_its_bounds() -> None:
    offer = plugin_offer(LV2)
    assert offer is not None
    amplifier = next(effect for effect in offer.effects if effect.handle == AMPLIFIER)
    (gain,) = amplifier.parameters
    assert (gain["name"], gain["least"], gain["greatest"], gain["default"]) == ("gain", -90.0, 24.0, 0.0)
    assert len(amplifier.versions[0]) == 12


@needs_plugin
@pytest.mark.parametrize(
    ("changes", "says"),
    [
        ({"values": {"gain": 60.0}}, "gain is from -90 to 24, and not 60"),
        ({"values": {"mood": 1.0}}, "has no parameter mood, but gain"),
        ({"handle": "urn:none"}, "has no build"),
        ({"version": "0123456789ab"}, "has no build 0123456789ab"),
        ({"signal": np.zeros((100, 2))}, "takes 1 channels in and 1 out, and the signal has 2 channels"),
    ],
)
def test_what_it_cannot_do_is_told(changes: dict[str, Any], says: str) -> None:
    with pytest.raises(RenderFailed) as failed:
        _render(**({"signal": np.zeros((100, 1)), "rate": 48_000, "values": {}} | changes))  # type: ignore[arg-type]
    assert says in str(failed.value)
