"""How late an effect is, event by event, against what it claims."""

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.correlation import summit
from kind_echo.core.audio.source import ArraySource, Samples, Source, read_padded
from kind_echo.core.audio.transforms import fast_length
from kind_echo.core.comparison.pair import check_pair
from kind_echo.core.delays.delay import find_delays
from kind_echo.core.delays.phases import NEAR, fine_delay, read_blocks
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.readings import Curve, Mark, Reading, refuse

Floats = NDArray[np.float64]

SPEED_OF_SOUND = 343.0
"""m/s, in air at 20 °C."""

MEASURES = (
    "latency", "latency_time", "latency_first", "latency_jitter", "latency_events", "latency_missing",
    "latency_doubled", "latency_reported", "latency_error", "compensation", "latency_buffer", "distance",
)  # fmt: skip
_MOST_FRAMES = 1 << 24
_LEAST_EVENTS = 3
_EVENT_PEAK_SHARE = 0.25  # of the peak, that an event reaches
_QUIET_PEAK_SHARE = 0.03  # of the peak, that the 10 ms before an event stay under
_REST_SECONDS = 0.01
_EVENT_SECONDS = 0.03
_RINGING_PEAK_SHARE = 0.2  # of its peak, that an event still has after 20 ms where it rings on
_WHOLE_WITHIN_SAMPLES = 5e-4  # of a sample
_PRESENT_CORRELATION = 0.5  # correlation coefficient of an event that is there
_AGAIN_CORRELATION = 0.8  # of its correlation with itself, that an event has elsewhere which is no click
_SECOND_PEAK_SHARE = 0.3  # share of an event's height at which a second one counts
_APART_SECONDS = 0.001
_PART_SECONDS = 0.5
_PART_BLOCKS = 9  # of a part
_REACH_SECONDS = 1.0
_MOST_MARKS = 64  # events that are each given a line of the grid


@dataclass(frozen=True)
class LatencyOptions:
    """What is known beforehand.

    Attributes:
        reported: samples that the effect or host claims.
        buffer: frames of a buffer and how many of them there are.
        max_delay: samples within which an event is looked for.
    """

    reported: float | None = None
    buffer: tuple[int, int] | None = None
    max_delay: int | None = None

    def __post_init__(self) -> None:
        if self.buffer is not None and min(self.buffer) < 1:
            raise BadParameter("buffer", self.buffer, "two whole numbers above 0")
        if self.max_delay is not None and self.max_delay < 1:
            raise BadParameter("max_delay", self.max_delay, "at least 1 sample")


@dataclass(frozen=True)
class Event:
    """One event of the input and what became of it.

    Attributes:
        frame: where it begins in the input.
        delay: samples; None when it is missing.
        is_part: whether it is a part of a signal that goes on, and no click.
    """

    frame: int
    delay: float | None
    doubled: bool = False
    is_part: bool = False


def measure_latency(
    source: Source, output: Source, options: LatencyOptions = LatencyOptions()
) -> tuple[list[Reading], dict[str, Curve]]:
    """All latency measures by channel; all channels: those of the strongest. The curve has the delay of each event.

    Raises:
        RateMismatch, ChannelMismatch: the two do not belong together.
    """
    check_pair(source, output)
    rate, channels = source.rate, source.channels
    frames = min(source.frames, _MOST_FRAMES)
    x = source.read(0, frames)
    y = read_padded(output, 0, min(max(output.frames, frames), _MOST_FRAMES))
    if not (np.isfinite(x).all() and np.isfinite(y).all()):
        return _buffer(
            refuse(MEASURES, channels, "a file has NaN or infinite samples", "not finite"), rate, options
        ), {}
    found = [find_events(x[:, c], y[:, c], rate, options) for c in range(channels)]
    strongest = int(np.square(x).sum(axis=0).argmax())
    each = [_readings(str(c + 1), events, rate, options) for c, events in enumerate(found)]
    readings = []
    for i in range(len(MEASURES)):
        lead = each[strongest][i]
        readings += [replace(lead, channel="all"), *(e[i] for e in each)]
    events = found[strongest]
    there = [] if isinstance(events, str) else [e for e in events if e.delay is not None]
    delays = [float(e.delay or 0.0) for e in there]
    marks = tuple(_marks([] if isinstance(events, str) else events, rate))
    return readings, {"latency_by_event": Curve("s", "samples", [e.frame / rate for e in there], delays, marks)}


