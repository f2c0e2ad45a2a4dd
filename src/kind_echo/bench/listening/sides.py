"""What is listened to: sides by their addresses, lined up, at one level, over a passage of one or all of a file."""

import math
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from threading import Lock
from typing import Any, Literal

import numpy as np
from cachetools import LRUCache, cached
from sqlalchemy.orm import Session

from kind_echo.audio_io.codecs import CODECS
from kind_echo.bench.listening.opened import AtRate, Opened
from kind_echo.bench.listening.opened import Part as Part
from kind_echo.core.audio.align import AlignedSource, Alignment, DifferenceSource
from kind_echo.core.audio.resampling import resampling_floor
from kind_echo.core.audio.source import ArraySource, Samples, Source
from kind_echo.core.delays.delay import find_delays
from kind_echo.core.levels.loudness import loudest_passage
from kind_echo.core.listening.clips import Band, band_taps, loop_of, nearest_crossing
from kind_echo.core.listening.levels import Matched, SideLevel, one_level
from kind_echo.core.listening.passages import first_note, quietest, strongest
from kind_echo.core.registry.errors import BadParameter, Conflict
from kind_echo.wording.conditions import resampled_text

Align = Literal["as rendered", "whole", "fraction"]
Named = Literal["loudest", "quietest", "differs most", "first event", "whole"]
"""Passages that are found: the loudest 3 s of the first side, the 3 s where the first two differ most, and others."""

LEAST_SIDES, MOST_SIDES = 1, 8
LEAST_SECONDS, MOST_SECONDS = 0.05, 30.0
MOST_SAMPLES = 6_000_000
"""Of one side, all channels together: 30 s of stereo at 96 kHz. A browser holds up to eight of them."""

SAFE_PEAK = -6.0
"""dBFS that a difference may reach with a gain of its own: it is turned up by ear, and ears come first."""

_LONG = 1 << 20  # frames of a file from which a delay is looked for around a passage alone
_AROUND_SECONDS = 10.0  # before it; twice as long after it
_LEAST_FRAMES = 64  # of each side, from which a delay can be told
_WHOLE_SECONDS = 10.0  # of a file that is played whole, at most


class NothingToHear(Conflict):
    """Sides do not go together, or there is nothing of them to play."""

    def __init__(self, why: str) -> None:
        super().__init__(f"These cannot be listened to side by side: {why}.")


@dataclass(frozen=True)
class Prepared:
    """A side as it is played.

    Attributes:
        parts: one, or two of a difference.
        delay: samples that were taken off; None where none could be found, and `why` says so.
        notes: what was done to it beside that, as resampling.
    """

    spec: str
    name: str
    parts: tuple[Part, ...]
    difference: bool
    delay: float | None
    level: SideLevel
    why: str
    notes: str


@dataclass(frozen=True)
class ListeningRequest:
    """How sides are to be listened to.

    Attributes:
        passage: start and end in s of the first side's time axis, or one that is found.
        band: Hz; None for all of it.
        snap: move the ends of a passage to where the first side rises through zero.
    """

    align: Align = "whole"
    by: Matched = "loudness_integrated"
    passage: tuple[float, float] | Named = "loudest"
    band: Band | None = None
    snap: bool = True


@dataclass(frozen=True)
class Listening:
    """Sides on one time axis: that of the first, at its rate.

    Attributes:
        start, stop: the passage, frames.
        found: what was asked for could not be found, in words; empty where it was.
    """

    rate: int
    channels: int
    frames: int
    start: int
    stop: int
    sides: tuple[Prepared, ...]
    found: str


