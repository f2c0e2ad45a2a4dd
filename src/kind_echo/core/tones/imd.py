"""Two tones at once: what they make of each other."""

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.readings import Curve, Mark, Reading, refuse, severity, silent
from kind_echo.core.tones.lines import SPREAD_DB, STANDS_OUT, LineSpectrum, line_spectra

Floats = NDArray[np.float64]

MEASURES = ("imd_smpte", "imd_smpte_percent", "imd_difference", "imd_difference_percent")
_GONE = "the test signal is not in the render"
_APART_RATIO = 8.0
_ROUNDING_AMPLITUDE = 1e-9  # −180 dBFS: lines under it are what arithmetic leaves
_MODULATION_HZ = 500.0  # Hz on either side of the upper tone in which SMPTE's side lines are looked for
_Lines = Sequence[tuple[float, ...]]  # Hz, order by order


@dataclass(frozen=True)
class _Products:
    """Relative amplitude of products, and what noise does to it in dB at 95 %; a bound where none stands out.

    `lost` lie at or above half the rate, Hz.
    """

    ratio: float
    uncertainty: float
    found: bool
    lost: tuple[float, ...] = ()


def measure_imd(source: Source, tones: tuple[float, float]) -> tuple[list[Reading], dict[str, Curve]]:
    """Intermodulation of a pair of tones, for each channel, and the greatest of them.

    Curve `products`: the tones and what they make of each other, of the first channel that holds both, each with a mark
    that names it by its order; lines that do not stand out of the floor are left out.

    Raises:
        BadParameter: the tones are the same, or one lies at or above half the rate.
    """
    low, high = sorted(tones)
    if low <= 0.0 or high >= source.rate / 2:
        raise BadParameter("tones", tones, f"above 0 and below half the rate, {source.rate / 2:g} Hz")
    if low == high:
        raise BadParameter("tones", tones, "two different frequencies")
    spectra = line_spectra(source)
    if spectra is None:
        return refuse(MEASURES, source.channels, "the file has NaN or infinite samples", "not finite"), {}
    found = [_find_tones(spectrum, low, high) for spectrum in spectra]
    asked = (low, high)
    each = [_channel(str(c + 1), spectrum, *found[c], asked) for c, spectrum in enumerate(spectra)]
    named = next(
        (_named(spectrum, pair, asked) for spectrum, (pair, _) in zip(spectra, found, strict=True) if pair), None
    )
    readings = []
    for column in zip(*each, strict=True):
        worst = max(column, key=severity)
        readings += [replace(worst, channel="all"), *column]
    return readings, {} if named is None else {"products": named}


_Pair = tuple[float, float] | None


def _find_tones(spectrum: LineSpectrum, low: float, high: float) -> tuple[_Pair, str]:
    """Both tones where they are in truth, Hz; or None and why not."""
    if not spectrum.resolves(min(low, high - low)):
        return None, "the steady part of the tones is too short"
    if not spectrum.samples.any():
        return None, _GONE
    apart = (high - low) / 4
    first, second = (spectrum.find_tone(tone, min(0.01 * tone, apart)) for tone in (low, high))
    return (None, _GONE) if first is None or second is None else ((first, second), "")


def _channel(name: str, spectrum: LineSpectrum, pair: _Pair, why: str, asked: tuple[float, float]) -> list[Reading]:
    if pair is None:
        return [Reading(key, name, None, why) for key in MEASURES]
    first, second = pair
    smpte = difference = None
    if _are_wide(asked):
        smpte = _smpte(spectrum, first, second)
    if _are_near(asked):
        difference = _difference(spectrum, first, second)
    wide = f"the tones are less than {_APART_RATIO:g}:1 apart"
    return _pair("imd_smpte", name, smpte, wide) + _pair(
        "imd_difference", name, difference, "the tones are more than an octave apart"
    )


def _are_wide(pair: tuple[float, float]) -> bool:
    return pair[1] >= _APART_RATIO * pair[0]


def _are_near(pair: tuple[float, float]) -> bool:
    return pair[1] <= 2.0 * pair[0]


def _side_lines(low: float, high: float) -> list[tuple[float, float]]:
    return [(high - k * low, high + k * low) for k in range(1, max(2, int(_MODULATION_HZ / low)) + 1)]


def _difference_lines(low: float, high: float) -> list[tuple[float, ...]]:
    return [(high - low,), (2 * low - high, 2 * high - low)]


