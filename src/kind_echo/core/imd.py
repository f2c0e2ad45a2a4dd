"""Two tones at once: what they make of each other."""

import math
from dataclasses import dataclass

import numpy as np

from kind_echo.core.errors import BadParameter
from kind_echo.core.lines import STANDS_OUT, LineSpectrum, line_spectra
from kind_echo.core.readings import Reading
from kind_echo.core.source import Source

MEASURES = ("imd_smpte", "imd_smpte_percent", "imd_difference", "imd_difference_percent")
_GONE = "the test signal is not in the render"
_APART = 8.0
_MODULATION = 500.0  # Hz on either side of the upper tone in which SMPTE's side lines are looked for


@dataclass(frozen=True)
class _Products:
    """Relative amplitude of products; `bound` where none stands out."""

    ratio: float
    found: bool


def measure_imd(source: Source, tones: tuple[float, float]) -> list[Reading]:
    """Intermodulation of a pair of tones, for each channel, and the greatest of them.

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
        names = ["all", *(str(c + 1) for c in range(source.channels))]
        return [Reading(key, name, None, "the file has NaN or infinite samples") for key in MEASURES for name in names]
    each = [_channel(str(c + 1), spectrum, low, high) for c, spectrum in enumerate(spectra)]
    readings = []
    for i, key in enumerate(MEASURES):
        column = [channel[i] for channel in each]
        worst = max(column, key=_rank)
        readings += [Reading(key, "all", worst.value, worst.why, None, worst.at_most), *column]
    return readings


def _rank(reading: Reading) -> tuple[int, float]:
    if reading.value is not None:
        return 2, reading.value
    return (1, reading.at_most) if reading.at_most is not None else (0, 0.0)


def _channel(name: str, spectrum: LineSpectrum, low: float, high: float) -> list[Reading]:
    if spectrum.lobe * 2 > min(low, high - low):
        return [Reading(key, name, None, "the steady part of the tones is too short") for key in MEASURES]
    reach = min(0.01 * low, (high - low) / 4)
    first = spectrum.find_tone(low, reach) if spectrum.samples.any() else None
    second = spectrum.find_tone(high, min(0.01 * high, (high - low) / 4)) if spectrum.samples.any() else None
    if first is None or second is None:
        return [Reading(key, name, None, _GONE) for key in MEASURES]
    smpte = difference = None
    if high >= _APART * low:
        smpte = _smpte(spectrum, first, second)
    if high <= 2 * low:
        difference = _difference(spectrum, first, second)
    wide = f"the tones are less than {_APART:g}:1 apart"
    return _pair("imd_smpte", name, smpte, wide) + _pair(
        "imd_difference", name, difference, "the tones are more than an octave apart"
    )


def _smpte(spectrum: LineSpectrum, low: float, high: float) -> _Products:
    """RMS sum of the side lines of the upper tone. Source: SMPTE RP 120."""
    count = max(2, int(_MODULATION / low))
    at = [high + sign * k * low for k in range(1, count + 1) for sign in (-1, 1)]
    amplitudes = _amplitudes(spectrum, at, low, high)
    upper = spectrum.amplitude(high)
    found = [a for a, present in amplitudes if present]
    return _Products(math.sqrt(sum(a * a for a in found or [b for b, _ in amplitudes])) / upper, bool(found))


def _difference(spectrum: LineSpectrum, low: float, high: float) -> _Products:
    """Second and third order, each re the sum of both tones. Source: IEC 60268-3, difference-frequency distortion."""
    both = spectrum.amplitude(low) + spectrum.amplitude(high)
    second = _amplitudes(spectrum, [high - low], low, high)
    third = _amplitudes(spectrum, [2 * low - high, 2 * high - low], low, high)
    found = any(present for _, present in second + third)
    order2, order3 = (sum(a for a, present in order if present or not found) / both for order in (second, third))
    return _Products(math.hypot(order2, order3), found)


def _amplitudes(spectrum: LineSpectrum, at: list[float], low: float, high: float) -> list[tuple[float, bool]]:
    """Amplitude of each line below half the rate and whether it stands out; the bound where it does not."""
    inside = [f for f in at if spectrum.lobe < f < spectrum.rate / 2 - spectrum.lobe]
    taken = np.array([low, high, *inside])
    result = []
    for frequency in inside:
        amplitude, floor = spectrum.amplitude(frequency), spectrum.floor(frequency, taken)
        present = amplitude > STANDS_OUT * floor and amplitude > 0.0
        result.append((amplitude if present else STANDS_OUT * floor, present))
    return result


def _pair(key: str, name: str, products: _Products | None, why: str) -> list[Reading]:
    if products is None:
        return [Reading(key, name, None, why), Reading(f"{key}_percent", name, None, why)]
    if products.ratio <= 0.0:
        return [Reading(k, name, None, "digital silence", at_most=-math.inf) for k in (key, f"{key}_percent")]
    level = 20 * math.log10(products.ratio)
    if not products.found:
        nothing = "no product stands out of the floor"
        return [
            Reading(key, name, None, nothing, at_most=level),
            Reading(f"{key}_percent", name, None, nothing, at_most=100 * products.ratio),
        ]
    return [Reading(key, name, level), Reading(f"{key}_percent", name, 100 * products.ratio)]
