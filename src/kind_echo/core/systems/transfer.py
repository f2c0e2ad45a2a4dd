"""Levels in against levels out: what a compressor's curve should be, and what it is."""

import math
from dataclasses import dataclass, replace
from statistics import NormalDist

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source, blocks, read_padded
from kind_echo.core.comparison.pair import check_pair
from kind_echo.core.levels.loudness import LoudnessMeter
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Curve, Reading

Floats = NDArray[np.float64]

MEASURES = (
    "curve_error_worst", "curve_error_rms", "threshold_estimate", "ratio_estimate", "knee_estimate",
    "gain_below_threshold", "engages",
)  # fmt: skip
_WINDOW_SECONDS = 0.01
_STEP_DB = 0.2  # change of level from one window to the next that ends a step
_LEAST_SECONDS = 0.1
_USED_SHARE = 0.4  # of each step, at its end
_LEAST_USED_SHARE = 0.3  # of that share that the output must hold
_SETTLE_SECONDS = 0.01  # at the very end of a step left out, for a latency that is not taken off to the sample
_STEP_PARTS = 8  # of a step, whose levels show how sure the level of all of it is
# Standard deviations from a mean of eight at 95 % (Student's distribution, 7 degrees of freedom)
_SURE_DEVIATIONS = 2.36
_FLOOR_DBFS = -110.0  # dBFS of the input under which a step is not read
_VAGUE_SPREADS = (2.0, math.inf, 4.0)  # of uncertainty, over which threshold (dB) and knee (dB) are none
_VAGUE_SLOPE_SPREAD = 0.5  # of the slope over the threshold, over which its uncertainty leaves a bound of the ratio
_WALL_SLOPE = 0.02  # slope under which a level hardly rises: a ratio of 50 : 1
_LEAST_STEPS_ABOVE = 2  # steps over the threshold
_SMALL_KNEE_DB = 0.1  # dB, beyond a gap between steps, that a fit of its width may come to
_FITTING_DB = 0.6  # dB that a level may lie off the curve of one threshold, ratio and knee
_ENGAGED_DB = 1.0


@dataclass(frozen=True)
class ExpectedCurve:
    """A compressor's static curve: hard or quadratic knee.

    Attributes:
        threshold: dBFS.
        ratio: 1 or more.
        knee: width in dB.
        makeup: dB.
    """

    threshold: float
    ratio: float
    knee: float = 0.0
    makeup: float = 0.0

    def __post_init__(self) -> None:
        if not self.ratio >= 1.0:
            raise BadParameter("ratio", self.ratio, "1 or more")
        if not self.knee >= 0.0:
            raise BadParameter("knee", self.knee, "0 dB or more")

    def level(self, level: Floats) -> Floats:
        """Levels out for levels in, dBFS.

        Source: D. Giannoulis, M. Massberg, J. D. Reiss, J. Audio Eng. Soc. 60 (2012), equation 4.
        """
        over = np.asarray(level) - self.threshold
        slope = 1.0 / self.ratio - 1.0
        out = np.where(over > 0, level + slope * over, level)
        if self.knee > 0:
            inside = np.abs(over) <= self.knee / 2
            bent = level + slope * (over + self.knee / 2) ** 2 / (2 * self.knee)
            out = np.where(inside, bent, out)
        return np.asarray(out + self.makeup)


@dataclass(frozen=True)
class StepLevels:
    """One step of the staircase on both sides: levels of the tone, and beside them RMS, peak and loudness out.

    Attributes:
        spread: dB, standard deviation of the level out.
    """

    level_in: float
    level_out: float
    spread: float
    rms_out: float
    peak_out: float
    loudness_out: float


def find_plateaus(source: Source) -> list[tuple[int, int]]:
    """First and end frame of each step of a staircase: stretches of one level, at least 0.1 s long."""
    window = max(32, round(_WINDOW_SECONDS * source.rate))
    levels: list[float] = []
    for _, block in blocks(source, size=window * 512):
        whole = len(block) // window
        power = np.square(block[: whole * window, 0]).reshape(whole, window).mean(axis=1)
        levels += (10 * np.log10(np.maximum(2 * power, 1e-20))).tolist()
    plateaus, first = [], 0
    for i in range(1, len(levels) + 1):
        if i == len(levels) or abs(levels[i] - levels[i - 1]) > _STEP_DB:
            if (i - first) * _WINDOW_SECONDS >= _LEAST_SECONDS and np.median(levels[first:i]) > _FLOOR_DBFS:
                plateaus.append((first * window, i * window))
            first = i
    return plateaus