def _named(spectrum: LineSpectrum, pair: tuple[float, float], asked: tuple[float, float]) -> Curve:
    """Levels of the tones and of each product that stands out, dBFS, with the name of each."""
    low, high = pair
    lines = {"f₁": low, "f₂": high}
    if _are_wide(asked):
        for k, (below, above) in enumerate(_side_lines(low, high), start=1):
            many = "" if k == 1 else str(k)
            lines |= {f"f₂ − {many}f₁": below, f"f₂ + {many}f₁": above}
    if _are_near(asked):
        (second,), (below, above) = _difference_lines(low, high)
        lines |= {"f₂ − f₁": second, "2f₁ − f₂": below, "2f₂ − f₁": above}
    inside = {name: f for name, f in lines.items() if spectrum.lobe < f < spectrum.rate / 2 - spectrum.lobe}
    taken = np.array(list(inside.values()))
    there = []
    for (name, f), amplitude in zip(inside.items(), spectrum.amplitudes(taken), strict=True):
        if amplitude > _ROUNDING_AMPLITUDE and amplitude > STANDS_OUT * spectrum.floor(f, taken):
            there.append((f, 20 * math.log10(amplitude), name))
    there.sort()
    marks = tuple(Mark(f, name) for f, _, name in there)
    return Curve("Hz", "dBFS", [f for f, _, _ in there], [level for _, level, _ in there], marks)


def _smpte(spectrum: LineSpectrum, low: float, high: float) -> _Products:
    """RMS sum of the side lines of the upper tone. Source: SMPTE RP 120."""
    pairs = _side_lines(low, high)
    orders = _orders(spectrum, pairs, (low, high))
    found = any(order.found for order in orders)
    counted = [order for order in orders if order.found or not found]
    amplitudes = np.concatenate([order.amplitudes for order in counted])
    floors = np.concatenate([order.floors for order in counted])
    square = float(amplitudes @ amplitudes)
    spread = SPREAD_DB * float(np.linalg.norm(amplitudes * floors)) / square if square > 0.0 else 0.0
    return _Products(math.sqrt(square) / spectrum.amplitude(high), spread, found, _lost(spectrum, pairs))


def _difference(spectrum: LineSpectrum, low: float, high: float) -> _Products:
    """Second and third order, each re the sum of both tones. Source: IEC 60268-3, difference-frequency distortion."""
    both = spectrum.amplitude(low) + spectrum.amplitude(high)
    lines = _difference_lines(low, high)
    orders = _orders(spectrum, lines, (low, high))
    found = any(order.found for order in orders)
    counted = [order for order in orders if order.found or not found]
    sums = np.array([order.amplitudes.sum() for order in counted])
    floors = np.array([np.linalg.norm(order.floors) for order in counted])
    square = float(sums @ sums)
    spread = SPREAD_DB * float(np.linalg.norm(sums * floors)) / square if square > 0.0 else 0.0
    return _Products(math.sqrt(square) / both, spread, found, _lost(spectrum, lines))


@dataclass(frozen=True)
class _Order:
    """Amplitudes of the lines of one order, and the floors that they stand on.

    They come together: where one stands out, all are taken as measured; where none does, each is its bound.
    """

    amplitudes: Floats
    floors: Floats
    found: bool


def _orders(spectrum: LineSpectrum, lines: _Lines, tones: tuple[float, float]) -> list[_Order]:
    inside = [[f for f in at if spectrum.lobe < f < spectrum.rate / 2 - spectrum.lobe] for at in lines]
    taken = np.array([*tones, *itertools.chain(*inside)])
    orders = []
    for at in inside:
        measured = spectrum.amplitudes(np.array(at))
        floors = np.array([spectrum.floor(f, taken) for f in at])
        found = bool(np.any((measured > STANDS_OUT * floors) & (measured > 0.0)))
        orders.append(_Order(measured if found else STANDS_OUT * floors, floors, found))
    return orders


def _lost(spectrum: LineSpectrum, orders: _Lines) -> tuple[float, ...]:
    return tuple(f for order in orders for f in order if f >= spectrum.rate / 2 - spectrum.lobe)


def _pair(key: str, name: str, products: _Products | None, why: str) -> list[Reading]:
    keys = (key, f"{key}_percent")
    if products is None:
        return [Reading(one, name, None, why) for one in keys]
    if products.ratio <= 0.0:
        return [silent(one, name) for one in keys]
    values = (20 * math.log10(products.ratio), 100 * products.ratio)
    if not products.found:
        nothing = "no product stands out of the floor"
        return [Reading(one, name, None, nothing, at_most=value) for one, value in zip(keys, values, strict=True)]
    lost = ", ".join(f"{f:g} Hz" for f in products.lost)
    note = f"without {lost}: not below half the rate" if lost else None
    return [
        Reading(key, name, values[0], note, products.uncertainty),
        Reading(f"{key}_percent", name, values[1], note, values[1] * (10 ** (products.uncertainty / 20) - 1)),
    ]
