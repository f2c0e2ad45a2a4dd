"""How often the truth lies within the uncertainty that is stated: known changes in noise, drawn many times.

`python -m benchmarks.coverage [--draws 40] [--only late] [--colours white pink brown]` prints a row for each measure,
material and signal-to-noise ratio. Wanted: 93 to 99 %, as far as so few draws can tell.
"""

import argparse
import collections
import concurrent.futures
from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np
from tests.support.material import PIECES, load
from tests.support.planted import Samples, drifting, scaled, shifted

from kind_echo.core.audio.source import ArraySource
from kind_echo.core.comparison.compare import compare
from kind_echo.core.registry.readings import Reading
from kind_echo.core.signals import make_request, synthesise
from kind_echo.core.systems.response import measure_response
from kind_echo.core.systems.transfer import ExpectedCurve, measure_curve
from kind_echo.core.tones.tone import ToneOptions, measure_tone

RATE = 48_000
RATIOS = (10.0, 20.0, 30.0, 40.0, 50.0, 60.0)
"""dB of signal to noise."""

_SOUNDS = ("arcade music", "title music", "guitar", "piano", "oboe", "alarm clock")
COLOURS = {"white": 0.0, "pink": 0.5, "brown": 1.0}
"""Of noise: the power of frequency, to minus one, of its amplitude; −3 and −6 dB an octave."""

_SECONDS = 4
_LATE, _LOUDER, _SLOWER = 7.4, -1.3, 20.0  # samples, dB, ppm
_TONES = {"60.3 Hz": 60.3, "997 Hz": 997.0, "9 kHz": 9000.1}
_EXPECTED, _REAL = ExpectedCurve(-25.0, 4.0, 6.0, 2.0), ExpectedCurve(-25.3, 4.2, 6.0, 2.0)


@dataclass(frozen=True)
class Case:
    """A render without noise, how the two sides are measured, and the truth by measure."""

    x: Samples
    y: Samples
    truth: dict[str, float]
    measure: Callable[[ArraySource, ArraySource], Iterable[Reading]]


def _sound(name: str) -> Samples:
    return load(next(piece for piece in PIECES if piece.name == name), RATE)[: _SECONDS * RATE]


def _late(name: str) -> Case:
    x = _sound(name)
    y = scaled(_LOUDER)(shifted(_LATE)(x, RATE), RATE)
    truth = {"delay": _LATE, "gain": _LOUDER, "delay_drift": 0.0}
    return Case(x, y, truth, lambda a, b: compare(a, b).readings)


def _slow(name: str) -> Case:
    x = _sound(name)
    y = scaled(_LOUDER)(drifting(_SLOWER)(x, RATE), RATE)
    return Case(x, y, {"gain": _LOUDER, "delay_drift": _SLOWER}, lambda a, b: compare(a, b).readings)


def _response(name: str) -> Case:
    x = _sound(name)
    return Case(x, scaled(_LOUDER)(x, RATE), {"gain_1k": _LOUDER}, lambda a, b: measure_response(a, b)[0])


def _tone(name: str) -> Case:
    frequency = _TONES[name]
    x = 0.5 * np.sin(2 * np.pi * frequency * np.arange(RATE) / RATE + 0.4)[:, np.newaxis]
    truth = {"fundamental_frequency": frequency, "fundamental_level": 20 * np.log10(0.5)}
    return Case(x, x, truth, lambda _, b: measure_tone(b, ToneOptions(frequency))[0])


