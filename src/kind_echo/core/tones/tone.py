"""A steady tone through an effect: its harmonics, its aliases, and the noise between them."""

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.folding import fold_path
from kind_echo.core.audio.source import Source
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Curve, Reading, level, refuse, severity
from kind_echo.core.tones.folded import DEEPEST, Line, close_aliases, folded_lines
from kind_echo.core.tones.lines import (
    FREQUENCY_SPREAD,
    SPREAD_DB,
    STANDS_OUT,
    LineSpectrum,
    Power,
    line_spectra,
    strongest_line,
)

Floats = NDArray[np.float64]

HARMONICS = tuple(f"harmonic_{n}" for n in range(2, 11))
MEASURES = (
    "fundamental_frequency", "fundamental_level", *HARMONICS, "thd", "thd_percent", "thd_n", "noise_floor",
    "spurious_level", "spurious_frequency", "alias_first_level", "alias_first_frequency", "alias_first_order",
    "alias_worst_level", "alias_worst_frequency", "alias_worst_order", "alias_total",
)  # fmt: skip
_GONE = "the test signal is not in the render"
_NO_ROOM = "no room between the known lines"
_NO_ALIAS = "no alias stands out of the floor"
_LAST_ORDERS_SHARE = 0.9  # of the orders looked for, over which they are the last
_NOISE_POWER_SHARE = 0.01  # that they have of what lies between the lines, from which those that follow matter
_PATH_ORDERS = 48  # down to which the path of the orders is drawn though none stands out


@dataclass(frozen=True)
class ToneOptions:
    """What is looked for.

    Attributes:
        frequency: of the tone, in Hz; None for the strongest line of the file.
        band: of noise, distortion and noise, and spurious lines, in Hz.
        orders: highest order of aliases.
    """

    frequency: float | None = None
    band: tuple[float, float] = (20.0, 20_000.0)
    orders: int = 100

    def check(self, rate: int) -> None:
        """Raises BadParameter for a frequency that the rate does not carry, an empty band, or odd orders."""
        if self.frequency is not None and not 0.0 < self.frequency < rate / 2:
            raise BadParameter("frequency", self.frequency, f"above 0 and below half the rate, {rate / 2:g} Hz")
        if not 0.0 <= self.band[0] < self.band[1]:
            raise BadParameter("band", self.band, "from a lower to a higher frequency")
        if not 2 <= self.orders <= 10_000:
            raise BadParameter("orders", self.orders, "from 2 to 10000")


@dataclass(frozen=True)
class ToneAnalysis:
    """One channel. Amplitudes are peaks; `noise` and `rest` are mean squares.

    Attributes:
        frequency_uncertainty: Hz at 95 %.
        floor: greatest amplitude around the fundamental.
        harmonics, aliases: all that can be told apart.
        left_out: aliases that fall on another line.
        hidden: of these, those that may be as loud as what they fall on, which is no alias of a lower order.
        orders: highest order of aliases that were looked for.
        rest: all but the fundamental in the band; None where nothing of the band is clear of it.
        noise: all that is no known line in the band; None where nothing of the band is clear of these.
        spurious: frequency, amplitude and floor of the greatest unknown line.
    """

    frequency: float
    frequency_uncertainty: float
    amplitude: float
    floor: float
    harmonics: list[Line]
    aliases: list[Line]
    left_out: int
    hidden: list[Line]
    orders: int
    rest: Power | None
    noise: Power | None
    spurious: tuple[float, float, float] | None


