"""What is found of one file of a set, by itself and against the reference."""

from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.audio_io.codecs import LossyCodec
from kind_echo.audio_io.encoding import ENCODINGS
from kind_echo.bench.comparisons import analyse, find_analysis
from kind_echo.bench.documents import curve_documents, kept_reading, loudness_curves
from kind_echo.bench.sets.options import SetOptions, options_from
from kind_echo.bench.signals import make_stimulus
from kind_echo.core.audio.resampling import resample, resampling_floor
from kind_echo.core.audio.source import ArraySource, in_memory
from kind_echo.core.levels.analysis import scan_file
from kind_echo.core.listening.lossy import measure_lossy
from kind_echo.core.registry.documents import CurveDocument, ReadingDocument
from kind_echo.core.registry.errors import KindEchoError
from kind_echo.core.registry.readings import Curve, Reading
from kind_echo.core.systems.by_signal import measure_by_signal
from kind_echo.core.systems.response import measure_response
from kind_echo.core.tones.tone import ToneOptions, measure_tone
from kind_echo.database.blobs import BlobSource, store_content
from kind_echo.database.models import FileSet, Pair, SetFile, Signal, Upload
from kind_echo.wording.conditions import rate_text, resampled_text

MOST_RESAMPLED = 60_000_000
"""Samples of a file that can be brought to another rate: it is done in memory."""


@dataclass(frozen=True)
class Measured:
    """What was found of a file: readings of all channels together, curves, a note, and what it was compared with."""

    readings: list[ReadingDocument]
    curves: list[CurveDocument]
    note: str
    pair: Pair | None


def measure_file(session: Session, file: SetFile) -> Measured:
    """Measure a file of a set; nothing is written but audio and what was found of a pair.

    Raises:
        KindEchoError: what was asked for cannot be measured of it.
    """
    options = options_from(file.set.options)
    # Asked for by itself: the readings of a hundred files need not be read for each of them.
    chosen = select(SetFile).where(SetFile.set_id == file.set_id, SetFile.role != "file", SetFile.id != file.id)
    other = session.scalar(chosen.order_by(SetFile.id).limit(1))
    notes: list[str] = []
    documents: list[ReadingDocument] = []
    curves: list[CurveDocument] = []
    pair = None
    if other is not None and other.role == "reference":
        documents, note, pair = _against(session, file, other.upload, options)
        notes.append(note)
        if pair is not None and pair.analysis_key is not None:
            kept = find_analysis(session, pair.analysis_key).curves
            curves = [one for one in kept if one["side"] == "render"]
    source = BlobSource(session, file.upload.content)
    if not documents or not curves:
        scan = scan_file(source)
        documents = documents or [kept_reading(reading) for reading in scan.readings]
        curves = curve_documents(loudness_curves(scan.curves), "render")
    if file.role != "input":
        try:
            given = other.upload if other and other.role == "input" else None
            more, found = _further(session, source, given, options)
            documents += [kept_reading(reading) for reading in more]
            curves += curve_documents(found, "render")
        except KindEchoError as error:
            notes.append(str(error).rstrip("."))
    overall = [document for document in documents if document["channel"] == "all"]
    return Measured(overall, curves, "; ".join(note for note in notes if note), pair)


class Superseded(KindEchoError):
    """What was found of a file is wanted no more: nothing of it is to stay."""

    def __init__(self) -> None:
        super().__init__("The file has gone, or is to be measured in another way by now.")


def is_wanted(session: Session, file: SetFile | None, revision: int) -> bool:
    """Whether a file is still to be measured as it was to be at that revision, and nobody has yet."""
    if file is None or file.state != "measuring":
        return False
    return session.scalar(select(FileSet.revision).where(FileSet.id == file.set_id)) == revision


