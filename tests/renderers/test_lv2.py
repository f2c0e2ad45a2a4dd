"""Plug-ins of the LV2 standard through Debian's command-line host, with its example amplifier as the effect."""

import hashlib
import shutil
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from kind_echo.core.audio.source import ArraySource
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.signals import make_request, synthesise
from kind_echo.core.tones.tone import ToneOptions, measure_tone
from kind_echo.renderers import lv2
from kind_echo.renderers.contract import RenderFailed, RenderRequest

AMPLIFIER = "http://lv2plug.in/plugins/eg-amp"
needs_plugin = pytest.mark.skipif(
    shutil.which("lv2apply") is None or AMPLIFIER not in lv2.scan(),
    reason="Debian's lilv-utils and lv2-examples are not installed: no real plug-in was rendered",
)


def _render(signal: Any, rate: int, values: dict[str, Any], **changes: Any) -> Any:
    plugin = lv2.scan()[AMPLIFIER]
    usual: dict[str, Any] = {
        "effect": plugin.name, "version": plugin.version, "values": values, "host": lv2.HOST, "host_version": "",
        "mode": "offline", "rate": rate, "block_size": 512, "signal": signal, "handle": AMPLIFIER,
    }  # fmt: skip
    return lv2.Lv2Renderer().render(RenderRequest(**(usual | changes)))


INFO = """urn:example:delay

\tName:              Example Delay
\tClass:             Delay
\tHas latency:       yes, reported by port 3
\tBinary:            {binary}

\tPort 0:
\t\tType:        http://lv2plug.in/ns/lv2core#AudioPort
\t\t             http://lv2plug.in/ns/lv2core#InputPort
\t\tSymbol:      in
\t\tName:        In

\tPort 1:
\t\tType:        http://lv2plug.in/ns/lv2core#AudioPort
\t\t             http://lv2plug.in/ns/lv2core#OutputPort
\t\tSymbol:      out
\t\tName:        Out

\tPort 2:
\t\tType:        http://lv2plug.in/ns/lv2core#ControlPort
\t\t             http://lv2plug.in/ns/lv2core#InputPort
\t\tSymbol:      time
\t\tName:        Time
\t\tMinimum:     0.0
\t\tMaximum:     2000.0
\t\tDefault:     250.0

\tPort 3:
\t\tType:        http://lv2plug.in/ns/lv2core#ControlPort
\t\t             http://lv2plug.in/ns/lv2core#OutputPort
\t\tSymbol:      latency
\t\tName:        Latency
"""


def test_a_plug_in_is_read_from_what_is_printed_of_it(tmp_path: Path) -> None:
    binary = tmp_path / "a delay.so"
    binary.write_bytes(b"one")
    plugin = lv2.read_plugin("urn:example:delay", INFO.format(binary=binary.as_uri()))
    assert (plugin.name, plugin.inputs, plugin.outputs, plugin.reports_latency) == ("Example Delay", 1, 1, True)
    assert [(c.symbol, c.least, c.greatest, c.default) for c in plugin.controls] == [("time", 0.0, 2000.0, 250.0)]
    assert lv2._offered(plugin).channels == (1,)
    assert plugin.version == hashlib.sha256(b"one").hexdigest()[:12]
    binary.write_bytes(b"two")
    assert lv2.read_plugin("urn:example:delay", INFO.format(binary=binary.as_uri())).version != plugin.version
    assert lv2.read_plugin("x", INFO.format(binary="file:///nowhere.so")).version == "unknown"
    with pytest.raises(BadParameter, match="a number from 0 to 2000"):
        plugin.controls[0].check(float("nan"))


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
    offer = lv2.lv2_offer()
    assert offer is not None
    amplifier = next(effect for effect in offer.effects if effect.handle == AMPLIFIER)
    (gain,) = amplifier.parameters
    assert (gain["name"], gain["least"], gain["greatest"], gain["default"]) == ("gain", -90.0, 24.0, 0.0)
    assert len(amplifier.versions[0]) == 12


@needs_plugin
@pytest.mark.parametrize(
    ("changes", "says"),
    [
        ({"values": {"gain": 60.0}}, "a number from -90 to 24"),
        ({"values": {"mood": 1.0}}, "has no control mood"),
        ({"handle": "urn:none"}, "is not installed on this machine"),
        ({"version": "0123456789ab"}, "not 0123456789ab"),
        ({"signal": np.zeros((100, 2))}, "1 audio inputs, and the signal 2 channels"),
    ],
)
def test_what_it_cannot_do_is_told(changes: dict[str, Any], says: str) -> None:
    with pytest.raises(RenderFailed) as failed:
        _render(**({"signal": np.zeros((100, 1)), "rate": 48_000, "values": {}} | changes))  # type: ignore[arg-type]
    assert says in str(failed.value)