def analyse_channel(spectrum: LineSpectrum, options: ToneOptions) -> ToneAnalysis | None:
    """The lines of one channel; None where the tone is not there."""
    if not spectrum.samples.any():
        return None
    assert options.frequency is not None
    frequency = spectrum.find_tone(options.frequency)
    if frequency is None:
        return None
    half = spectrum.rate / 2
    harmonic = [n * frequency for n in range(1, int(half / frequency) + 2) if n * frequency < half - spectrum.lobe]
    aliases, clashing, taken = folded_lines(spectrum, frequency, harmonic, options.orders)
    amplitude = spectrum.amplitude(frequency)

    def measured(expected: list[tuple[int, float]]) -> list[Line]:
        heights = spectrum.amplitudes(np.array([at for _, at in expected]))
        least = DEEPEST * amplitude
        return [
            Line(order, at, float(height), max(least, spectrum.floor(at, taken)))
            for (order, at), height in zip(expected, heights, strict=True)
        ]

    low, high = options.band[0], min(options.band[1], half)
    lines = measured([(n + 2, at) for n, at in enumerate(harmonic[1:])])
    apart, hidden = close_aliases(spectrum, clashing, aliases, harmonic)
    folded = sorted([*measured(aliases), *apart], key=lambda line: line.order)
    greatest = spectrum.greatest(low, high, taken)
    spurious = None
    if greatest is not None:
        around = max(DEEPEST * amplitude, spectrum.floor(greatest[0], np.append(taken, greatest[0])))
        spurious = (greatest[0], greatest[1], around)
    floor = max(DEEPEST * amplitude, spectrum.floor(frequency, taken))
    return ToneAnalysis(
        frequency,
        FREQUENCY_SPREAD * floor / amplitude * spectrum.spacing,
        amplitude,
        floor,
        lines,
        folded,
        len(clashing) - len(apart),
        hidden,
        options.orders,
        spectrum.mean_square(low, high, np.array([frequency])),
        spectrum.mean_square(low, high, taken),
        spurious,
    )


def measure_tone(source: Source, options: ToneOptions = ToneOptions()) -> tuple[list[Reading], dict[str, Curve]]:
    """All tone measures of a file, and its lines as curves.

    Over all channels: of levels the greatest, with the frequency and order that belong to it; of the fundamental the
    strongest.

    Raises:
        BadParameter: the options do not fit the rate.
    """
    options.check(source.rate)
    channels = source.channels
    spectra = line_spectra(source)
    if spectra is None:
        return refuse(MEASURES, channels, "the file has NaN or infinite samples", "not finite"), {}
    asked = strongest_line(spectra) if options.frequency is None else options.frequency
    if asked is None:
        return refuse(MEASURES, channels, "no line stands out of the file, so that there is no tone"), {}
    options = replace(options, frequency=asked)
    if not spectra[0].resolves(asked):
        return refuse(MEASURES, channels, "the steady part of the tone is too short"), {}
    found = [analyse_channel(spectrum, options) for spectrum in spectra]
    each = [
        tone_readings(str(c + 1), one) if one is not None else [Reading(m, str(c + 1), None, _GONE) for m in MEASURES]
        for c, one in enumerate(found)
    ]
    overall = _overall(each, found)
    by_key = {key: [overall[i], *(channel[i] for channel in each)] for i, key in enumerate(MEASURES)}
    strongest = max((one for one in found if one is not None), key=lambda one: one.amplitude, default=None)
    curves = {} if strongest is None else _curves(strongest, source.rate)
    return [reading for key in MEASURES for reading in by_key[key]], curves


def tone_readings(channel: str, found: ToneAnalysis) -> list[Reading]:
    """The readings of one channel, in the order of MEASURES."""
    readings = [
        Reading("fundamental_frequency", channel, found.frequency, None, found.frequency_uncertainty),
        Reading("fundamental_level", channel, _db(found.amplitude), None, SPREAD_DB * found.floor / found.amplitude),
    ]
    by_order = {line.order: line for line in found.harmonics}
    readings += [_harmonic(n, channel, by_order.get(n), found) for n in range(2, 11)]
    readings += _distortion(channel, found)
    readings.append(_between("thd_n", channel, found.rest, found.amplitude))
    readings.append(_between("noise_floor", channel, found.noise, 1.0).noted(_beyond_orders(found)))
    return readings + _spurious(channel, found) + _aliases(channel, found)


