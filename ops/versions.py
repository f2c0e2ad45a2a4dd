"""Results of every family of measures on a fixed set of sounds, and the check that none changes behind its version.

`python -m ops.versions` keeps the results of families that are new, and of those whose version was raised.
"""

import json
import math
from collections.abc import Callable
from functools import cache
from typing import Any

import numpy as np

from kind_echo.core.audio.folding import fold
from kind_echo.core.audio.source import ArraySource, Samples
from kind_echo.core.comparison.compare import compare
from kind_echo.core.comparison.pair import CompareOptions
from kind_echo.core.comparison.takes import take_readings
from kind_echo.core.levels.analysis import measure
from kind_echo.core.levels.cost import cost_readings
from kind_echo.core.levels.hosting import HostedBlocks, hosting_readings
from kind_echo.core.listening.blind import listening_readings
from kind_echo.core.listening.lossy import measure_lossy
from kind_echo.core.listening.match import match_level
from kind_echo.core.registry.readings import Reading
from kind_echo.core.registry.versions import FAMILY_VERSIONS, SIGNAL_VERSION
from kind_echo.core.signals import SignalRequest, all_kinds, make_request, synthesise
from kind_echo.core.systems.dynamics import measure_dynamics
from kind_echo.core.systems.latency import LatencyOptions, measure_latency
from kind_echo.core.systems.law import measure_law
from kind_echo.core.systems.response import measure_response
from kind_echo.core.systems.transfer import ExpectedCurve, measure_curve
from kind_echo.core.tones.alias_sweep import measure_alias_sweep
from kind_echo.core.tones.imd import measure_imd
from kind_echo.core.tones.tone import ToneOptions, measure_tone
from ops.stack import PROJECT

KEPT = PROJECT / "tests" / "core" / "kept_results.json"
"""What each family gave when its version was raised last."""

_RATE = 48_000
_RELATIVE, _ABSOLUTE = 1e-4, 1e-5
"""How far results may lie apart on processors that add up in another order."""

_UNDER = CompareOptions(ceiling=-20.0)

Results = dict[str, float | None]


@cache
def results() -> dict[str, Results]:
    """All readings of the fixed set by family, those of the signals under "signals"."""
    found: dict[str, Results] = {}
    for name, made in _sets().items():
        for reading in made():
            family = reading.of.family
            found.setdefault(family, {})[f"{name}: {reading.measure} {reading.channel}"] = _finite(reading)
    found["signals"] = {
        f"{kind}: {what}": value
        for kind in all_kinds()
        for what, value in _fingerprint(synthesise(_request(kind), _RATE)).items()
    }
    return found


def versions() -> dict[str, int]:
    """The versions that hold now, the signals' among them."""
    return {str(family): number for family, number in FAMILY_VERSIONS.items()} | {"signals": SIGNAL_VERSION}


def changed(kept: Results, now: Results) -> list[str]:
    """What is not as it was, a line each."""
    lines = [f"{key}: it is not there any more" for key in kept if key not in now]
    for key, value in now.items():
        before = kept.get(key)
        if key not in kept:
            lines.append(f"{key}: it was not there")
        elif (value is None) != (before is None):
            lines.append(f"{key}: {before} has become {value}")
        elif value is not None and before is not None and not _near(value, before):
            lines.append(f"{key}: {before:.9g} has become {value:.9g}")
    return lines


def stale(document: dict[str, Any]) -> list[str]:
    """Families whose results changed and whose version did not; a line each for what changed first."""
    said = []
    now, held = results(), versions()
    for family, found in now.items():
        kept = document.get(family)
        if kept is None or kept["version"] != held[family]:
            said.append(f"{family}: its results are not kept for version {held[family]}; run 'python -m ops.versions'")
            continue
        lines = changed(kept["results"], found)
        if lines:
            said.append(
                f"{family}: raise its version in core/registry/versions.py, for {len(lines)} results changed; "
                f"{lines[0]}"
            )
    return said


def read() -> dict[str, Any]:
    """What is kept."""
    document: dict[str, Any] = json.loads(KEPT.read_text()) if KEPT.exists() else {}
    return document


def main() -> None:
    """Keep results; those of a family that changed without its version are refused."""
    document, now, held = read(), results(), versions()
    refused = []
    for family, found in now.items():
        kept = document.get(family)
        if kept is not None and kept["version"] == held[family] and changed(kept["results"], found):
            refused.append(family)
            continue
        document[family] = {"version": held[family], "results": found}
    KEPT.write_text(json.dumps(dict(sorted(document.items())), indent=1, ensure_ascii=False) + "\n")
    if refused:
        raise SystemExit(f"Not kept, for their results changed and their version did not: {', '.join(refused)}.")