def sine_level(samples: Floats, frequency: float, rate: int) -> float:
    """Level, dBFS of the peak, of the sine of a frequency in samples: least squares with a constant beside it."""
    angle = 2 * np.pi * frequency / rate * np.arange(len(samples))
    design = np.stack([np.cos(angle), np.sin(angle), np.ones(len(samples))], axis=1)
    a, b, _ = np.linalg.lstsq(design, samples, rcond=None)[0]
    return 20 * math.log10(max(math.hypot(a, b), 1e-15))


def _spread(samples: Floats, frequency: float, rate: int) -> float:
    """Standard deviation of `sine_level` in dB, from the levels of parts of whole periods; nan for too few periods."""
    periods = int(len(samples) * frequency / rate / _STEP_PARTS)
    if periods < 1:
        return math.nan
    length = round(periods * rate / frequency)
    parts = [samples[i * length : (i + 1) * length] for i in range(_STEP_PARTS)]
    levels = [sine_level(part, frequency, rate) for part in parts if len(part) == length]
    return float(np.std(levels, ddof=1) / math.sqrt(len(levels)))


def measure_curve(
    source: Source, output: Source, expected: ExpectedCurve | None = None
) -> tuple[list[Reading], dict[str, Curve]]:
    """All transfer measures by channel; all channels: those of the channel with the worst error.

    Raises:
        RateMismatch, ChannelMismatch: the two do not belong together.
        BadParameter: the input is no staircase.
    """
    check_pair(source, output)
    plateaus = find_plateaus(source)
    if len(plateaus) < 4:
        raise BadParameter("INPUT", "the file", "a staircase of at least four steps of level, each at least 0.1 s long")
    each: list[list[Reading]] = []
    curves: list[dict[str, Curve]] = []
    for channel in range(source.channels):
        steps = _levels(source, output, plateaus, channel)
        if isinstance(steps, str):
            each.append([Reading(key, str(channel + 1), None, steps) for key in MEASURES])
            curves.append({})
            continue
        each.append(_readings(str(channel + 1), steps, expected))
        curves.append(_curves(steps, expected))
    worst = max(range(len(each)), key=lambda c: abs(each[c][0].value or 0.0))
    readings = []
    for i in range(len(MEASURES)):
        lead = each[worst][i]
        readings += [replace(lead, channel="all"), *(channel[i] for channel in each)]
    return readings, curves[worst]


