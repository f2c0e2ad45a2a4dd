"""Laying one content over another: found once, kept by the digest of all that it depends on."""

import hashlib
import json
from contextlib import ExitStack
from dataclasses import asdict
from threading import Lock
from typing import Literal

from cachetools import LRUCache
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from kind_echo.audio_io.scratch import to_scratch
from kind_echo.bench.documents import curve_documents, kept_reading, loudness_curves
from kind_echo.core.audio.align import AlignedSource, Alignment, DifferenceSource
from kind_echo.core.audio.documents import SpectrumDocument
from kind_echo.core.audio.source import ArraySource, Source, in_memory
from kind_echo.core.audio.spectrum import level_spectrum
from kind_echo.core.comparison.compare import compare
from kind_echo.core.comparison.documents import PlaceDocument
from kind_echo.core.comparison.identical import readings_of_identical
from kind_echo.core.comparison.pair import CompareOptions, Comparison, check_pair
from kind_echo.core.comparison.places import Place, find_places
from kind_echo.core.levels.analysis import measure
from kind_echo.core.registry.documents import CurveDocument, ReadingDocument
from kind_echo.core.registry.errors import NotFound
from kind_echo.core.registry.measure import Family
from kind_echo.core.registry.readings import value_of
from kind_echo.core.registry.versions import versions_of
from kind_echo.core.signals import SignalDocument, Stimulus, make_request, stimulus_of, synthesise
from kind_echo.core.systems.law_change import with_changed_law
from kind_echo.database.blobs import BlobSource, find_content
from kind_echo.database.models import Analysis, Content
from kind_echo.database.waveforms import store_peaks
from kind_echo.wording.causes import describe, noted

_LISTS = ("gaps", "changed_regions")  # curves that list events, and are not drawn
_MOST_PLACES = 100
_HELD_BYTES = 1 << 26  # of samples, by a worker
_HELD_SPECTRA = 64
_TONE_SEARCH = 0.45  # of a period; a delay on a tone is known only within half of one


class _References:
    """References that were compared with lately: the many files of a set, and of a sheet, have few of them."""

    def __init__(self) -> None:
        self._lock = Lock()
        self._samples: LRUCache[str, ArraySource] = LRUCache(_HELD_BYTES, getsizeof=lambda one: one.samples.nbytes)
        self._spectra: LRUCache[str, SpectrumDocument] = LRUCache(_HELD_SPECTRA)

    def source(self, session: Session, content: Content) -> Source:
        """Its audio, held in memory where it fits there."""
        if content.dropped_at is None:
            with self._lock:
                held: ArraySource | None = self._samples.get(content.sha256)
            if held is not None:
                return held
        source = in_memory(BlobSource(session, content))
        if isinstance(source, ArraySource) and source.samples.nbytes <= _HELD_BYTES:
            with self._lock:
                self._samples[content.sha256] = source
        return source

    def spectrum(self, sha256: str, source: Source) -> SpectrumDocument:
        """Its spectrum as JSON."""
        with self._lock:
            known: SpectrumDocument | None = self._spectra.get(sha256)
        if known is None:
            known = spectrum_document(source)
            with self._lock:
                self._spectra[sha256] = known
        return known


class AnalysisNotFound(NotFound):
    """An analysis is asked for that is not in the database."""

    def __init__(self, key: str) -> None:
        self.key = key
        super().__init__(f"There is no analysis {key[:12]} in the database.")


_references = _References()


def options_for(stimulus: Stimulus, rate: int) -> CompareOptions:
    """How renders of a signal are compared: of one sine, the search for the delay is kept under half a period."""
    if stimulus.one_sine is None:
        return CompareOptions()
    return CompareOptions(max_delay=max(1, int(_TONE_SEARCH * rate / stimulus.one_sine)))


def law_signal(signal: SignalDocument | None) -> SignalDocument | None:
    """The request of a signal that shows the law of a level control; None for any other."""
    return signal if signal is not None and stimulus_of(signal).method in ("transfer", "dynamics") else None


def analysis_key(reference: str, render: str, options: CompareOptions, signal: SignalDocument | None = None) -> str:
    """Digest of all that an analysis depends on; of the contents their own digests.

    Args:
        signal: what both are renders of, where that is known.
    """
    families: tuple[Family, ...] = ("levels", "loudness", "integrity", "compare", "account")
    parts = [reference, render, asdict(options), versions_of(families)]
    law = law_signal(signal)
    if law is not None:
        parts += [law, versions_of(("transfer", "dynamics"))]
    return hashlib.sha256(json.dumps(parts, sort_keys=True).encode()).hexdigest()


def analyse(
    session: Session,
    reference: Content,
    render: Content,
    options: CompareOptions,
    signal: SignalDocument | None = None,
) -> Analysis:
    """The analysis of a pair: the one that is kept, or else a new one. May run twice at once without harm.

    Args:
        signal: what both are renders of, where that is known: a staircase or a burst shows the law that changed.
    Raises:
        RateMismatch, ChannelMismatch: the two cannot be compared sample by sample.
    """
    key = analysis_key(reference.sha256, render.sha256, options, signal)
    kept = session.get(Analysis, key)
    if kept is not None:
        return kept
    with ExitStack() as until:
        # Spectra, waveforms and places read both again: all is unpacked once for them.
        a, b = _references.source(session, reference), in_memory(BlobSource(session, render))
        sources = to_scratch(a, until), to_scratch(b, until)
        return _new_analysis(session, key, (reference, render), sources, options, law_signal(signal))