def prepare(session: Session, specs: Sequence[tuple[str, str]], asked: ListeningRequest) -> Listening:
    """Line sides up with the first, choose the passage, and bring all to one level over it.

    Args:
        specs: address and name of each. ADDRESS~CODEC-BITRATE is a lossy copy, and ONE!OTHER is ONE less OTHER.
    Raises:
        BadParameter: a spec, passage or band that is none.
        NothingToHear: sides have more than two channels, or nothing is left of the passage.
        ContentNotFound, AnalysisNotFound, CellNotFound, AudioDropped: there is no audio at an address.
    """
    if not LEAST_SIDES <= len(specs) <= MOST_SIDES:
        raise BadParameter("sides", len(specs), f"from {LEAST_SIDES} to {MOST_SIDES}")
    parsed = [_parse(spec) for spec, _ in specs]
    first = Opened(session, parsed[0][0])
    width = max(Opened(session, part).channels for parts in parsed for part in parts)
    if width > 2:
        raise NothingToHear(f"one of them has {width} channels, and up to two are played")
    if asked.band is not None:
        band_taps(asked.band, first.rate)
    around = _around(first, asked)
    delays: dict[str, tuple[Alignment, float | None, str]] = {}

    def placed(part: Part) -> Part:
        if part.address not in delays:
            delays[part.address] = _delay(session, first, part, asked.align, around)
        shift = delays[part.address][0]
        return Part(part.address, part.codec, part.bitrate, shift.shift, shift.fraction, part.scale)

    lined = [tuple(placed(part) for part in parts) for parts in parsed]
    start, stop, found = _passage(session, first, lined, asked)
    clips = [clip_of(session, parts, first.rate, width, start, stop, asked.band) for parts in lined]
    plain = [i for i, parts in enumerate(lined) if len(parts) == 1]
    levels = dict(zip(plain, one_level([clips[i] for i in plain], first.rate, asked.by), strict=True))
    sides = []
    for i, ((spec, name), parts) in enumerate(zip(specs, lined, strict=True)):
        level = levels.get(i) or one_level([clips[i]], first.rate, "none")[0]
        _, delay, why = delays[parts[0].address]
        sides.append(
            Prepared(spec, name, parts, len(parts) > 1, delay, level, why, _notes(session, first, parts, (start, stop)))
        )
    return Listening(first.rate, width, first.frames, start, stop, tuple(sides), found)


def clip_of(
    session: Session, parts: Sequence[Part], rate: int, channels: int, start: int, stop: int, band: Band | None
) -> Samples:
    """Frames start to stop of a side, as a loop, shape (frames, channels).

    Raises BadParameter for a stretch that is too long or outside.
    """
    if not 0 <= start < stop:
        raise BadParameter("passage", f"{start} to {stop}", "from an earlier frame to a later one")
    if (stop - start) * channels > MOST_SAMPLES or stop - start > MOST_SECONDS * rate:
        raise BadParameter(
            "passage", f"{(stop - start) / rate:.1f} s", f"at most {MOST_SECONDS:g} s and 6 million samples"
        )
    total = np.zeros((stop - start, channels))
    for part in parts:
        source = Opened(session, part)
        moved = AlignedSource(AtRate(source, rate), source.frames_at(rate), Alignment(part.shift, part.fraction))
        total += part.scale * _wide(loop_of(moved, start, stop, band), channels)
    return total


def part_documents(parts: Sequence[Part]) -> list[dict[str, Any]]:
    """Parts as they are kept."""
    return [asdict(part) for part in parts]


def parts_from(documents: Sequence[dict[str, Any]]) -> tuple[Part, ...]:
    """The parts that were kept so."""
    return tuple(Part(**document) for document in documents)


def _parse(spec: str) -> tuple[Part, ...]:
    one, *others = spec.split("!")
    if len(others) > 1 or not all((one, *others)):
        raise BadParameter("side", spec, "an address, or two with ! between them")
    parts = (_part(one), *(_part(other) for other in others))
    return (
        parts if len(parts) == 1 else (parts[0], Part(parts[1].address, parts[1].codec, parts[1].bitrate, scale=-1.0))
    )


def _part(text: str) -> Part:
    address, marked, wanted = text.partition("~")
    if not marked:
        return Part(address)
    codec, _, bitrate = wanted.partition("-")
    known = next((one for one in CODECS if one == codec), None)
    try:
        kilobits = float(bitrate)
    except ValueError:
        kilobits = math.nan
    if known is None or not math.isfinite(kilobits):
        raise BadParameter("side", text, f"ADDRESS~CODEC-BITRATE with one of {', '.join(CODECS)}")
    return Part(address, known, kilobits)


def _delay(
    session: Session, first: Opened, part: Part, align: Align, around: float
) -> tuple[Alignment, float | None, str]:
    """What is taken off a part: its delay after the first side, at that side's rate; why none could be found."""
    if align == "as rendered":
        return Alignment(), 0.0, ""
    other = AtRate(Opened(session, Part(part.address)), first.rate)
    samples, why = _found_delay(first, other, around if max(first.frames, other.frames) > _LONG else 0.0)
    if samples is None:
        return Alignment(), None, why
    whole = round(samples)
    fraction = samples - whole if align == "fraction" else 0.0
    return Alignment(whole, fraction), whole + fraction, ""


@cached(LRUCache(4096), key=lambda first, other, around: (first.part, other.source.part, around), lock=Lock())
def _found_delay(first: Opened, other: AtRate, around: float) -> tuple[float | None, str]:
    """How much later a side is than the first, in samples of that one, or why none was found; looked for once."""
    a, b = _near(first, other, around)
    if min(len(a), len(b)) < _LEAST_FRAMES:
        return None, "too little of it lies beside the first side"
    if other.source.frames == first.frames and np.array_equal(a, b):
        return 0.0, ""
    found, _ = find_delays(ArraySource(a, first.rate), ArraySource(b, first.rate))
    return found.samples, "" if found.samples is not None else found.why or "no delay was found"