def keep_found(session: Session, file_id: int, revision: int, found: Measured) -> None:
    """Keep what was found of a file. Raises Superseded where nobody wants it any more."""
    file = session.get(SetFile, file_id, with_for_update=True, populate_existing=True)
    if file is None or not is_wanted(session, file, revision):
        raise Superseded
    if found.pair is not None:
        session.add(found.pair)
        session.flush()
    file.readings, file.curves, file.why = found.readings, found.curves, found.note
    file.pair, file.state = found.pair, "done"


def _against(
    session: Session, file: SetFile, reference: Upload, options: SetOptions
) -> tuple[list[ReadingDocument], str, Pair | None]:
    """What comparing with the reference gives, and a note; no readings where it cannot be compared by samples."""
    render, note = file.upload, ""
    first, content = reference.content, render.content
    if content.channels != first.channels:
        return [], f"{content.channels} against {first.channels} channels: levels alone are compared", None
    if content.rate != first.rate:
        rates = f"{content.rate / 1000:g} against {rate_text(first.rate)}"
        if not options.resample:
            return [], f"{rates}: levels alone are compared, unless it is resampled", None
        if content.frames * content.channels * max(1.0, first.rate / content.rate) > MOST_RESAMPLED:
            return [], f"{rates}: too long to be resampled here; levels alone are compared", None
        render = _resampled(session, render, first.rate)
        note = resampled_text([content.rate], resampling_floor(content.rate, first.rate))
    analysis = analyse(session, first, render.content, options.compare)
    pair = Pair(
        reference_id=reference.id, render_id=render.id, options=options.document()["compare"], state="done", why="",
        analysis_key=analysis.key,
    )  # fmt: skip
    known = {document["measure"] for document in analysis.readings}
    own = [d for d in analysis.side_readings.get("render", []) if d["measure"] not in known]
    note = "; ".join(part for part in (analysis.explanation, note) if part)
    return [*analysis.readings, *own], note, pair


def _resampled(session: Session, upload: Upload, rate: int) -> Upload:
    """The file at another rate, kept under a name that says so."""
    source = BlobSource(session, upload.content)
    samples = resample(source.read(0, source.frames), source.rate, rate)
    content = store_content(session, ArraySource(samples, rate), ENCODINGS["FLOAT"], brought_by=upload.brought_by)
    made = Upload(
        name=f"{upload.name} at {rate} Hz", file_sha256=upload.file_sha256, subtype="FLOAT",
        content_sha256=content.sha256, brought_by=upload.brought_by,
    )  # fmt: skip
    session.add(made)
    session.flush()
    return made


def _further(
    session: Session, source: BlobSource, given: Upload | None, options: SetOptions
) -> tuple[list[Reading], dict[str, Curve]]:
    """What the files are measured for beside levels, and its curves."""
    if given is not None:
        stimulus = BlobSource(session, given.content)
        return measure_response(in_memory(stimulus), in_memory(source))
    match options.also:
        case "tone" if options.frequency is not None:
            return measure_tone(in_memory(source), ToneOptions(options.frequency))
        case "lossy":
            return measure_lossy(source, LossyCodec(options.codec, options.bitrate, source.rate, source.channels))
        case "signal" if options.signal_id is not None:
            signal = session.get_one(Signal, options.signal_id)
            samples = make_stimulus(session, signal.stimulus, source.channels, source.rate)
            return measure_by_signal(signal.stimulus, ArraySource(samples, source.rate), in_memory(source))
    return [], {}


def changes(found: FileSet) -> dict[int, dict[str, float]]:
    """By how much each level of a file is above the reference's, in the unit of the measure, by number of the file."""
    reference = next((one for one in found.files if one.role == "reference"), None)
    if reference is None:
        return {}
    own = {one["measure"]: one["value"] for one in reference.readings if one["value"] is not None}
    return {
        one.id: {
            document["measure"]: document["value"] - own[document["measure"]]
            for document in one.readings
            if document["value"] is not None and document["measure"] in own
        }
        for one in found.files
        if one is not reference
    }