def _new_analysis(
    session: Session,
    key: str,
    contents: tuple[Content, Content],
    sources: tuple[Source, Source],
    options: CompareOptions,
    law: SignalDocument | None,
) -> Analysis:
    (reference, render), (a, b) = contents, sources
    found = readings_of_identical(a) if reference.sha256 == render.sha256 else compare(a, b, options)
    if law is not None and reference.sha256 != render.sha256:
        stimulus = synthesise(make_request(**{**law, "channels": a.channels}), a.rate)
        found = with_changed_law(found, ArraySource(stimulus, a.rate), a, b)
    aligned = AlignedSource(b, a.frames, found.alignment)
    difference = in_memory(DifferenceSource(a, aligned))
    row = {
        "key": key,
        "reference_sha256": reference.sha256,
        "render_sha256": render.sha256,
        "options": asdict(options),
        "readings": [kept_reading(r) for r in noted(found.readings, found.causes)],
        "alignment": asdict(found.alignment),
        "same_length": a.frames == b.frames,
        "spectra": _spectra(found, reference.sha256, a, aligned, difference),
        "curves": _curves(found),
        "explanation": describe(found.causes),
        "causes": [cause.document() for cause in found.causes],
        "side_readings": _levels(found, a, difference),
        "places": _places(a, b, found),
    }
    session.execute(insert(Analysis).values(row).on_conflict_do_nothing())
    analysis = find_analysis(session, key)
    store_peaks(session, waveform_owner(analysis, "difference"), difference)
    if waveform_owner(analysis, "render") != render.sha256:
        store_peaks(session, waveform_owner(analysis, "render"), aligned)
    return analysis


def kept_analysis(
    session: Session,
    reference: Content,
    render: Content,
    options: CompareOptions,
    signal: SignalDocument | None = None,
) -> Analysis | None:
    """The analysis of a pair, where there is one already.

    Raises:
        RateMismatch, ChannelMismatch: there can be none.
    """
    check_pair(BlobSource(session, reference), BlobSource(session, render))
    return session.get(Analysis, analysis_key(reference.sha256, render.sha256, options, signal))


def find_analysis(session: Session, key: str) -> Analysis:
    """The analysis of that key. Raises AnalysisNotFound."""
    analysis = session.get(Analysis, key)
    if analysis is None:
        raise AnalysisNotFound(key)
    return analysis


def sides(session: Session, analysis: Analysis) -> tuple[BlobSource, AlignedSource, DifferenceSource]:
    """Reference, render and difference of an analysis, on the reference's time axis."""
    a = BlobSource(session, find_content(session, analysis.reference_sha256))
    b = BlobSource(session, find_content(session, analysis.render_sha256))
    aligned = AlignedSource(b, a.frames, Alignment(**analysis.alignment))
    return a, aligned, DifferenceSource(a, aligned)


def waveform_owner(analysis: Analysis, side: Literal["render", "difference"]) -> str:
    """Under what name a side's waveform is kept; a render that is not moved has the one of its content."""
    unmoved = Alignment(**analysis.alignment) == Alignment() and analysis.same_length
    return analysis.render_sha256 if side == "render" and unmoved else f"{analysis.key}.{side}"


def _levels(found: Comparison, reference: Source, difference: Source) -> dict[str, list[ReadingDocument]]:
    """Levels and integrity of each side by itself, and of their difference; of one audio on both sides, once."""
    if found.sides is None:
        own = [kept_reading(reading) for reading in measure(reference)]
        return {"reference": own, "render": own}
    sides = {side: scan.readings for side, scan in zip(("reference", "render"), found.sides, strict=True)}
    return {
        side: [kept_reading(reading) for reading in readings]
        for side, readings in {**sides, "difference": measure(difference)}.items()
    }


def _places(reference: Source, render: Source, found: Comparison) -> list[PlaceDocument]:
    """Where to look first: where the sides differ most, then the render by itself; none of what is not finite."""
    if found.sides is None or value_of(found.readings, "identical") is None:
        return []
    walked = find_places(reference, render, found, _MOST_PLACES)
    return [_place_document("difference", one) for one in walked.differences] + [
        _place_document("render", one) for one in walked.render
    ]


def _place_document(of: Literal["difference", "render"], place: Place) -> PlaceDocument:
    return {
        "of": of, "start": round(place.start, 6), "length": round(place.length, 6), "cause": place.cause,
        "amount": round(place.amount, 6), "unit": place.unit, "reason": place.reason,
    }  # fmt: skip


def _curves(found: Comparison) -> list[CurveDocument]:
    """The curves of the difference, and the loudness of both sides where they were measured."""
    documents = curve_documents({k: c for k, c in found.curves.items() if k not in _LISTS}, "difference")
    if found.sides is not None:
        for side, scan in zip(("reference", "render"), found.sides, strict=True):
            documents += curve_documents(loudness_curves(scan.curves), side)
    return documents


def _spectra(
    found: Comparison, sha256: str, reference: Source, render: Source, difference: Source
) -> dict[str, SpectrumDocument]:
    """The three spectra; none where a sample is not finite, for then there is none."""
    if value_of(found.readings, "identical") is None:
        return {}
    own = _references.spectrum(sha256, reference)
    return {"reference": own, "render": spectrum_document(render), "difference": spectrum_document(difference)}


def spectrum_document(source: Source, start: int = 0, stop: int | None = None) -> SpectrumDocument:
    """The spectrum of frames start … stop as JSON."""
    spectrum = level_spectrum(source, start, source.frames if stop is None else stop)
    return {
        "frequencies": [round(float(f), 3) for f in spectrum.frequencies],
        "levels": [round(float(level), 2) for level in spectrum.levels],
        "window": spectrum.window,
    }