def _beyond_orders(found: ToneAnalysis) -> str | None:
    """What beside a noise floor says that aliases of still higher orders are part of it, where the last stand out."""
    last = [line for line in found.aliases if line.found and line.order > _LAST_ORDERS_SHARE * found.orders]
    power = sum(line.amplitude**2 for line in last) / 2
    if found.noise is None or power <= _NOISE_POWER_SHARE * found.noise.mean_square:
        return None
    loudest = number(_db(max(line.amplitude for line in last)), ".0f")
    return f"aliases over order {found.orders} are part of it: those just under stand at {loudest} dBFS"


def _harmonic(n: int, channel: str, line: Line | None, found: ToneAnalysis) -> Reading:
    key = f"harmonic_{n}"
    if line is None:
        return Reading(key, channel, None, "at or above half the rate")
    if line.found:
        return Reading(key, channel, _db(line.amplitude / found.amplitude), None, line.uncertainty)
    return _bound(key, channel, STANDS_OUT * line.floor / found.amplitude, "it does not stand out of the floor")


def _distortion(channel: str, found: ToneAnalysis) -> list[Reading]:
    if not found.harmonics:
        why = "no harmonic lies below half the rate"
        return [Reading(key, channel, None, why) for key in ("thd", "thd_percent")]
    present = [line for line in found.harmonics if line.found]
    if not present:
        why = "no harmonic stands out of the floor"
        bound = math.sqrt(sum((STANDS_OUT * line.floor) ** 2 for line in found.harmonics)) / found.amplitude
        return [_bound("thd", channel, bound, why), Reading("thd_percent", channel, None, why, at_most=100 * bound)]
    total, uncertainty = _power_sum(present)
    percent = 100 * total / found.amplitude
    return [
        Reading("thd", channel, _db(total / found.amplitude), None, uncertainty),
        Reading("thd_percent", channel, percent, None, percent * (10 ** (uncertainty / 20) - 1)),
    ]


def _power_sum(lines: list[Line]) -> tuple[float, float]:
    """The peak of one sine of as much power, and the uncertainty of its level, in dB."""
    power = sum(line.amplitude**2 for line in lines)
    spread = math.hypot(*(line.amplitude * line.floor for line in lines)) / power
    return math.sqrt(power), SPREAD_DB * spread


def _spurious(channel: str, found: ToneAnalysis) -> list[Reading]:
    keys = ("spurious_level", "spurious_frequency")
    if found.spurious is None:
        return [Reading(key, channel, None, _NO_ROOM) for key in keys]
    frequency, amplitude, floor = found.spurious
    if amplitude > STANDS_OUT * floor and amplitude > 0.0:
        uncertainty = SPREAD_DB * floor / amplitude
        return [Reading(keys[0], channel, _db(amplitude), None, uncertainty), Reading(keys[1], channel, frequency)]
    why = "no other line stands out of the floor"
    return [_bound(keys[0], channel, STANDS_OUT * max(floor, amplitude), why), Reading(keys[1], channel, None, why)]