def _levels(source: Source, output: Source, plateaus: list[tuple[int, int]], channel: int) -> list[StepLevels] | str:
    rate = source.rate
    middle = plateaus[len(plateaus) // 2]
    tone = source.read(*middle)[:, channel]
    frequency = _frequency(tone, rate)
    if frequency is None:
        return "the input is no steady tone"
    late = _latency(source, output, channel)
    steps = []
    for start, stop in plateaus:
        guard = min(round(_SETTLE_SECONDS * rate), (stop - start) // 10)
        lo = stop - round(_USED_SHARE * (stop - start))
        hi = min(stop - guard, output.frames - late)  # a late output breaks off within the last step
        if hi - lo < _LEAST_USED_SHARE * (stop - lo):
            return "the output breaks off before the last step"
        x = source.read(lo, hi)[:, channel]
        y = read_padded(output, lo + late, hi + late)[:, channel]
        if not (np.isfinite(x).all() and np.isfinite(y).all()):
            return "a file has NaN or infinite samples"
        mean_square = float(np.mean(y**2))
        meter = LoudnessMeter(1, rate, len(y))
        meter.add(np.ascontiguousarray(y)[None])
        weighted = meter.ungated()
        steps.append(
            StepLevels(
                sine_level(x, frequency, rate),
                sine_level(y, frequency, rate),
                _spread(y, frequency, rate),
                10 * math.log10(max(2 * mean_square, 1e-30)),
                20 * math.log10(max(float(np.abs(y).max()), 1e-15)),
                -0.691 + 10 * math.log10(max(weighted, 1e-30)),
            )
        )
    if all(step.level_out < -140.0 for step in steps):
        return "the test signal is not in the render"
    return steps


def _frequency(tone: Floats, rate: int) -> float | None:
    from kind_echo.core.tones.lines import LineSpectrum

    spectrum = LineSpectrum.of(np.ascontiguousarray(tone), rate)
    best = float(np.abs(spectrum.spectrum[1:]).argmax() + 1) * spectrum.spacing
    return spectrum.find_tone(best)


def _latency(source: Source, output: Source, channel: int) -> int:
    """Frames by which the output's envelope is later, to a few ms: where the change of both levels agrees best."""
    hop = max(1, round(0.002 * source.rate))

    def changes(side: Source) -> Floats:
        power = []
        for _, block in blocks(side, size=hop * 4096):
            whole = len(block) // hop
            power.append(np.square(block[: whole * hop, channel]).reshape(whole, hop).mean(axis=1))
        return np.diff(10 * np.log10(np.maximum(np.concatenate(power), 1e-12)))

    a, b = changes(source), changes(output)
    size = 1 << (len(a) + len(b)).bit_length()
    lags = np.fft.irfft(np.conj(np.fft.rfft(a, size)) * np.fft.rfft(b, size), size)
    reach = round(0.1 / 0.002)
    both = np.concatenate([lags[-reach:], lags[: reach + 1]])
    return (int(both.argmax()) - reach) * hop if both.max() > 0 else 0


def _readings(name: str, steps: list[StepLevels], expected: ExpectedCurve | None) -> list[Reading]:
    level_in = np.array([step.level_in for step in steps])
    level_out = np.array([step.level_out for step in steps])
    spread = np.array([step.spread for step in steps])
    readings: list[Reading] = []
    if expected is None:
        readings += [Reading(key, name, None, "nothing is expected: no threshold and ratio given")
                     for key in ("curve_error_worst", "curve_error_rms")]  # fmt: skip
    else:
        error = level_out - expected.level(level_in)
        worst = int(np.abs(error).argmax())
        note = f"at an input of {number(float(level_in[worst]), '.1f')} dBFS"
        readings.append(Reading("curve_error_worst", name, float(error[worst]), note, _of_the_worst(error, spread)))
        rms = float(np.sqrt(np.mean(error**2)))
        chance = float(np.linalg.norm(error * spread)) / (rms * len(error)) if rms > 0.0 else math.nan
        unsure = _finite_or_none(_SURE_DEVIATIONS * math.hypot(chance, _bias(rms, spread)))
        readings.append(Reading("curve_error_rms", name, rms, None, unsure))
    gain = level_out - level_in
    quiet, loud = float(np.median(gain[np.argsort(level_in)[:3]])), float(gain[np.argmax(level_in)])
    engaged = quiet - float(gain.min()) >= _ENGAGED_DB
    fitted = fit_static_curve(level_in, level_out, spread) if engaged and loud < quiet else None
    readings += _estimates(name, fitted)
    base = expected or (fitted.curve if fitted is not None else None)
    below = level_in < base.threshold - base.knee / 2 - 1.0 if base is not None else np.ones(len(level_in), dtype=bool)
    if below.any():
        makeup = expected.makeup if expected is not None else 0.0
        unsure = _finite_or_none(_SURE_DEVIATIONS * float(np.linalg.norm(spread[below])) / int(below.sum()))
        readings.append(Reading("gain_below_threshold", name, float(np.mean(gain[below])) - makeup, None, unsure))
    else:
        readings.append(Reading("gain_below_threshold", name, None, "no step lies below the threshold"))
    return [*readings, Reading("engages", name, float(engaged))]


def _finite_or_none(value: float) -> float | None:
    """The value; None where it is NaN or infinite."""
    return value if math.isfinite(value) else None


def _of_the_worst(error: Floats, spread: Floats) -> float | None:
    """Uncertainty of the greatest of many errors: its own, or by what another may be greater in truth."""
    if not np.isfinite(spread).all():
        return None
    size = np.abs(error)
    worst = int(size.argmax())
    count = int((size + 2.0 * _SURE_DEVIATIONS * spread >= size[worst]).sum())
    # Of so many errors one lies farther off than a single one would: the same chance is shared among them.
    unsure = spread * _SURE_DEVIATIONS * NormalDist().inv_cdf(1.0 - 0.025 / count) / NormalDist().inv_cdf(0.975)
    return max(float(unsure[worst]), float((size + unsure).max() - size[worst]))


def _bias(rms: float, spread: Floats) -> float:
    """By how much chance alone makes an RMS greater."""
    chance = float(np.mean(spread**2))
    return rms - math.sqrt(max(0.0, rms**2 - chance)) if rms > 0.0 else math.sqrt(chance)


def _estimates(name: str, fitted: "FittedCurve | None") -> list[Reading]:
    keys = ("threshold_estimate", "ratio_estimate", "knee_estimate")
    if fitted is None:
        return [Reading(key, name, None, "the gain does not fall with the level") for key in keys]
    if fitted.above < _LEAST_STEPS_ABOVE:
        return [Reading(key, name, None, "too few steps lie above the threshold") for key in keys]
    if fitted.farthest > _FITTING_DB:
        why = f"no one threshold and ratio fits: the levels lie up to {number(fitted.farthest, '.1f')} dB off"
        return [Reading(key, name, None, why) for key in keys]
    values = (fitted.curve.threshold, fitted.curve.ratio, fitted.curve.knee)
    each = zip(keys, values, fitted.uncertainty, _VAGUE_SPREADS, strict=True)
    readings = [
        Reading(key, name, value, None, _finite_or_none(unsure))
        if not unsure > vague
        else Reading(key, name, None, f"the levels do not tell: its uncertainty would be over {vague:.0f} dB")
        for key, value, unsure, vague in each
    ]
    slope, unsure = 1.0 / fitted.curve.ratio, fitted.uncertainty[1] / fitted.curve.ratio**2
    if unsure > _VAGUE_SLOPE_SPREAD * slope or slope < _WALL_SLOPE:
        # Of a limiter a ratio is a bound.
        most = slope + (unsure if math.isfinite(unsure) else 0.0)
        least = 1.0 / max(most, _WALL_SLOPE / 10)
        if most >= 1.0:
            readings[1] = Reading(keys[1], name, None, "the levels do not tell")
        else:
            readings[1] = Reading(keys[1], name, None, f"at least {number(least, '.3g')} : 1", at_least=least)
    return readings


@dataclass(frozen=True)
class FittedCurve:
    """A static curve, and the uncertainty at 95 % of its threshold, ratio and knee; nan where it is not known.

    `farthest` is the greatest distance of a level from it, in dB; `above` the count of levels over its threshold.
    """

    curve: ExpectedCurve
    uncertainty: tuple[float, float, float]
    farthest: float
    above: int


def fit_static_curve(level_in: Floats, level_out: Floats, spread: Floats) -> FittedCurve | None:
    """The static curve that fits levels in and out best, by least squares from several beginnings.

    Args:
        spread: standard deviations of the levels out, dB.
    """
    from scipy.optimize import least_squares

    def curve(p: Floats) -> ExpectedCurve:
        return ExpectedCurve(float(p[0]), 1.0 / max(1.0 - float(p[1]), 1e-4), max(0.0, float(p[2])), float(p[3]))

    def error(p: Floats) -> Floats:
        return curve(p).level(level_in) - level_out

    order = np.argsort(level_in)
    makeup = float(np.median((level_out - level_in)[order[:3]]))
    bounds = ([level_in.min(), 0.0, 0.0, -60.0], [level_in.max(), 1.0, 40.0, 60.0])
    best = None
    for threshold in np.linspace(level_in.min() + 3, level_in.max() - 3, 7):
        for knee in (0.5, 8.0):
            start = np.clip([threshold, 0.6, knee, makeup], bounds[0], bounds[1])
            found = least_squares(error, start, bounds=bounds, loss="soft_l1", f_scale=0.1)
            if best is None or found.cost < best.cost:
                best = found
    if best is None:
        return None
    fitted = curve(best.x)
    # What each level is off by, from the parts of its step, and more where the curve fits worse than that.
    left, expected = np.square(error(best.x)).sum(), np.square(spread).sum() * (1.0 - 4.0 / len(spread))
    off = spread * math.sqrt(max(1.0, left / expected)) if expected > 0.0 else np.abs(error(best.x))
    farthest = float(np.abs(error(best.x)).max())
    above = int((level_in > fitted.threshold).sum())
    inverse = np.linalg.pinv(np.asarray(best.jac))
    threshold, slope, knee, _ = 2.0 * np.sqrt(np.square(inverse * off).sum(axis=1))
    nearest = float(np.abs(level_in - fitted.threshold).min())
    if (
        fitted.knee <= 2 * nearest + _SMALL_KNEE_DB
    ):  # no step lies in it: any that is narrower than the gap fits as well
        fitted, knee = replace(fitted, knee=nearest), math.hypot(float(knee), nearest + _SMALL_KNEE_DB)
    return FittedCurve(fitted, (float(threshold), float(slope * fitted.ratio**2), float(knee)), farthest, above)


def _curves(steps: list[StepLevels], expected: ExpectedCurve | None) -> dict[str, Curve]:
    level_in = [step.level_in for step in steps]

    def curve(unit: str, values: list[float]) -> Curve:
        return Curve("dBFS", unit, level_in, values)

    curves = {
        "transfer": curve("dBFS", [step.level_out for step in steps]),
        "transfer_rms": curve("dBFS", [step.rms_out for step in steps]),
        "transfer_peak": curve("dBFS", [step.peak_out for step in steps]),
        "transfer_loudness": curve("LUFS", [step.loudness_out for step in steps]),
    }
    if all(math.isfinite(step.spread) for step in steps):
        curves["transfer_uncertainty"] = curve("dB", [_SURE_DEVIATIONS * step.spread for step in steps])
    if expected is not None:
        wanted = expected.level(np.array(level_in))
        curves["transfer_expected"] = curve("dBFS", wanted.tolist())
        curves["transfer_error"] = curve("dB", (np.array([step.level_out for step in steps]) - wanted).tolist())
    return curves
