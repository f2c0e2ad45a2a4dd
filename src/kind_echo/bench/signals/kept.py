"""The library of signals: kinds, what is kept, a look at each before it is used, and files of it."""

from dataclasses import dataclass
from pathlib import Path

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
from kind_echo.core.registry.documents import ReadingDocument
from kind_echo.core.registry.errors import BadParameter, Conflict
from kind_echo.core.signals import (
    OWN_FILE,
    OwnFile,
    SignalDocument,
    Stimulus,
    all_kinds,
    every_parameter,
    in_full,
    stimulus_of,
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
    readings: list[ReadingDocument]
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


def checked(request: SignalDocument) -> SignalDocument:
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
    stimulus_of(request)
    return {name: value for name, value in in_full(request).items() if name != "channels"}


def shown(request: SignalDocument) -> SignalDocument:
    """A request as people read it: what differs from the usual alone."""
    return dict(request) if request["kind"] == OWN_FILE else without_defaults(request)


def keep_signal(session: Session, name: str, request: SignalDocument) -> Signal:
    """Keep a signal under a name. Raises SignalExists, BadParameter."""
    found = checked(request)
    if session.scalar(select(Signal.id).where(Signal.name == name)) is not None:
        raise SignalExists(name)
    signal = Signal(name=name, request=found)
    if isinstance(signal.stimulus, OwnFile):
        find_content(session, signal.stimulus.sha256)
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
    file = OwnFile(content.sha256, f"{file_name}, SHA-256 {file_digest(path)}")
    return keep_signal(session, name, file.document())


def channels_of(session: Session, stimulus: Stimulus) -> int:
    """How many channels a signal has by itself: those of the file, or two where it tells them apart."""
    return find_content(session, stimulus.sha256).channels if isinstance(stimulus, OwnFile) else stimulus.channels


def seconds_of(session: Session, stimulus: Stimulus, rate: int) -> float:
    """How long a signal lasts, without making it. Raises ContentNotFound."""
    if isinstance(stimulus, OwnFile):
        content = find_content(session, stimulus.sha256)
        return content.frames / content.rate
    return whole_seconds(stimulus, rate)


def preview(session: Session, stimulus: Stimulus, rate: int) -> Preview:
    """Make a signal at a rate and look at it. Raises BadParameter for one that cannot be had, or is very long."""
    samples = _made(session, stimulus, rate)
    source = ArraySource(samples, rate)
    readings = [reading_document(r) for r in measure(source) if r.channel == "all" and r.measure in _SHOWN]
    return Preview(samples, rate, readings, level_map(source, _COLUMNS, _ROWS), _tone(stimulus))


def sounding(session: Session, stimulus: Stimulus, rate: int) -> ArraySource:
    """A signal at a rate. Raises BadParameter for one that cannot be had, or is very long."""
    return ArraySource(_made(session, stimulus, rate), rate)


def aliases_of(stimulus: Stimulus) -> dict[int, list[Alias]]:
    """For a tone: where the harmonics beyond half of each rate will fold to. Empty for all other kinds."""
    frequency = _tone(stimulus)
    if frequency is None:
        return {}
    return {rate: expected_aliases(frequency, rate) for rate in RATES if frequency < rate / 2}


def _tone(stimulus: Stimulus) -> float | None:
    """The frequency of a tone in Hz; None for all other kinds, those too that are a sine of another shape."""
    return stimulus.one_sine if stimulus.kind == "tone" else None


def export(session: Session, stimulus: Stimulus, rate: int, word_length: str, dithered: bool, path: Path) -> None:
    """Write a signal to a file whose name tells the format.

    Raises:
        BadParameter: it cannot be had at that rate, is very long, or the format does not take the word length.
    """
    if word_length not in WORD_LENGTHS:
        raise BadParameter("word length", word_length, f"one of {', '.join(WORD_LENGTHS)}")
    subtype, bits = WORD_LENGTHS[word_length]
    if path.suffix == ".flac" and not bits:
        raise BadParameter("word length", word_length, "16 or 24 bit in FLAC")
    samples = _made(session, stimulus, rate)
    if bits:
        seed = 1 if isinstance(stimulus, OwnFile) else stimulus.seed
        samples = to_word_length(samples, bits, dithered=dithered, seed=seed)
    write_audio(path, np.asarray(samples), rate, subtype)


def _made(session: Session, stimulus: Stimulus, rate: int) -> Samples:
    channels = channels_of(session, stimulus)
    seconds = seconds_of(session, stimulus, rate)
    if seconds * rate * channels > _MOST_FRAMES:
        most = _MOST_FRAMES / rate / channels
        raise BadParameter("seconds", round(seconds, 3), f"up to {most:.0f} to be looked at or written here")
    return make_stimulus(session, stimulus, channels, rate)
