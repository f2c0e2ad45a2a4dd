"""The library of signals: kinds, what is kept, a look at each before it is used, and files of it."""

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from kind_echo.audio_io.decoding import Decoder
from kind_echo.audio_io.digests import file_digest
from kind_echo.audio_io.files import write_audio
from kind_echo.bench.documents import reading_document
from kind_echo.bench.signals.stimulus import make_stimulus
from kind_echo.bench.signals.uploads import keep_audio
from kind_echo.core.audio.dither import to_word_length
from kind_echo.core.audio.level_map import LevelMap, level_map
from kind_echo.core.audio.source import ArraySource, Samples
from kind_echo.core.levels.analysis import measure
from kind_echo.core.registry.errors import BadParameter, Conflict
from kind_echo.core.signals import (
    OWN_FILE,
    all_kinds,
    every_parameter,
    in_full,
    in_one_channel,
    make_request,
    whole_seconds,
    without_defaults,
)
from kind_echo.core.signals.aliases import Alias, expected_aliases
from kind_echo.database.blobs import find_content
from kind_echo.database.models import Case, Signal

RATES = (44_100, 48_000, 88_200, 96_000, 176_400, 192_000)
"""Rates at which plans render."""

WORD_LENGTHS = {"16 bit": ("PCM_16", 16), "24 bit": ("PCM_24", 24), "32 bit float": ("FLOAT", 0)}
"""What a file can be written in: libsndfile's name, and bits of an integer word."""

FORMATS = ("wav", "flac")

_MOST_FRAMES = 30_000_000
_COLUMNS, _ROWS = 240, 96
_SHOWN = ("sample_peak", "true_peak", "rms", "crest_factor", "dc_offset", "loudness_integrated")
_OWN = frozenset({"kind", "sha256", "name"})


class SignalExists(Conflict):
    """A signal is to be kept under a name that is taken."""

    def __init__(self, name: str) -> None:
        self.name = name
        super().__init__(f"There is a signal named {name} already; its plans rely on it. Choose another name.")


@dataclass(frozen=True)
class Preview:
    """A signal as it will be rendered at a rate.

    Attributes:
        samples: shape (frames, channels).
        played: the frequency of a tone in Hz, as it is played; None for all other kinds.
    """

    samples: Samples
    rate: int
    readings: list[dict[str, Any]]
    level_map: LevelMap
    played: float | None


def all_signals(session: Session) -> list[tuple[Signal, int]]:
    """All that is kept by name, each with the count of plan revisions' cases that use it."""
    used = select(Case.signal_id, func.count().label("cases")).group_by(Case.signal_id).subquery()
    query = (
        select(Signal, func.coalesce(used.c.cases, 0))
        .outerjoin(used, used.c.signal_id == Signal.id)
        .order_by(func.lower(Signal.name))
    )
    return [(signal, int(cases)) for signal, cases in session.execute(query)]


def checked(request: dict[str, Any]) -> dict[str, Any]:
    """A request as it is kept: checked, and in full. Raises BadParameter."""
    kind = request.get("kind")
    if kind == OWN_FILE:
        if set(request) != _OWN:
            raise BadParameter("kind", kind, "given with the file's digest and name")
        return dict(request)
    if kind not in all_kinds():
        raise BadParameter("kind", str(kind), f"one of {', '.join(all_kinds())}")
    known = every_parameter()
    unknown = sorted(set(request) - {*known, "kind"})
    if unknown:
        raise BadParameter(unknown[0], request[unknown[0]], "known to signals")
    for name in known.keys() & request.keys():
        value, usual = request[name], known[name][1]
        number = isinstance(value, int | float) and not isinstance(value, bool)
        fits = number if isinstance(usual, float) or name == "end" else type(value) is type(usual)
        if not fits and not (name == "end" and value is None):
            raise BadParameter(name, value, "of the right kind")
    # Channels come with the condition; a signal that is placed is one for two.
    asked = {**request, "channels": 1 if request.get("placement", "equal") == "equal" else 2}
    make_request(**asked)
    return {name: value for name, value in in_full(request).items() if name != "channels"}


def shown(request: dict[str, Any]) -> dict[str, Any]:
    """A request as people read it: what differs from the usual alone."""
    return dict(request) if request["kind"] == OWN_FILE else without_defaults(request)