def _marks(events: list[Event], rate: int) -> Iterator[Mark]:
    """The first event, which is read apart; those that are missing or doubled; and the grid of the others."""
    if len(events) <= _MOST_MARKS:
        plain = [e for e in events[1:] if e.delay is not None and not e.doubled]
        yield from (Mark(e.frame / rate, "") for e in plain)
    yield from (Mark(e.frame / rate, "first") for e in events[:1] if e.delay is not None and not e.doubled)
    yield from (Mark(e.frame / rate, "missing") for e in events if e.delay is None)
    yield from (Mark(e.frame / rate, "doubled") for e in events if e.doubled)


def find_events(x: Floats, y: Floats, rate: int, options: LatencyOptions) -> list[Event] | str:
    """The events of one channel, clicks or else parts of a broadband signal; or why there are none."""
    if not x.any():
        return "the input is silent"
    starts = find_clicks(x, rate)
    few = len(starts) < _LEAST_EVENTS
    if starts and _are_short(x, starts, rate) and not (few and _comes_again(x, starts[0], rate)):
        return _clicks(x, y, rate, starts, options)
    return _parts(x, y, rate, options)


def find_clicks(x: Floats, rate: int) -> list[int]:
    """Frames at which clicks begin: a rise to a quarter of the peak out of 10 ms that are near silence."""
    peak = float(np.abs(x).max())
    rest = max(8, round(_REST_SECONDS * rate))
    size = np.abs(x)
    loud = np.flatnonzero(size >= _EVENT_PEAK_SHARE * peak)
    heard = np.concatenate(
        [[0], np.cumsum(size >= _QUIET_PEAK_SHARE * peak)]
    )  # frames that are not quiet, before each frame
    rested = heard[np.maximum(loud - rest // 4, 0)] == heard[np.maximum(loud - rest, 0)]
    starts: list[int] = []
    for frame in loud[rested].tolist():
        if not starts or frame - starts[-1] >= rest:
            starts.append(frame)
    return starts


def _comes_again(x: Floats, start: int, rate: int) -> bool:
    """Whether an event fits itself nearly as well a little earlier or later, upright or inverted, as a burst does."""
    event = x[start : start + round(_EVENT_SECONDS * rate)]
    lags = _correlated(event, np.concatenate([event, np.zeros(len(event))]))[: len(event)]
    crossed = np.flatnonzero(lags <= 0.0)
    return len(crossed) > 0 and float(np.abs(lags[crossed[0] :]).max()) > _AGAIN_CORRELATION * float(lags[0])


def _are_short(x: Floats, starts: list[int], rate: int) -> bool:
    """Whether most events are over before the next 20 ms are: strikes of bells and strings go on, and are no clicks."""
    after, length = round(0.02 * rate), max(1, round(0.01 * rate))
    peaks = [float(np.abs(x[s : s + after]).max(initial=0.0)) for s in starts]
    rests = [float(np.abs(x[s + after : s + after + length]).max(initial=0.0)) for s in starts]
    return 2 * sum(rest < _RINGING_PEAK_SHARE * peak for rest, peak in zip(rests, peaks, strict=True)) >= len(starts)


def _clicks(x: Floats, y: Floats, rate: int, starts: list[int], options: LatencyOptions) -> list[Event]:
    spacing = int(np.diff(starts).min()) if len(starts) > 1 else 2 * len(x)
    reach = min(options.max_delay or round(_REACH_SECONDS * rate), max(8, spacing // 2 - 1))
    before, after = round(0.002 * rate), min(round(_EVENT_SECONDS * rate), spacing // 2)
    most = min(options.max_delay or spacing // 2, spacing // 2)
    coarse = _common_lag(x, y, starts, before, after, most)
    first, last = coarse - reach, coarse + reach
    if options.max_delay is not None:
        first, last = max(first, -options.max_delay), min(last, options.max_delay)
    return [_event(x, y, rate, frame, (first, last), (before, after)) for frame in starts]


def _common_lag(x: Floats, y: Floats, starts: list[int], before: int, after: int, reach: int) -> int:
    """The lag at which most of the clicks lie: the correlations of all of them added up, each with its own weight."""
    total = np.zeros(2 * reach + 1)
    for frame in starts:
        a = _cut(x, frame - before, frame + after)
        b = _cut(y, frame - before - reach, frame + after + reach)
        lags = np.abs(_correlated(a, b)[: 2 * reach + 1])
        if lags.max(initial=0.0) > 0.0:
            total += lags / lags.max()
    return int(total.argmax()) - reach


def _event(x: Floats, y: Floats, rate: int, frame: int, lags_of: tuple[int, int], span: tuple[int, int]) -> Event:
    """One click: the lag of best correlation, and whether another like it is left once it is taken out.

    Args:
        lags_of: the least and the greatest lag that are looked at: around the common one, within half the spacing.
    """
    lo, hi = frame - span[0], frame + span[1]
    a = _cut(x, lo, hi)
    first, count = lags_of[0], lags_of[1] - lags_of[0] + 1
    b = _cut(y, lo + first, hi + lags_of[1])
    lags = _correlated(a, b)[:count]
    best, fraction = summit(lags)
    energy = float(a @ a)
    here = b[best : best + len(a)]
    scale = math.sqrt(energy * float(here @ here))
    if scale <= 0.0 or abs(lags[best]) < _PRESENT_CORRELATION * scale:
        return Event(frame, None)
    delay = _snapped(first + best + fraction)
    left = b.copy()
    left[best : best + len(a)] -= lags[best] / energy * a
    again = _correlated(a, left)[:count]
    apart = max(2, round(_APART_SECONDS * rate))
    again[max(0, best - apart) : best + apart + 1] = 0.0
    other = int(np.abs(again).argmax())
    there = left[other : other + len(a)]
    alike = abs(again[other]) >= _PRESENT_CORRELATION * math.sqrt(energy * float(there @ there)) > 0.0
    return Event(frame, float(delay), bool(abs(again[other]) >= _SECOND_PEAK_SHARE * abs(lags[best]) and alike))


def _snapped(delay: float) -> float:
    """A delay without what rounding makes of one of whole samples."""
    return float(round(delay)) if abs(delay - round(delay)) < _WHOLE_WITHIN_SAMPLES else delay


def _cut(samples: Floats, start: int, stop: int) -> Floats:
    lo, hi = max(0, start), max(0, min(stop, len(samples)))
    out = np.zeros(stop - start)
    if hi > lo:
        out[lo - start : hi - start] = samples[lo:hi]
    return out


def _correlated(a: Floats, b: Floats) -> Floats:
    """Correlation of a with b at lags 0, 1, … of b; mean taken off neither, for clicks have none."""
    size = fast_length(len(a) + len(b))
    return np.asarray(fft.irfft(np.conj(fft.rfft(a, size)) * fft.rfft(b, size), size)[: len(b)])


def _parts(x: Floats, y: Floats, rate: int, options: LatencyOptions) -> list[Event] | str:
    """Half-second parts of a broadband signal, each aligned with the output near the delay of the whole."""
    whole = _delay(x[:, None], y[:, None], rate, options.max_delay)
    if isinstance(whole, str):
        return whole
    near = round(whole)
    length = min(round(_PART_SECONDS * rate), len(x) // (_LEAST_EVENTS + 1))
    events: list[Event] = []
    if length < 64:
        return "the signal is too short"
    reach = min(options.max_delay or NEAR, NEAR)
    source, output = ArraySource(x[:, None], rate), ArraySource(y[:, None], rate)
    for start in range(0, len(x) - length + 1, length):
        a = x[start : start + length]
        if float(a @ a) < 1e-6 * float(x @ x) / len(x) * length:
            continue
        fine = fine_delay(read_blocks(source, output, near, (start, start + length), _PART_BLOCKS), reach)
        there = fine is not None and fine.steady and fine.agreement >= _PRESENT_CORRELATION
        late = _snapped(near + fine.samples) if there and fine is not None else None
        events.append(Event(start, late, is_part=True))
    return events


def _delay(x: Samples, y: Samples, rate: int, max_delay: int | None) -> float | str:
    found, _ = find_delays(ArraySource(x, rate), ArraySource(y, rate), max_delay)
    return found.samples if found.samples is not None else (found.why or "no delay was found")


def _readings(name: str, events: list[Event] | str, rate: int, options: LatencyOptions) -> list[Reading]:
    """In the order of MEASURES."""
    if isinstance(events, str):
        return _buffer([Reading(key, name, None, events) for key in MEASURES], rate, options)
    usable = [e.delay for e in events if e.delay is not None]
    later = [e.delay for e in events[1:] if e.delay is not None]
    counts = [
        Reading("latency_events", name, float(len(events))),
        Reading("latency_missing", name, float(sum(e.delay is None for e in events))),
        Reading("latency_doubled", name, float(sum(e.doubled for e in events))),
    ]
    reported = Reading("latency_reported", name, options.reported, None if options.reported is not None else "not told")
    parts = any(e.is_part for e in events)
    if not usable or (parts and len(usable) < _LEAST_EVENTS):
        within = "" if options.max_delay is None else f" within {options.max_delay} samples"
        what = "signal is" if parts else "click is" if len(events) == 1 else "clicks are"
        why = f"fewer than 3 usable parts{within}" if usable else f"the {what} not in the render{within}"
        found = {key: Reading(key, name, None, why) for key in MEASURES}
        for reading in (*counts, reported):
            found[reading.measure] = reading
        return _buffer(list(found.values()), rate, options)
    few = None
    jitter = Reading("latency_jitter", name, None, "fewer than 3 usable events")
    if len(usable) < _LEAST_EVENTS:
        # The first is not left out: there would be nothing else.
        few, later = f"from {len(usable)} usable event{'s' if len(usable) > 1 else ''}", usable
    else:
        jitter = Reading("latency_jitter", name, float(max(later) - min(later)))
    latency = float(np.median(later))
    # Half the middle spread over the root of the count, at 95 %; never under what correlation itself resolves.
    spread = max(0.005, 1.57 * float(np.subtract(*np.percentile(later, [75, 25]))) / math.sqrt(len(later)))
    first = events[0].delay
    error = None if options.reported is None else latency - options.reported
    return _buffer(
        [
            Reading("latency", name, latency, few, spread),
            Reading("latency_time", name, 1000 * latency / rate, few, 1000 * spread / rate),
            Reading("latency_first", name, first, None if first is not None else "the first event is missing"),
            jitter,
            *counts,
            reported,
            Reading("latency_error", name, error, None if error is not None else "no latency was claimed"),
            Reading("compensation", name, -1000 * latency / rate),
            Reading("latency_buffer", name, None),
            Reading("distance", name, latency / rate * SPEED_OF_SOUND),
        ],
        rate,
        options,
    )


def _buffer(readings: list[Reading], rate: int, options: LatencyOptions) -> list[Reading]:
    """The readings with the arithmetic share of the buffers, which needs no signal."""
    done = []
    for reading in readings:
        if reading.measure != "latency_buffer":
            done.append(reading)
        elif options.buffer is None:
            done.append(Reading("latency_buffer", reading.channel, None, "not told"))
        else:
            value = 1000.0 * options.buffer[0] * options.buffer[1] / rate
            done.append(Reading("latency_buffer", reading.channel, value, "theoretical, not measured"))
    return done
