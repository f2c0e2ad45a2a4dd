"""From a cell's readings to what is kept of its verdict."""

from collections.abc import Iterable, Mapping

from sqlalchemy import select
from sqlalchemy.orm import Session, joinedload

from kind_echo.audio_io.encoding import ENCODINGS
from kind_echo.bench.comparisons import analyse, analysis_key, options_for
from kind_echo.bench.decisions.references import current_reference, current_references_of
from kind_echo.bench.documents import limit_from, reading_from
from kind_echo.bench.signals import make_stimulus
from kind_echo.bench.verdicts import keep_verdict
from kind_echo.core.audio.source import ArraySource
from kind_echo.core.registry.documents import LimitDocument
from kind_echo.core.registry.measure import Limit
from kind_echo.core.verdicts.rules import RULES_VERSION, judge_cell
from kind_echo.core.verdicts.verdict import ITS_SIGNAL, THE_REFERENCE
from kind_echo.database.blobs import AudioDropped, store_content
from kind_echo.database.models import Cell, Content, Reference, Run

_KEPT = ("verdict", "facts", "why", "ink", "unfit", "broken", "measured", "rules")


def limit_documents(
    case_limits: Mapping[str, LimitDocument], condition_limits: Mapping[str, LimitDocument]
) -> dict[str, LimitDocument]:
    """The limits of a cell as they are kept: those of its condition go before those of its case."""
    return {**case_limits, **condition_limits}


def limits_of(cell: Cell) -> dict[str, Limit]:
    """The limits that a cell is judged by."""
    own = cell.run.revision.condition_limits.get(str(cell.condition_id), {})
    return {key: limit_from(document) for key, document in limit_documents(cell.case.limits, own).items()}


def judge_now(session: Session, cell: Cell) -> None:
    """Lay a cell's render over the current reference, judge it and keep the verdict; the render must be there."""
    assert cell.render is not None
    limits = limits_of(cell)
    readings = [reading_from(d) for d in cell.render.readings]
    verdict = judge_cell(readings, None, limits)
    cell.reference, cell.analysis = None, None
    other, called = None, THE_REFERENCE
    if not verdict.unfit and cell.case.against == "signal":
        other, called = _signal_content(session, cell), ITS_SIGNAL
    elif not verdict.unfit:
        cell.reference = current_reference(session, cell)
        other = cell.reference.render.content if cell.reference is not None else None
    if other is not None:
        options = options_for(cell.case.signal.stimulus, cell.condition.rate)
        try:
            cell.analysis = analyse(session, other, cell.render.content, options, cell.case.signal.request)
        except AudioDropped as error:
            # Only of renders that passed long ago: what was found of them stands.
            cell.state, cell.why = "done", f"{cell.why.rstrip('.')}; not judged again: {error}"
            return
        verdict = judge_cell(readings, [reading_from(d) for d in cell.analysis.readings], limits, called)
    documents = [*cell.render.readings, *(cell.analysis.readings if cell.analysis is not None else [])]
    measured = {d["measure"]: d["value"] for d in documents if d["channel"] == "all" and d["value"] is not None}
    keep_verdict(cell, verdict, measured)


def _signal_content(session: Session, cell: Cell) -> Content:
    """The signal of a cell as audio that is kept, so that it can be compared with renders and listened to."""
    condition = cell.condition
    samples = make_stimulus(session, cell.case.signal.stimulus, condition.channels, condition.rate)
    return store_content(session, ArraySource(samples, condition.rate), ENCODINGS["DOUBLE"])


def judge_as_before(session: Session, run: Run, cells: Iterable[Cell]) -> list[Cell]:
    """Judge cells whose renders were judged in an earlier run under the same limits against the same reference.

    Nothing is read but verdicts, so that a run in which nothing changed costs next to nothing.

    Returns:
        The cells that must be judged by their readings.
    """
    listed = list(cells)
    earlier = _earlier_verdicts(session, {cell.render_id for cell in listed if cell.render_id})
    references = current_references_of(session, run.build.effect_id)
    left = []
    for cell in listed:
        own = run.revision.condition_limits.get(str(cell.condition_id), {})
        limits = limit_documents(cell.case.limits, own)
        reference = references.get((cell.case.fingerprint, cell.condition_id))
        found = next(
            (e for e in earlier.get(cell.render_id or 0, ()) if _judged_alike(e, cell, reference, limits)), None
        )
        if found is None:
            left.append(cell)
            continue
        for name in _KEPT:
            setattr(cell, name, getattr(found, name))
        cell.state, cell.analysis_key = "done", found.analysis_key
        cell.reference_id = None if found.unfit or reference is None else reference.id
    return left


def _earlier_verdicts(session: Session, renders: set[int]) -> dict[int, list[Cell]]:
    query = (
        select(Cell)
        .where(Cell.render_id.in_(renders), Cell.state == "done", Cell.rules == RULES_VERSION)
        .options(joinedload(Cell.case), joinedload(Cell.run).joinedload(Run.revision))
        .order_by(Cell.id.desc())
    )
    found: dict[int, list[Cell]] = {}
    for cell in session.scalars(query):
        found.setdefault(cell.render_id or 0, []).append(cell)
    return found


def _judged_alike(earlier: Cell, cell: Cell, reference: Reference | None, limits: dict[str, LimitDocument]) -> bool:
    own = earlier.run.revision.condition_limits.get(str(earlier.condition_id), {})
    if limit_documents(earlier.case.limits, own) != limits:
        return False
    if earlier.unfit:
        return earlier.case.against == cell.case.against
    if "signal" in (earlier.case.against, cell.case.against):
        return False  # judged by its readings: the comparison itself is kept, and not made again
    if reference is None or earlier.render is None:
        return reference is None and earlier.analysis_key is None
    signal = cell.case.signal
    pair = reference.render.content_sha256, earlier.render.content_sha256
    return earlier.analysis_key == analysis_key(
        *pair, options_for(signal.stimulus, cell.condition.rate), signal.request
    )