class _Coarse:
    """Stands for an encoder, whose own version would decide the results: rounds to 5 bits."""

    rate = _RATE

    def round_trip(self, samples: Samples) -> Samples:
        """Samples in steps of a sixteenth."""
        return np.round(samples * 16) / 16 * 1.02


def _sets() -> dict[str, Callable[[], list[Reading]]]:
    rng = np.random.default_rng(1)
    noise = rng.normal(size=(3 * _RATE, 2)) * 0.1
    late = np.concatenate([np.zeros((17, 2)), noise[:-17]]) * -0.9
    bent = np.tanh(2.0 * noise) / 2.0
    tone = _made("tone", seconds=1.0, frequency=2220.0)
    sweep = _made("sweep", seconds=2.0, start=20.0, end=20_000.0)
    smooth = np.apply_along_axis(lambda x: np.convolve(x, [0.25, 0.5, 0.25])[1:-1], 0, sweep)
    clicks, stairs, burst = _made("clicks", seconds=4.0), _made("staircase", climb=6.0), _made("burst", seconds=1.5)
    later = np.roll(clicks, 33, axis=0)
    steps = _made("steps", per_octave=1.0, step_seconds=0.2)
    pair = _made("pair", frequency=60.0, second=7000.0)
    loud = np.where(np.abs(burst) > 0.2, np.sign(burst) * (0.2 + (np.abs(burst) - 0.2) / 4), burst)
    squeezed = np.sign(stairs) * np.minimum(np.abs(stairs), 0.1 + 0.2 * np.maximum(np.abs(stairs) - 0.1, 0.0))
    return {
        "noise": lambda: measure(_source(noise)),
        "late, inverted, softer": lambda: compare(_source(noise), _source(late), _UNDER).readings,
        "bent": lambda: compare(_source(noise), _source(bent)).readings,
        "takes": lambda: take_readings([_source(noise), _source(noise + 1e-4 * bent)]),
        "clipped tone": lambda: measure_tone(_source(np.clip(tone, -0.3, 0.3)), ToneOptions(2220.0))[0],
        "clipped pair": lambda: measure_imd(_source(np.clip(pair, -0.3, 0.3)), (60.0, 7000.0))[0],
        "clipped steps": lambda: measure_alias_sweep(_source(steps), _source(np.clip(steps, -0.3, 0.3)))[0],
        "smoothed sweep": lambda: measure_response(_source(sweep), _source(smooth))[0],
        "late clicks": lambda: measure_latency(_source(clicks), _source(later), LatencyOptions(30))[0],
        "squeezed stairs": lambda: measure_curve(_source(stairs), _source(squeezed))[0],
        "squeezed burst": lambda: measure_dynamics(_source(burst), _source(loud))[0],
        "clipped tone and a law": lambda: measure_law(
            _source(tone), _source(np.clip(tone, -0.3, 0.3)), ExpectedCurve(-20.0, 4.0), 2220.0
        ),
        "coarse": lambda: measure_lossy(_source(noise * 5), _Coarse())[0],
        "match": lambda: match_level(_source(noise), -23.0, "loudness_integrated").readings,
        "odds": lambda: listening_readings(18, 25),
        "fold": lambda: [Reading("fold_frequency", "all", fold(24_420.0, 48_000))],
        "cost": lambda: cost_readings(3.0, 1.5, 1.0, 20.0),
        "hosting": lambda: hosting_readings(HostedBlocks(0.2, 0.003, 0.001, 0.002, 0.003, 1.1, False), noise, _RATE),
    }  # fmt: skip


def _made(kind: str, **asked: Any) -> Samples:
    return synthesise(make_request(kind, **asked), _RATE)


def _request(kind: str) -> SignalRequest:
    return make_request(kind, seconds=1.0, per_octave=2.0, order=12)


def _fingerprint(samples: Samples) -> Results:
    """What tells one sound from another in four figures."""
    walk = samples[:: max(1, len(samples) // 1000), 0]
    return {
        "frames": float(len(samples)), "power": float(np.mean(samples**2)), "peak": float(np.abs(samples).max()),
        "shape": float(walk @ np.cos(np.arange(len(walk)) * 0.37)),
    }  # fmt: skip


def _source(samples: Samples) -> ArraySource:
    return ArraySource(np.ascontiguousarray(samples), _RATE)


def _finite(reading: Reading) -> float | None:
    return None if reading.value is None or not math.isfinite(reading.value) else round(float(reading.value), 9)


def _near(one: float, other: float) -> bool:
    return abs(one - other) <= max(_ABSOLUTE, _RELATIVE * abs(other))


if __name__ == "__main__":
    main()
