"""Reports of a pair: a cell beside its reference, or two files of a person's own."""

from collections.abc import Mapping, Sequence
from datetime import datetime

from sqlalchemy.orm import Session

from kind_echo.bench.decisions import limits_of, standings, version_of
from kind_echo.bench.documents import limit_from, reading_from
from kind_echo.bench.reports.document import Entries, Entry, Part, Report, Section, Table, Text
from kind_echo.bench.reports.pictures import pictures_of
from kind_echo.core.causes.cause import Cause
from kind_echo.core.registry.documents import CurveDocument, LimitDocument, ReadingDocument
from kind_echo.core.registry.limits import judge
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Reading
from kind_echo.database.blobs import find_content
from kind_echo.database.models import Analysis, Cell, Content, Pair
from kind_echo.database.states import FINISHED
from kind_echo.wording.causes import cause_text
from kind_echo.wording.conditions import whole_condition_text
from kind_echo.wording.decisions import decision_text, ended
from kind_echo.wording.figures import figure, limit_text
from kind_echo.wording.names import slug
from kind_echo.wording.verdicts import verdict_text

_JUDGED = {"met": "holds", "broken": "broken", "unknown": "broken: no reading"}


def cell_report(session: Session, cell: Cell, now: datetime, *, address: str = "") -> Report:
    """The report of a cell beside its reference."""
    build, case, analysis = cell.run.build, cell.case, cell.analysis
    limits = limits_of(cell)
    own = [] if cell.render is None else cell.render.readings
    beside = [] if analysis is None else analysis.readings
    known = {one["measure"] for one in beside}
    documents = [*beside, *(one for one in own if one["measure"] not in known)]
    result: list[Part] = [Text(verdict_text(cell.verdict, finished=cell.state in FINISHED), "loud")]
    result += [Text(ended(cell.why))] if cell.why else []
    decision = standings(session, cell.run, now.date(), [cell.id]).get(cell.id)
    if decision is not None:
        result.append(Text(f"{'' if decision.holds else 'Before: '}{decision_text(decision)}"))
    name = ", ".join((case.signal.name, case.setting.name))
    sections = [Section("Result", result), *_found(session, analysis, documents, limits, name, _curves(cell))]
    if cell.log or (cell.render is not None and cell.render.log):
        log = cell.log or (cell.render.log if cell.render is not None else "")
        sections.append(Section("Last output of the renderer", [Text(log)]))
    if cell.reference is not None:
        told = f"against the approved reference of {version_of(session, cell.reference)}."
    else:
        told = f"against {'the signal itself' if case.against == 'signal' else 'no reference'}."
    facts = [ended(f"{name}: {whole_condition_text(cell.condition)}"), f"Run {cell.run_id}, cell {cell.id}."]
    title = f"{build.effect.name} {build.version}, {name}"
    return Report(f"report-cell-{cell.id}-{slug(name)}", title, told, facts, sections, now, address)


def pair_report(
    session: Session, pair: Pair, limits: Mapping[str, LimitDocument], now: datetime, *, address: str = ""
) -> Report:
    """The report of two files. Args: limits: by measure, as they are kept."""
    result: list[Part] = []
    if pair.state != "done":
        result.append(Text(ended("Not measured yet" if pair.state == "analysing" else f"Failed: {pair.why}"), "loud"))
    elif pair.analysis is not None:
        result.append(Text(ended(pair.analysis.explanation or "Nothing explains the difference"), "loud"))
    documents = [] if pair.analysis is None else pair.analysis.readings
    held = {key: limit_from(one) for key, one in limits.items()}
    sections = [Section("Result", result), *_found(session, pair.analysis, documents, held, pair.render.name, [])]
    told = f"against {pair.reference.name}."
    return Report(f"report-pair-{pair.id}", pair.render.name, told, [], sections, now, address)


def _curves(cell: Cell) -> Sequence[CurveDocument]:
    return [] if cell.render is None else cell.render.curves


def _found(
    session: Session,
    analysis: Analysis | None,
    documents: Sequence[ReadingDocument],
    limits: Mapping[str, Limit],
    title: str,
    curves: Sequence[CurveDocument],
) -> list[Section]:
    """What explains the difference, its pictures, all readings, and what was compared."""
    sections = []
    if analysis is not None:
        causes = [Cause.of(one) for one in analysis.causes]
        if causes:
            entries = [Entry(cause_text(one), "", _taken_off(one)) for one in causes]
            sections.append(Section("What explains the difference", [Entries(entries, numbered=True)]))
        sections.append(Section("Pictures", pictures_of(session, analysis, curves, title)))
    readings = [reading_from(one) for one in documents]
    if readings:
        sections.append(Section("Readings", [_readings(readings, limits)]))
    if analysis is not None:
        sections.append(Section("What was compared", [_compared(session, analysis)]))
    return sections


def _taken_off(cause: Cause) -> list[str]:
    off = cause.takes_off
    return [] if off is None else [f"Undone, it takes {number(off, '.1f')} dB off the residual."]


def _readings(readings: Sequence[Reading], limits: Mapping[str, Limit]) -> Table:
    rows = []
    if {one.channel for one in readings} <= {"all", "1"}:  # of a single channel the readings of all say it already
        readings = [one for one in readings if one.channel == "all"]
    for one in readings:
        measure = one.of
        limit = limits.get(one.measure) if one.channel == "all" else None
        bounds = "" if limit is None else limit_text(limit, measure.decimals)
        value = figure(one) + (
            f" ± {number(one.uncertainty, '.2g')}" if one.value is not None and one.uncertainty else ""
        )
        said = "" if limit is None else _JUDGED[judge(one, limit)]
        note = one.why if one.value is not None and one.why else ""
        rows.append((measure.title, one.channel, value, bounds, " ".join(filter(None, [said, note]))))
    return Table(("Measure", "Channel", "Reading", "Limit", ""), rows, (30, 8, 22, 14, 26), figures=(2, 3), fine=True)


def _compared(session: Session, analysis: Analysis) -> Table:
    def row(side: str, one: Content) -> tuple[str, str, str]:
        return side, f"{one.rate} Hz, {one.channels} ch, {one.frames} frames, {one.encoding}", one.sha256

    sides = (("Reference", analysis.reference_sha256), ("Render", analysis.render_sha256))
    rows = [row(side, find_content(session, sha256)) for side, sha256 in sides]
    return Table(("Side", "Audio", "SHA-256 of its format and samples"), rows, (12, 34, 54), fine=True)