def _around(first: Opened, asked: ListeningRequest) -> float:
    """Where in a long file delays are looked for, in s: at the passage, or where it is loudest."""
    if isinstance(asked.passage, tuple):
        return asked.passage[0]
    loudest = _loudest(first) if first.frames > _LONG else None
    return 0.0 if loudest is None else loudest[0]


@cached(LRUCache(512), key=lambda first: first.part, lock=Lock())
def _loudest(first: Opened) -> tuple[float, float, float] | None:
    """The loudest passage of a side: all of a file is read for it, so once."""
    return loudest_passage(first)


def _near(first: Source, other: Source, around: float) -> tuple[Samples, Samples]:
    """All of two sources that are not long, or of both what lies around a time in s; of as many channels."""
    lo, hi = 0, max(first.frames, other.frames)
    if hi > _LONG:
        lo = max(0, round((around - _AROUND_SECONDS) * first.rate))
        hi = lo + round(3 * _AROUND_SECONDS * first.rate)
    a, b = (side.read(min(lo, side.frames), min(hi, side.frames)) for side in (first, other))
    return (a, b) if a.shape[1] == b.shape[1] else (_mono(a), _mono(b))


def _mono(samples: Samples) -> Samples:
    return np.asarray(samples.mean(axis=1, keepdims=True))


def _wide(samples: Samples, channels: int) -> Samples:
    return samples if samples.shape[1] == channels else np.repeat(samples[:, :1], channels, axis=1)


def _passage(
    session: Session, first: Opened, lined: Sequence[tuple[Part, ...]], asked: ListeningRequest
) -> tuple[int, int, str]:
    """Frames of the passage, and what could not be found of what was asked."""
    rate, seconds, missing = first.rate, first.frames / first.rate, ""
    found: tuple[float, float] | None
    match asked.passage:
        case "loudest":
            loudest = _loudest(first)
            found = None if loudest is None else loudest[:2]
            missing = "" if found else "the first side is silent"
        case "quietest":
            found = quietest(first)
            missing = "" if found else "the first side is silent"
        case "first event":
            found = first_note(first)
            missing = "" if found else "the first side is silent"
        case "differs most":
            found = _where_they_differ(session, first, lined, asked.band)
            missing = "" if found else "the first two sides do not differ"
        case "whole":
            found = (0.0, min(seconds, _WHOLE_SECONDS))
        case (start, end):
            if not 0.0 <= start < end or start >= seconds:
                raise BadParameter(
                    "passage", f"{start:g} to {end:g} s", f"within the {seconds:.2f} s of the first side"
                )
            if end - start > MOST_SECONDS:
                raise BadParameter("passage", f"{end - start:.1f} s", f"at most {MOST_SECONDS:g} s")
            found = (start, min(end, seconds))
    start, end = found or (0.0, min(seconds, 3.0))
    least = min(LEAST_SECONDS, seconds)
    lo, hi = round(start * rate), round(max(end, start + least) * rate)
    if asked.snap:
        lo, hi = nearest_crossing(first, lo) if lo else 0, nearest_crossing(first, hi)
    hi = min(hi, first.frames)
    hi = min(hi, lo + min(round(MOST_SECONDS * rate), MOST_SAMPLES // 2))
    if hi <= lo:
        raise NothingToHear("nothing is left of the passage")
    return lo, hi, missing


def _where_they_differ(
    session: Session, first: Opened, lined: Sequence[tuple[Part, ...]], band: Band | None
) -> tuple[float, float] | None:
    other = next((parts[0] for parts in lined[1:] if len(parts) == 1), None)
    if other is None:
        return None
    opened = Opened(session, Part(other.address))
    if opened.channels != first.channels:
        return None
    moved = AlignedSource(AtRate(opened, first.rate), first.frames, Alignment(other.shift))
    return strongest(DifferenceSource(first, moved), 3.0, band)


def _notes(session: Session, first: Opened, parts: Sequence[Part], passage: tuple[int, int]) -> str:
    said = []
    for part in parts:
        source = Opened(session, part)
        if source.rate != first.rate:
            said.append(resampled_text([source.rate], resampling_floor(source.rate, first.rate)))
        ends = (min(source.frames, frame * source.rate // first.rate) for frame in passage)
        if not np.isfinite(source.plain.read(*ends)).all():
            said.append("samples that are no numbers are played as silence")
        if part.codec is not None:
            said.append(f"{part.codec} at {part.bitrate:g} kbit/s, its delay taken off")
    return "; ".join(said)
