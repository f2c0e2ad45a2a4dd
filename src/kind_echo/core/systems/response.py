"""Magnitude, phase, group delay and coherence of an effect, from what went in and what came out."""

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source, read_padded
from kind_echo.core.comparison.pair import check_pair
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Curve, Mark, Reading, refuse
from kind_echo.core.systems.responding import COHERENT, LOWEST, PER_OCTAVE, Response, respond

Floats = NDArray[np.float64]

MEASURES = (
    "gain_1k", "edge_low", "edge_high", "wall_frequency", "slope_low", "slope_high", "ripple", "flatness_error",
    "phase_deviation", "group_delay_1k",
)  # fmt: skip
_MOST_FRAMES = 1 << 23
_LEAST_LOWEST_HZ = 0.5  # Hz at which curves begin at the lowest, for a band that begins there
_SLOPE_FROM_DB, _SLOPE_TO_DB = 20.0, 80.0  # dB under the level of the pass band, between which a slope is read
_SLOPE_TOP_SHARE = 0.1  # of the rate, over which a slope is read only where less than half an octave lies under it
_ABOUT_OCTAVES = 2.0  # to either side of 1 kHz, in which the level is greatest that a slope falls from
_LEAST_FALL_DB = 6.0  # dB that the points of a slope span
_MOST_TOPS, _FINER_POINTS = (
    8,
    65,
)  # of a level, looked at between points of the grid; points that a top is looked at with
_ROUGHNESS_DB = 0.05  # dB, that a point of the grid is off at least


@dataclass(frozen=True)
class ResponseOptions:
    """What is read off.

    Attributes:
        band: Hz of flatness and phase; None for 20 Hz to 20 kHz, or 0.45 of the rate.
        edge: dB under the level at 1 kHz at which the edges lie.
    """

    band: tuple[float, float] | None = None
    edge: float = 3.0

    def limits(self, rate: int) -> tuple[float, float]:
        """The band in force. Raises BadParameter where it is none."""
        low, high = self.band or (20.0, min(20_000.0, 0.45 * rate))
        if not 0.0 < low < high < rate / 2:
            raise BadParameter("band", self.band, f"from a lower to a higher frequency, below {rate / 2:g} Hz")
        return low, high


def measure_response(
    source: Source, output: Source, options: ResponseOptions = ResponseOptions()
) -> tuple[list[Reading], dict[str, Curve]]:
    """All response measures by channel; all channels: those of the first. Curves of the first channel.

    Raises:
        RateMismatch, ChannelMismatch: the two do not belong together.
        BadParameter: the band lies outside what the rate carries.
    """
    check_pair(source, output)
    band = options.limits(source.rate)
    lowest = min(LOWEST, max(_LEAST_LOWEST_HZ, band[0] / 2))
    frames = min(max(source.frames, output.frames), _MOST_FRAMES)
    x, y = (read_padded(side, 0, frames) for side in (source, output))
    if not (np.isfinite(x).all() and np.isfinite(y).all()):
        return refuse((*MEASURES, "latency"), source.channels, "a file has NaN or infinite samples", "not finite"), {}
    each: list[list[Reading]] = []
    curves: dict[str, Curve] = {}
    for c in range(source.channels):
        found = respond(np.ascontiguousarray(x[:, c]), np.ascontiguousarray(y[:, c]), source.rate, lowest)
        if isinstance(found, str):
            each.append([Reading(key, str(c + 1), None, found) for key in (*MEASURES, "latency")])
            continue
        each.append([*_readings(str(c + 1), found, band, options.edge), Reading("latency", str(c + 1), found.latency)])
        curves = curves or _curves(found, tuple(_marks(found, each[-1], options.edge)))
    by_measure = list(zip(*each, strict=True))
    readings = []
    for column in by_measure:
        first = column[0]
        readings += [Reading(first.measure, "all", first.value, first.why, first.uncertainty, first.at_most), *column]
    return readings, curves


def _db(values: Floats) -> Floats:
    return np.asarray(20 * np.log10(np.maximum(values, 1e-15)))


def _readings(name: str, found: Response, band: tuple[float, float], edge: float) -> list[Reading]:
    f, level = found.frequency, _db(np.abs(found.response))
    sure = (found.coherence > COHERENT) & np.isfinite(level)
    low_end = int(np.abs(f - 1000.0).argmin())
    if not sure[low_end]:
        why = "the coherence at 1 kHz is too low"
        return [Reading(key, name, None, why) for key in MEASURES]
    at_1k, unsure = float(np.interp(1000.0, f, level)), _uncertainty(found)
    readings = [Reading("gain_1k", name, at_1k, None, float(np.interp(1000.0, f, unsure)))]
    down = _edge(f, level, sure, low_end, at_1k - edge, -1)
    up = _edge(f, level, sure, low_end, at_1k - edge, 1)
    words = f"the level does not fall by {edge:g} dB within what can be measured"
    readings += [
        Reading(key, name, None, words)
        if at is None
        else Reading(key, name, at, None, _unsure_at(at, f, level, unsure))
        for key, at in (("edge_low", down), ("edge_high", up))
    ]
    readings.append(_wall(name, f, level, at_1k, low_end))
    readings.append(_slope("slope_low", name, found, -1))
    readings.append(_slope("slope_high", name, found, 1))
    lo, hi = down or band[0], up or band[1]
    inside = (f >= lo) & (f <= hi) & sure & (f >= band[0]) & (f <= band[1])
    readings.append(Reading("ripple", name, float(np.ptp(level[inside]))) if inside.any()
                    else Reading("ripple", name, None, "nothing between the edges can be measured"))  # fmt: skip
    return readings + _flatness(name, found, level, band, sure)


