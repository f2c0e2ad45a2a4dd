"""What is measured of a pair: kept by the digests of its files, so that the same pair is never measured twice."""

import hashlib
import json
from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from typing import cast

import numpy as np

from kind_echo import __version__
from kind_echo.audio_io.digests import file_digest
from kind_echo.audio_io.files import AudioFile
from kind_echo.audio_io.scratch import resampled
from kind_echo.bench.documents import (
    ComparedDocument,
    MeasuredDocument,
    WentInDocument,
    kept_reading,
    reading_from,
    whole_curves,
)
from kind_echo.checks.pairing import Pair
from kind_echo.core.audio.source import ArraySource, Derived, Samples, Source
from kind_echo.core.causes.cause import Cause
from kind_echo.core.comparison.compare import compare
from kind_echo.core.comparison.identical import readings_of_identical
from kind_echo.core.comparison.pair import CompareOptions
from kind_echo.core.comparison.takes import take_spread
from kind_echo.core.levels.analysis import measure
from kind_echo.core.registry.documents import FileDocument, WholeCurveDocument
from kind_echo.core.registry.errors import Invalid
from kind_echo.core.registry.readings import Reading, value_of
from kind_echo.core.registry.versions import FAMILY_VERSIONS, versions_of
from kind_echo.core.signals import SignalDocument, make_request, stimulus_of, synthesise
from kind_echo.core.systems.by_signal import measure_beside_signal
from kind_echo.core.systems.law_change import with_changed_law
from kind_echo.core.systems.of_test_signal import measure_test_signal
from kind_echo.core.systems.recognised import Signal, measure_by_input, recognise
from kind_echo.core.systems.transfer import ExpectedCurve
from kind_echo.wording.causes import noted


class BadInput(Invalid):
    """What went into an effect has another rate, or channels that are not those of what came out."""

    def __init__(self, stimulus: Source, render: Source) -> None:
        told, wanted = (f"{one.rate} Hz and {one.channels} ch" for one in (stimulus, render))
        super().__init__(f"Its input has {told}, and the render {wanted}")


@dataclass(frozen=True)
class Measured:
    """What is known of a pair.

    Attributes:
        signal: what kind of signal the reference, or the input, is.
        inputs: the files, as they stand under "inputs" in JSON, but for their paths.
        own: readings of the render by itself and beside what went in.
        comparison: readings of the render against the reference.
        causes: what explains the difference.
        curves: as they stand in JSON.
    """

    signal: Signal
    inputs: list[FileDocument]
    own: list[Reading]
    comparison: list[Reading]
    causes: list[Cause]
    curves: dict[str, WholeCurveDocument]

    def document(self) -> MeasuredDocument:
        """As it is kept."""
        return {
            "signal": self.signal, "inputs": self.inputs, "own": [kept_reading(r) for r in self.own],
            "comparison": [kept_reading(r) for r in self.comparison],
            "causes": [cause.document() for cause in self.causes], "curves": self.curves,
        }  # fmt: skip

    @classmethod
    def of(cls, document: MeasuredDocument) -> "Measured":
        """What was kept as a document."""
        return cls(
            cast("Signal", document["signal"]), document["inputs"], [reading_from(r) for r in document["own"]],
            [reading_from(r) for r in document["comparison"]], [Cause.of(c) for c in document["causes"]],
            document["curves"],
        )  # fmt: skip


@dataclass(frozen=True)
class ComparedHow:
    """How a cell of a run was compared.

    Attributes:
        law: the request of the signal that went in, where it shows the law of a level control.
        signal: what its render was measured beside: the request of that signal and the law that was expected; None
            where that was done on samples that are not those that are kept.
    """

    options: CompareOptions
    law: SignalDocument | None
    signal: WentInDocument | None = None

    @classmethod
    def of(cls, document: ComparedDocument) -> "ComparedHow":
        """What was kept as a document."""
        return cls(CompareOptions(**document["options"]), document["law"], document.get("signal"))


def digests_of(pair: Pair) -> list[str]:
    """SHA-256 of the bytes of each file of a pair, in its order. Raises OSError."""
    return [file_digest(str(path)) for path in pair.files]


def key_of(pair: Pair, digests: Sequence[str], *, resample: bool) -> str:
    """Digest of all that what is measured of a pair depends on."""
    shape = [len(pair.references), len(pair.renders), pair.input is not None]
    parts = [__version__, versions_of(FAMILY_VERSIONS), shape, list(digests), resample]
    return hashlib.sha256(json.dumps(parts).encode()).hexdigest()


