"""Keeping what was rendered: measured against its stimulus, stored by its content, and made the cell's render."""

from collections.abc import Iterable
from datetime import datetime

from sqlalchemy.orm import Session

from kind_echo.audio_io.codecs import usual_codec
from kind_echo.audio_io.encoding import ENCODINGS, as_kept
from kind_echo.bench.documents import curve_documents, kept_reading, loudness_curves
from kind_echo.bench.storage import check_space
from kind_echo.core.audio.source import ArraySource, Samples
from kind_echo.core.comparison.takes import take_readings
from kind_echo.core.levels.cost import cost_readings
from kind_echo.core.levels.hosting import hosting_readings, latency_told
from kind_echo.core.listening.lossy import measure_lossy
from kind_echo.core.registry.documents import CurveDocument, ReadingDocument
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.registry.readings import Reading
from kind_echo.core.systems.by_signal import measure_beside_signal
from kind_echo.core.systems.transfer import ExpectedCurve
from kind_echo.database.blobs import store_content
from kind_echo.database.models import Case, Cell, Render, Take
from kind_echo.renderers.contract import RenderResult
from kind_echo.renderers.process import own_memory
from kind_echo.renderers.takes import Rendered


def keep_render(session: Session, cell: Cell, signal: Samples, rendered: Rendered, now: datetime) -> Render:
    """Measure what came back against its stimulus, and make it the cell's render. Raises StorageFull."""
    first, rate = rendered.takes[0], cell.condition.rate
    word_length = ENCODINGS[cell.condition.word_length]
    sources = [ArraySource(as_kept(take.samples, word_length), rate) for take in rendered.takes]
    readings, curves = _measured(cell.case, signal, sources[0], first, rate)
    if wants_lossy(cell.case.limits):
        lossy, _ = measure_lossy(sources[0], usual_codec(rate, sources[0].channels))
        readings += [kept_reading(reading) for reading in lossy]
    cost = _cost(rendered, rate)
    if first.blocks is not None:
        cost += hosting_readings(first.blocks, first.samples, rate)
    if first.claimed_latency is not None:
        cost.append(latency_told(first.claimed_latency))
    if len(sources) > 1:
        cost += take_readings(list(sources))
    render = Render(
        content_sha256=store_content(session, sources[0], word_length).sha256,
        claimed_latency=first.claimed_latency,
        wall_seconds=rendered.wall or 0.0,
        cpu_seconds=rendered.cpu,
        readings=readings + [kept_reading(reading) for reading in cost],
        curves=curves,
        rendered_at=now,
        log=keepable(first.log),
        measured_as_kept=True,
    )
    session.add(render)
    session.flush()
    for number, source in enumerate(sources[1:], start=2):
        sha256 = store_content(session, source, word_length).sha256
        session.add(Take(render_id=render.id, number=number, content_sha256=sha256))
    check_space(session)
    cell.render = render
    return render


def wants_lossy(limits: Iterable[str]) -> bool:
    """Whether a case is judged by what lossy encoding does: it takes long, and is measured where it is asked for."""
    return any(find_measure(key).family == "lossy" for key in limits)


def keepable(log: str) -> str:
    """A log as PostgreSQL keeps it: it has no zero characters."""
    return log.replace("\x00", "\ufffd")


def _measured(
    case: Case, signal: Samples, render: ArraySource, result: RenderResult, rate: int
) -> tuple[list[ReadingDocument], list[CurveDocument]]:
    """Readings and curves of a render by itself and against its stimulus, as they are kept."""
    claimed = 0.0 if result.compensated else result.claimed_latency
    law = None if case.expected is None else ExpectedCurve(**case.expected)
    readings, loudness, curves = measure_beside_signal(
        case.signal.stimulus, ArraySource(signal, rate), render, claimed=claimed, law=law
    )
    documents = [kept_reading(r) for r in readings]
    return documents, curve_documents(loudness_curves(loudness) | curves, "render")


def _cost(rendered: Rendered, rate: int) -> list[Reading]:
    if rendered.wall is None:
        return []
    first = rendered.takes[0]
    seconds = len(first.samples) / rate * len(rendered.takes)
    memory = first.memory if first.cpu_seconds is not None else own_memory()
    return cost_readings(seconds, rendered.wall, rendered.cpu, memory)