def _uncertainty(found: Response) -> Floats:
    """dB by which the magnitude may be off at 95 %: half of the noise's power lies along the response."""
    magnitude = np.maximum(np.abs(found.response), 1e-15)
    return np.asarray(8.686 * 2.0 / math.sqrt(2.0) * np.minimum(found.floor / magnitude, 1.0))


def _unsure_at(at: float, f: Floats, level: Floats, unsure: Floats) -> float:
    """Hz by which an edge may be off, from how steep the level is there."""
    near = np.abs(np.log2(f / at)) < 2.5 / PER_OCTAVE
    steep = abs(float(np.polyfit(f[near], level[near], 1)[0])) if near.sum() > 1 else 0.0
    return float(np.interp(at, f, unsure)) / steep if steep > 0.0 else at


def _edge(f: Floats, level: Floats, sure: NDArray[np.bool_], middle: int, wanted: float, way: int) -> float | None:
    i = middle
    while 0 <= i + way < len(f):
        j = i + way
        if not np.isfinite(level[j]) or (not sure[j] and level[j] > wanted):
            return None
        if level[j] <= wanted:
            share = (level[i] - wanted) / (level[i] - level[j])
            return float(f[i] * (f[j] / f[i]) ** share)
        i = j
    return None


def _wall(name: str, f: Floats, level: Floats, at_1k: float, middle: int) -> Reading:
    """Where the level passes −20 dB on its way down at least 40 dB within a sixth of an octave."""
    span = PER_OCTAVE // 6
    for i in range(middle, len(f) - 1):
        if not np.isfinite(level[i + 1]):
            break
        if level[i] > at_1k - 20.0 >= level[i + 1]:
            around = level[max(0, i - span) : i + span + 2]
            around = around[np.isfinite(around)]
            window = [np.max(around[k : k + span + 1]) - np.min(around[k : k + span + 1])
                      for k in range(max(1, len(around) - span))]  # fmt: skip
            if max(window) >= 40.0:
                share = (level[i] - (at_1k - 20.0)) / (level[i] - level[i + 1])
                return Reading("wall_frequency", name, float(f[i] * (f[i + 1] / f[i]) ** share))
    return Reading("wall_frequency", name, None, "the level falls off nowhere by 40 dB within a sixth of an octave")


def _slope(key: str, name: str, found: Response, way: int) -> Reading:
    """Of a line through what lies between −20 and −80 dB and stands out of the floor."""
    f, level = found.frequency, _db(np.abs(found.response))
    chosen = _slope_points(found, way)
    if len(chosen) < 4 or np.ptp(level[chosen]) < _LEAST_FALL_DB:
        return Reading(key, name, None, "too little of a slope stands out of the floor between −20 and −80 dB")
    error = found.floor[chosen] / np.abs(found.response[chosen])
    weights = 1.0 / (_ROUGHNESS_DB + 8.686 * error)
    slope = float(np.polyfit(np.log2(f[chosen]), level[chosen], 1, w=weights)[0])
    ends = sorted((float(f[chosen[0]]), float(f[chosen[-1]])))
    return Reading(key, name, -way * slope, f"from {number(ends[0], ',.0f')} to {number(ends[1], ',.0f')} Hz")


def _slope_points(found: Response, way: int) -> NDArray[np.int64]:
    """The points of the grid, up or down from 1 kHz, that a slope is read from.

    A digital filter falls faster towards half the rate than its order says: where half an octave lies under a tenth of
    the rate, the slope is read there.
    """
    f, level = found.frequency, _db(np.abs(found.response))
    middle = int(np.abs(f - 1000.0).argmin())
    clear = (found.coherence > COHERENT) & np.isfinite(level) & (np.abs(found.response) > 2 * found.floor)
    # A corner may lie at 1 kHz itself: what is fallen from is the greatest level about it.
    about = clear & (np.abs(np.log2(f / 1000.0)) <= _ABOUT_OCTAVES)
    level = level - float(level[about].max() if about.any() else level[middle])
    chosen = []
    for i in range(middle + way, len(f) if way > 0 else -1, way):
        if not clear[i] or level[i] < -_SLOPE_TO_DB:
            break
        if level[i] <= -_SLOPE_FROM_DB:
            chosen.append(i)
    points = np.array(chosen, dtype=np.int64)
    below = points[f[points] <= _SLOPE_TOP_SHARE * found.rate]
    return below if len(below) > PER_OCTAVE // 2 else points