def _aliases(channel: str, found: ToneAnalysis) -> list[Reading]:
    keys = MEASURES[-7:]
    note = f"{found.left_out} that fall on another line left out" if found.left_out else None
    present = [line for line in found.aliases if line.found]
    hiding = max(found.hidden, key=lambda line: line.amplitude, default=None)
    if not found.aliases and hiding is None:
        why = "no alias can be told apart from other lines" if found.left_out else "no order lies above half the rate"
        return [Reading(key, channel, None, why).noted(note) for key in keys]
    if not present:
        bounds = [STANDS_OUT * line.floor for line in found.aliases] + [line.amplitude for line in found.hidden]
        worst, total = _db(max(bounds)), _db(math.hypot(*bounds))
        why = f"{_NO_ALIAS} at {number(worst, '.0f')} dBFS"
        at_most = {"alias_first_level": worst, "alias_worst_level": worst, "alias_total": total}
        return [Reading(key, channel, None, why, at_most=at_most.get(key)).noted(note) for key in keys]
    first = min(present, key=lambda line: line.order)
    greatest = max(present, key=lambda line: line.amplitude)
    total, uncertainty = _power_sum(present)
    values = (
        (_db(first.amplitude), first.uncertainty), (first.frequency, None), (float(first.order), None),
        (_db(greatest.amplitude), greatest.uncertainty), (greatest.frequency, None), (float(greatest.order), None),
        (_db(total), uncertainty),
    )  # fmt: skip
    readings = [Reading(key, channel, value, None, spread) for key, (value, spread) in zip(keys, values, strict=True)]
    if hiding is not None and hiding.amplitude > greatest.amplitude:
        # What falls on a greater line may be the worst.
        words = f"order {hiding.order} falls on another line, of {number(_db(hiding.amplitude), '.1f')} dBFS"
        most = {keys[3]: _db(hiding.amplitude), keys[6]: _db(math.hypot(total, *(h.amplitude for h in found.hidden)))}
        readings[3:] = [Reading(key, channel, None, words, at_most=most.get(key)) for key in keys[3:]]
    if any(line.order < first.order for line in found.hidden):
        readings[:3] = [one.noted("one of a lower order falls on another line") for one in readings[:3]]
    return [one.noted(note) for one in readings]


def _overall(each: list[list[Reading]], found: list[ToneAnalysis | None]) -> list[Reading]:
    strongest = max(range(len(found)), key=lambda c: found[c].amplitude if found[c] else -1.0)  # type: ignore[union-attr]

    def of(channel: int, i: int) -> Reading:
        return replace(each[channel][i], channel="all")

    def worst(key: str) -> int:
        index = MEASURES.index(key)
        return max(range(len(each)), key=lambda c: severity(each[c][index]))

    leader = {
        "fundamental_frequency": strongest, "fundamental_level": strongest,
        "spurious_frequency": worst("spurious_level"),
        **dict.fromkeys(("alias_worst_frequency", "alias_worst_order"), worst("alias_worst_level")),
    }  # fmt: skip
    first_index = MEASURES.index("alias_first_order")
    orders = [(each[c][first_index].value or math.inf, c) for c in range(len(each))]
    for key in ("alias_first_level", "alias_first_frequency", "alias_first_order"):
        leader[key] = min(orders)[1]
    return [of(leader.get(key, worst(key)), i) for i, key in enumerate(MEASURES)]


def _curves(found: ToneAnalysis, rate: int) -> dict[str, Curve]:
    def curve(lines: list[Line]) -> Curve:
        present = [line for line in lines if line.found]
        return Curve("Hz", "dBFS", [x.frequency for x in present], [_db(x.amplitude) for x in present])

    def orders(lines: list[Line]) -> Curve:
        present = [line for line in lines if line.found]
        return Curve("", "Hz", [float(line.order) for line in present], [line.frequency for line in present])

    highest = max((line.order for line in (*found.harmonics, *found.aliases) if line.found), default=1)
    path = fold_path(found.frequency, rate, max(highest, min(rate / found.frequency, _PATH_ORDERS)))
    return {
        "fundamental": Curve("Hz", "dBFS", [found.frequency], [_db(found.amplitude)]),
        "harmonics": curve(found.harmonics),
        "harmonic_orders": orders(found.harmonics),
        "aliases": curve(found.aliases),
        "alias_orders": orders(found.aliases),
        "fold_path": Curve("", "Hz", [order for order, _ in path], [frequency for _, frequency in path]),
    }


def _between(key: str, channel: str, power: Power | None, unit: float) -> Reading:
    """The AES17 RMS of what lies between lines, over a unit."""
    if power is None:
        return Reading(key, channel, None, _NO_ROOM)
    found = level(key, channel, 2 * power.mean_square / unit**2, power=True)
    return found if found.value is None else replace(found, uncertainty=power.uncertainty)


def _bound(key: str, channel: str, amplitude: float, why: str) -> Reading:
    return Reading(key, channel, None, why, at_most=_db(amplitude))


def _db(ratio: float) -> float:
    return 20.0 * math.log10(ratio)