def _curve(_: str) -> Case:
    x = synthesise(make_request("staircase", frequency=1000, level=0), RATE)
    steps = np.repeat(np.arange(-60, 0.1, 2.0), RATE // 2)[: len(x)]
    x = x[: len(steps)]
    y = x * 10 ** ((_REAL.level(steps) - steps) / 20)[:, np.newaxis]

    def measure(a: ArraySource, b: ArraySource) -> list[Reading]:
        return measure_curve(a, b, _EXPECTED)[0]

    found = {
        one.measure: one.value for one in measure(ArraySource(x, RATE), ArraySource(y, RATE)) if one.channel == "all"
    }
    truth = {key: found[key] or 0.0 for key in ("curve_error_worst", "curve_error_rms", "gain_below_threshold")}
    estimates = {"threshold_estimate": _REAL.threshold, "ratio_estimate": _REAL.ratio, "knee_estimate": _REAL.knee}
    return Case(x, y, truth | estimates, measure)


KINDS: dict[str, tuple[Callable[[str], Case], tuple[str, ...]]] = {
    "late": (_late, _SOUNDS),
    "slow": (_slow, _SOUNDS),
    "response": (_response, _SOUNDS),
    "tone": (_tone, tuple(_TONES)),
    "curve": (_curve, ("staircase",)),
}
"""What is planted, and in which material."""


def _noise(rng: np.random.Generator, shape: tuple[int, ...], colour: str) -> Samples:
    """Noise of that colour from 20 Hz on, at an RMS of 1 in all."""
    spectrum = np.fft.rfft(rng.standard_normal(shape), axis=0)
    least = 20.0 * shape[0] / RATE  # in bins
    spectrum /= np.maximum(np.arange(len(spectrum)), least)[:, np.newaxis] ** COLOURS[colour]
    noise = np.fft.irfft(spectrum, shape[0], axis=0)
    return np.asarray(noise / np.sqrt(np.mean(noise**2)))


def draw(kind: str, material: str, ratio: float, draws: int, colour: str = "white") -> dict[str, tuple[int, float]]:
    """For each measure, how many draws had a reading with an uncertainty, and the share of them that held the truth."""
    case = KINDS[kind][0](material)
    rng = np.random.default_rng(round(ratio))
    level = 10 ** (-ratio / 20) * float(np.sqrt(np.mean(case.y**2)))
    told: dict[str, list[bool]] = {measure: [] for measure in case.truth}
    for _ in range(draws):
        noisy = np.ascontiguousarray(case.y + level * _noise(rng, case.y.shape, colour))
        for one in case.measure(ArraySource(case.x, RATE), ArraySource(noisy, RATE)):
            wanted = case.truth.get(one.measure)
            if one.channel == "all" and wanted is not None and one.value is not None and one.uncertainty is not None:
                told[one.measure].append(abs(one.value - wanted) <= one.uncertainty)
    return {measure: (len(held), float(np.mean(held)) if held else 0.0) for measure, held in told.items()}


def main() -> None:
    """Draw all cells and print how often each measure's truth lay within its uncertainty."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--draws", type=int, default=40)
    parser.add_argument("--only", choices=tuple(KINDS))
    parser.add_argument("--colours", choices=tuple(COLOURS), nargs="*", default=["white"])
    asked = parser.parse_args()
    kinds = (asked.only,) if asked.only else tuple(KINDS)
    cells = [
        (kind, material, ratio, asked.draws, colour)
        for kind in kinds
        for material in KINDS[kind][1]
        for colour in asked.colours
        for ratio in RATIOS
    ]
    shares: dict[str, list[float]] = collections.defaultdict(list)
    with concurrent.futures.ProcessPoolExecutor() as pool:
        found = [pool.submit(draw, *cell) for cell in cells]
        for (kind, material, ratio, _, colour), future in zip(cells, found, strict=True):
            for measure, (told, within) in future.result().items():
                name = f"{kind} {measure} {colour}"
                print(f"{name:30} {material:14} {ratio:3.0f} dB {told:4} told {within:7.1%} within", flush=True)
                if told:
                    shares[name].append(within)
    print()
    for name, each in shares.items():
        print(f"{name:30} {np.mean(each):6.1%} within, {min(each):.0%} to {max(each):.0%} in {len(each)} cells")


if __name__ == "__main__":
    main()