def measure_pair(pair: Pair, digests: Sequence[str], *, resample: bool) -> Measured:
    """Measure a pair.

    Args:
        digests: of its files, in the order of `Pair.files`.
        resample: bring a render of another rate to the reference's.
    Raises:
        UnreadableAudio, RateMismatch, ChannelMismatch: it cannot be measured.
    """
    with ExitStack() as stack:
        opened = [stack.enter_context(AudioFile(path)) for path in pair.files]
        inputs = [_described(file, digest) for file, digest in zip(opened, digests, strict=True)]
        first = opened[0]
        sources: list[Source] = [first, *(_at_rate(file, first, stack, resample=resample) for file in opened[1:])]
        count = len(pair.references)
        references, renders = sources[:count], sources[count : count + len(pair.renders)]
        reference, render = references[0], renders[0]
        stimulus = fitting(sources[-1], render) if pair.input is not None else None
        if digests[0] == digests[count]:
            found, own = readings_of_identical(reference), measure(reference)
        else:
            found = compare(reference, render)
            own = list(found.sides[1].readings) if found.sides is not None else []
        readings, curves = list(found.readings), dict(found.curves)
        if stimulus is not None:
            found = with_changed_law(found, stimulus, reference, render)
            signal = recognise(stimulus)
            more, drawn = measure_by_input(stimulus, render)
        else:
            signal = recognise(reference)
            told = measure_test_signal(reference, render)
            more, drawn = told.render, told.curves
        own += more
        curves |= drawn
        takes = renders if len(renders) > 1 else references
        if len(takes) > 1:
            own.append(take_spread(list(takes)))
        return Measured(signal, inputs, own, noted(readings, found.causes), found.causes, whole_curves(curves))


def measure_cell(pair: Pair, digests: Sequence[str], how: ComparedHow) -> Measured:
    """A cell of a run compared again: its render by itself, and against what it was compared with.

    Args:
        digests: of the reference's and the render's file.
    Raises:
        UnreadableAudio, RateMismatch, ChannelMismatch, BadParameter: it cannot be.
    """
    with ExitStack() as stack:
        opened = [stack.enter_context(AudioFile(path)) for path in pair.files]
        reference, render = opened[:2]
        inputs = [_described(file, digest) for file, digest in zip(opened, digests, strict=True)]
        if digests[0] == digests[1]:
            found, own = readings_of_identical(reference), measure(reference)
        else:
            found = compare(reference, render, how.options)
            own = list(found.sides[1].readings) if found.sides is not None else []
            if how.law is not None:
                stimulus = synthesise(make_request(**{**how.law, "channels": reference.channels}), reference.rate)
                found = with_changed_law(found, ArraySource(stimulus, reference.rate), reference, render)
        return Measured("other", inputs, own, noted(found.readings, found.causes), found.causes, {})


def measure_cell_beside(pair: Pair, how: ComparedHow, kept: Sequence[Reading]) -> list[Reading]:
    """A cell's render measured again beside what went in; empty where that is not known.

    Args:
        kept: what was read then, which tells what latency was claimed.
    Raises:
        UnreadableAudio, RateMismatch, ChannelMismatch: it cannot be.
    """
    if pair.input is None or how.signal is None:
        return []
    with AudioFile(pair.input) as stimulus, AudioFile(pair.renders[0]) as render:
        claimed = value_of(kept, "latency_reported")
        law = None if how.signal["law"] is None else ExpectedCurve(**how.signal["law"])
        return measure_beside_signal(stimulus_of(how.signal["request"]), stimulus, render, claimed=claimed, law=law)[0]


@dataclass(frozen=True)
class _InAllChannels(Derived):
    """A sound of one channel in each of several."""

    count: int

    @property
    def channels(self) -> int:
        """So many."""
        return self.count

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop."""
        return np.repeat(self.source.read(start, stop), self.count, axis=1)


def fitting(stimulus: Source, render: Source) -> Source:
    """What went in, with as many channels as came out. Raises BadInput where that cannot be."""
    if stimulus.channels == 1 and render.channels > 1:
        stimulus = _InAllChannels(stimulus, render.channels)
    if (stimulus.rate, stimulus.channels) != (render.rate, render.channels):
        raise BadInput(stimulus, render)
    return stimulus


def _at_rate(file: AudioFile, first: AudioFile, until: ExitStack, *, resample: bool) -> Source:
    return resampled(file, first.rate, until) if resample and file.rate != first.rate else file


def _described(file: AudioFile, digest: str) -> FileDocument:
    return {
        "rate": file.rate, "channels": file.channels, "frames": file.frames, "subtype": file.info.subtype,
        "sha256": digest,
    }  # fmt: skip