def keep_signal(session: Session, name: str, request: dict[str, Any]) -> Signal:
    """Keep a signal under a name. Raises SignalExists, BadParameter."""
    found = checked(request)
    if session.scalar(select(Signal.id).where(Signal.name == name)) is not None:
        raise SignalExists(name)
    if found["kind"] == OWN_FILE:
        find_content(session, str(found["sha256"]))
    signal = Signal(name=name, request=found)
    session.add(signal)
    session.flush()
    return signal


def keep_own_file(session: Session, path: Path, file_name: str, name: str, *, who: str) -> Signal:
    """Keep a person's own file as a signal.

    Raises:
        UnreadableAudio, UploadRefused: it is not audio that is taken.
        QuotaReached, StorageFull: there would be more than the rule for storage allows.
        SignalExists: the name is taken.
    """
    with Decoder() as decoder:
        content, _ = keep_audio(session, decoder, path, file_name, who)
    digest = {"kind": OWN_FILE, "sha256": content.sha256, "name": f"{file_name}, SHA-256 {file_digest(path)}"}
    return keep_signal(session, name, digest)


def channels_of(session: Session, request: dict[str, Any]) -> int:
    """How many channels a signal has by itself: those of the file, or two where it tells them apart."""
    if request["kind"] == OWN_FILE:
        return find_content(session, str(request["sha256"])).channels
    return 1 if request.get("placement", "equal") == "equal" else 2


def seconds_of(session: Session, request: dict[str, Any], rate: int) -> float:
    """How long a signal lasts, without making it."""
    if request["kind"] == OWN_FILE:
        content = find_content(session, str(request["sha256"]))
        return content.frames / content.rate
    return whole_seconds(in_one_channel(request), rate)


def preview(session: Session, request: dict[str, Any], rate: int) -> Preview:
    """Make a signal at a rate and look at it. Raises BadParameter for one that cannot be had, or is very long."""
    samples = _made(session, request, rate)
    source = ArraySource(samples, rate)
    readings = [reading_document(r) for r in measure(source) if r.channel == "all" and r.measure in _SHOWN]
    tone = request["kind"] == "tone"
    played = in_one_channel(request).one_sine if tone else None
    return Preview(samples, rate, readings, level_map(source, _COLUMNS, _ROWS), played)


def sounding(session: Session, request: dict[str, Any], rate: int) -> ArraySource:
    """A signal at a rate. Raises BadParameter for one that cannot be had, or is very long."""
    return ArraySource(_made(session, request, rate), rate)


def aliases_of(request: dict[str, Any]) -> dict[int, list[Alias]]:
    """For a tone: where the harmonics beyond half of each rate will fold to. Empty for all other kinds."""
    if request["kind"] != "tone":
        return {}
    frequency = in_one_channel(request).one_sine
    assert frequency is not None
    return {rate: expected_aliases(frequency, rate) for rate in RATES if frequency < rate / 2}


def export(session: Session, request: dict[str, Any], rate: int, word_length: str, dithered: bool, path: Path) -> None:
    """Write a signal to a file whose name tells the format.

    Raises:
        BadParameter: it cannot be had at that rate, is very long, or the format does not take the word length.
    """
    if word_length not in WORD_LENGTHS:
        raise BadParameter("word length", word_length, f"one of {', '.join(WORD_LENGTHS)}")
    subtype, bits = WORD_LENGTHS[word_length]
    if path.suffix == ".flac" and not bits:
        raise BadParameter("word length", word_length, "16 or 24 bit in FLAC")
    samples = _made(session, request, rate)
    if bits:
        samples = to_word_length(samples, bits, dithered=dithered, seed=int(request.get("seed", 1)))
    write_audio(path, np.asarray(samples), rate, subtype)


def _made(session: Session, request: dict[str, Any], rate: int) -> Samples:
    channels = channels_of(session, request)
    seconds = seconds_of(session, request, rate)
    if seconds * rate * channels > _MOST_FRAMES:
        most = _MOST_FRAMES / rate / channels
        raise BadParameter("seconds", round(seconds, 3), f"up to {most:.0f} to be looked at or written here")
    return make_stimulus(session, request, channels, rate)