def _flatness(
    name: str, found: Response, level: Floats, band: tuple[float, float], sure: NDArray[np.bool_]
) -> list[Reading]:
    f = found.frequency
    inside = (f >= band[0]) & (f <= band[1]) & sure
    if inside.sum() < 8:
        why = "too little of the band can be measured"
        return [Reading(key, name, None, why) for key in ("flatness_error", "phase_deviation", "group_delay_1k")]
    at, worst, unsure = _farthest(found, f[inside], level[inside], band)
    phase = np.unwrap(np.angle(found.response[inside]))
    where = f[inside]
    turns = round(float(np.interp(1000.0, where, phase)) / (2 * np.pi)) * 2 * np.pi
    phase = phase - turns
    # From a straight line through 0 at 0 Hz, or π for an inverted output: that is what a delay looks like.
    start = np.pi * round(float(phase[0]) / np.pi)
    slope = float(np.sum((phase - start) * where) / np.sum(where**2))
    deviation = np.degrees(phase - start - slope * where)
    farthest = int(np.abs(deviation).argmax())
    near = (where > 1000.0 / 2 ** (1 / 12)) & (where < 1000.0 * 2 ** (1 / 12))
    delay = -float(np.polyfit(2 * np.pi * where[near], phase[near], 1)[0]) * 1000 if near.sum() > 2 else None
    return [
        Reading("flatness_error", name, worst, f"at {at:.0f} Hz", unsure).noted(_told_up_to(f[inside][-1], band[1])),
        Reading("phase_deviation", name, float(abs(deviation[farthest])), f"at {where[farthest]:.0f} Hz"),
        Reading("group_delay_1k", name, delay, None if delay is not None else "too few points around 1 kHz"),
    ]


def _told_up_to(last: float, high: float) -> str | None:
    """What beside a reading of a band says that its top cannot be told."""
    return f"told up to {number(last, ',.0f')} Hz" if last < high * 2.0 ** (-2 / PER_OCTAVE) else None


def _farthest(found: Response, f: Floats, level: Floats, band: tuple[float, float]) -> tuple[float, float, float]:
    """Where the level is farthest from 0 dB, the level there, and its uncertainty, between points of the grid too.

    Args:
        f, level: Hz and dB of the points of the grid in the band that are sure.
    """
    step = 2.0 ** (1 / PER_OCTAVE)
    size = np.abs(level)
    tops = np.flatnonzero(size >= np.maximum(np.append(size[1:], 0.0), np.append(0.0, size[:-1])))
    looked_at = {*tops[size[tops].argsort()[-_MOST_TOPS:]].tolist(), 0, len(f) - 1}
    near = [np.geomspace(f[k] / step, f[k] * step, _FINER_POINTS) for k in looked_at]
    finer = np.unique(np.clip(np.concatenate(near), *band))
    response, coherence, _ = found.finer(finer)
    sure = (coherence > COHERENT) & np.isfinite(np.abs(response))
    places, levels = np.append(f, finer[sure]), np.append(level, _db(np.abs(response[sure])))
    worst = int(np.abs(levels).argmax())
    at, value = float(places[worst]), float(levels[worst])
    # What the level bends by over the resolution may be lost of a peak.
    around, _, floors = found.finer(np.array([at - found.resolution / 2, at, at + found.resolution / 2]))
    bends = np.abs(_db(np.abs(around[[0, 2]])) - _db(np.abs(around[1])))
    bend = float(np.nan_to_num(bends).max())
    noise = 8.686 * math.sqrt(2.0) * float(np.nan_to_num(floors[1])) / max(float(np.abs(around[1])), 1e-15)
    return at, value, math.hypot(min(bend, abs(value)), noise)


def _marks(found: Response, readings: Sequence[Reading], edge: float) -> Iterator[Mark]:
    """Edges and wall, and each slope in the middle of where it is read."""
    values = {reading.measure: reading.value for reading in readings}
    for key, text in (("edge_low", f"−{edge:g} dB"), ("edge_high", f"−{edge:g} dB"), ("wall_frequency", "wall")):
        if (at := values.get(key)) is not None:
            yield Mark(at, text)
    for key, way in (("slope_low", -1), ("slope_high", 1)):
        if (slope := values.get(key)) is not None:
            ends = found.frequency[_slope_points(found, way)[[0, -1]]]
            yield Mark(float(np.sqrt(ends.prod())), f"{slope:.1f} dB/octave")


def _curves(found: Response, marks: tuple[Mark, ...]) -> dict[str, Curve]:
    keep = np.isfinite(np.abs(found.response))
    f = found.frequency[keep]
    phase = np.unwrap(np.angle(found.response[keep]))
    delay = -np.gradient(phase, 2 * np.pi * f) * 1000 if len(f) > 2 else np.zeros(len(f))

    def curve(unit: str, values: Floats) -> Curve:
        return Curve("Hz", unit, f.tolist(), values.tolist())

    return {
        "magnitude": replace(curve("dB", _db(np.abs(found.response[keep]))), marks=marks),
        "magnitude_uncertainty": curve("dB", _uncertainty(found)[keep]),
        "phase": curve("°", np.degrees(phase)),
        "group_delay": curve("ms", delay),
        "coherence": curve("", found.coherence[keep]),
    }
