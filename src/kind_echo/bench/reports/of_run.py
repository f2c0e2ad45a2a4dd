"""The report of a run, or of some of its cells: what stands, was found, decided and heard, and by which limits."""

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from datetime import datetime
from typing import get_args

from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.bench.decisions import Standing
from kind_echo.bench.listening import heard_of_run
from kind_echo.bench.plans import differences, document_of, revision_numbered
from kind_echo.bench.reports.cells import MOST_LISTED, Places, cells_table, holding, ink_grid, places_of, readings_text
from kind_echo.bench.reports.document import Counts, Entries, Entry, Part, Report, Section, Table, Text
from kind_echo.bench.reports.heard import heard_section
from kind_echo.bench.reports.pictures import pictures_of
from kind_echo.bench.runs import CellNotFound, summary_of
from kind_echo.bench.sensitivity import run_sensitivity
from kind_echo.bench.sheets import Sheet, SheetCell, SheetFinding, limits_in, sheet_of, usual_measure
from kind_echo.core.registry.measures import MEASURES
from kind_echo.core.verdicts.verdict import VerdictName
from kind_echo.database.models import Analysis, Cell, Render, Run
from kind_echo.database.states import FINISHED
from kind_echo.wording.conditions import whole_condition_text
from kind_echo.wording.decisions import day_text, decision_text, ended, moment_text
from kind_echo.wording.figures import counted, limit_text
from kind_echo.wording.names import slug
from kind_echo.wording.sensitivity import by_text, row_text, summary_sentence
from kind_echo.wording.verdicts import verdict_text

_PICTURED = 6  # findings whose worst cell is drawn
_DIGITS = 8  # of a digest: enough to tell audio apart; the whole stands in the bundle of evidence
_VERDICTS: tuple[VerdictName, ...] = get_args(VerdictName)


def run_report(
    session: Session, run: Run, now: datetime, *, address: str = "", only: Collection[int] = (), appendix: bool = True
) -> Report:
    """The report of a run.

    Args:
        address: of the page that shows the run.
        only: numbers of the cells that it is of; empty for all of them.
        appendix: with the readings of every cell, those that pass among them.
    Raises:
        CellNotFound: a cell is asked for that is not of the run.
    """
    sheet = sheet_of(session, run, now.date(), usual_measure(run))
    cells = [cell for cell in sheet.cells if not only or cell.id in only]
    strange = set(only) - {cell.id for cell in cells}
    if strange:
        raise CellNotFound(min(strange))
    chosen = {cell.id for cell in cells}
    places = {cell: place for cell, place in places_of(sheet).items() if cell in chosen}
    decisions = holding(cells)
    numbers = {act: number for number, act in enumerate(decisions, 1)}
    wrong = sorted((cell for cell in cells if cell.verdict != "Pass"), key=lambda cell: not cell.needs_you)
    findings = [one for one in sheet.findings if chosen & set(one.finding.cells)]
    sections = [
        Section("Result", _result(sheet, cells, session)),
        Section("The sheet", [ink_grid(sheet, cells)]),
        Section("Findings", [_findings(findings, chosen, finished=all(cell.state in FINISHED for cell in cells))]),
    ]
    if decisions:
        entries = [_decision_entry(standing, ids, places) for standing, ids in decisions.values()]
        sections.append(Section("Decisions", [Entries(entries, numbered=True)]))
    if wrong:
        sections.append(Section("Cells that do not pass", _listed(wrong, places, numbers)))
    pictures = _pictures(session, findings, cells, places)
    if pictures:
        sections.append(Section("The worst cells", pictures))
    sections.append(heard_section(heard_of_run(session, run, now), places))
    sections += [_limits(run, cells), _conditions(sheet, cells), _plan(session, run), *_sensitivity(session, run)]
    if appendix:
        sections.append(_appendix(session, run, cells, places))
    build = run.build
    asked = f"{run.revision.plan.name}, revision {run.revision.number}. Started by {run.requested_by}, "
    facts = [f"{asked}{moment_text(run.requested_at)}.", *_facts(run)]
    told = f"{counted(len(cells), 'cell')} of its sheet." if only else "in every host, at every rate."
    return Report(
        f"report-run-{run.id}-{slug(build.effect.name)}-{slug(build.version)}",
        f"{build.effect.name} {build.version}", f"against approved references, {told}", facts, sections, now, address,
    )  # fmt: skip


def outcome_text(run: Run, cells: Sequence[SheetCell]) -> str:
    """How a run stands, in a sentence."""
    finished = sum(cell.state in FINISHED for cell in cells)
    if finished < len(cells):
        stopped = f", stopped by {run.stopped_by}" if run.stopped_by else ""
        return ended(f"Not finished: {finished} of {len(cells)} cells{stopped}")
    waiting = sum(cell.needs_you for cell in cells)
    if waiting:
        return f"{waiting} of {counted(len(cells), 'cell')} {'needs' if waiting == 1 else 'need'} a decision."
    passes = "pass" if all(cell.verdict == "Pass" for cell in cells) else "pass or are decided"
    return f"All {counted(len(cells), 'cell')} {passes}."


def verdict_counts(cells: Sequence[SheetCell]) -> Counts:
    """How many cells have each verdict."""
    found = Counter(cell.verdict for cell in cells)
    under_way = any(cell.state not in FINISHED for cell in cells)
    return Counts([
        ("Waiting" if name == "Waiting" and under_way else verdict_text(name), found[name]) for name in _VERDICTS
    ])  # fmt: skip


def changes_text(sheet: Sheet, cells: Sequence[SheetCell]) -> str:
    """What changed since the build before; empty where there is none."""
    if sheet.before is None:
        return ""
    found = Counter(cell.change for cell in cells)
    told = f"{found['new']} newly failing, {found['still']} still failing, {found['fixed']} fixed"
    return f"Since {sheet.before.build.version}: {told}."


def _result(sheet: Sheet, cells: Sequence[SheetCell], session: Session) -> list[Part]:
    parts: list[Part] = [Text(outcome_text(sheet.run, cells), "loud"), verdict_counts(cells)]
    changed = changes_text(sheet, cells)
    parts += [Text(changed, "quiet")] if changed else []
    seconds = summary_of(session, sheet.run).seconds_left
    if seconds and any(cell.state not in FINISHED for cell in cells):
        parts.append(Text(f"The rest takes about {counted(max(1, round(seconds / 60)), 'minute')}.", "quiet"))
    return parts


def _facts(run: Run) -> list[str]:
    found = [ended(f"Build: {run.build.note}")] if run.build.note else []
    return found + ([f"Made of {run.artefact}."] if run.artefact else [])


def _findings(findings: Sequence[SheetFinding], chosen: Collection[int], *, finished: bool) -> Part:
    """The findings that cells of the report belong to; what is said of one is said of all of its cells."""
    if not findings:
        nothing = (
            "No cell differs from its reference." if finished else "Nothing was found in what has been judged yet."
        )
        return Text(nothing, "quiet")
    entries = []
    for one in findings:
        finding = one.finding
        inside = sum(cell in chosen for cell in finding.cells)
        here = "" if inside == len(finding.cells) else f", {inside} of them here"
        since = f", since {one.since}" if one.since else ""
        worst = f" Worst: {ended(finding.worst)}" if finding.worst else ""
        lines = [f"{counted(len(finding.cells), 'cell')}, {finding.where}{since}{here}.{worst}"]
        if finding.undecided:
            whole = finding.undecided == len(finding.cells)
            before = f"; before: {one.before}" if one.before else ""
            lines.append(ended(f"{'Not decided' if whole else f'{finding.undecided} not decided'}{before}"))
        entries.append(Entry(finding.headline, verdict_text(finding.verdict), lines))
    return Entries(entries)


def _decision_entry(standing: Standing, ids: Sequence[int], places: Places) -> Entry:
    text = decision_text(standing)
    first, _, rest = text.partition(", ")
    where = "; ".join(f"{case}, {condition}" for case, condition in (places[one] for one in ids[:3]))
    more = f" and {len(ids) - 3} more" if len(ids) > 3 else ""
    return Entry(first, counted(len(ids), "cell"), [rest, f"{where}{more}."])


def _listed(wrong: Sequence[SheetCell], places: Places, numbers: Mapping[int, int]) -> list[Part]:
    parts: list[Part] = [cells_table(wrong[:MOST_LISTED], places, numbers)]
    if len(wrong) > MOST_LISTED:
        parts.append(Text(f"{len(wrong) - MOST_LISTED} more are not listed.", "quiet"))
    return parts


def _pictures(
    session: Session, findings: Sequence[SheetFinding], cells: Sequence[SheetCell], places: Places
) -> list[Part]:
    """The worst cell of each of the gravest findings that has something to draw."""
    ink = {cell.id: cell.ink for cell in cells if not cell.identical}
    parts: list[Part] = []
    drawn: set[int] = set()
    for one in findings:
        members = [cell for cell in one.finding.cells if cell in ink and cell not in drawn]
        if len(drawn) == _PICTURED or not members:
            continue
        worst = session.get_one(Cell, max(members, key=lambda cell: ink[cell]))
        if worst.analysis is None:
            continue
        drawn.add(worst.id)
        curves = [] if worst.render is None else worst.render.curves
        parts += pictures_of(session, worst.analysis, curves, ", ".join(places[worst.id]))
        if worst.analysis.explanation:
            parts.append(Text(f"What explains it: {ended(worst.analysis.explanation)}"))
    return parts


def _limits(run: Run, cells: Sequence[SheetCell]) -> Section:
    """The limits that the cells are held to, each with how many of them it holds for."""
    limits = limits_in(run)
    found = Counter((key, limit) for cell in cells for key, limit in limits[cell.case_id, cell.condition_id].items())
    order = {key: place for place, key in enumerate(MEASURES)}
    rows = [
        (MEASURES[key].title, limit_text(limit), MEASURES[key].unit, str(count))
        for (key, limit), count in sorted(found.items(), key=lambda one: (order[one[0][0]], -one[1]))
        if key in MEASURES
    ]
    part: Part = Table(("Measure", "Limit", "Unit", "Cells"), rows, (46, 26, 16, 12), figures=(1, 3))
    return Section("Limits in force", [part if rows else Text("No cell has a limit.", "quiet")])


def _conditions(sheet: Sheet, cells: Sequence[SheetCell]) -> Section:
    shown = {cell.condition_id for cell in cells}
    rows = [(whole_condition_text(one),) for one in sheet.conditions if one.id in shown]
    return Section(
        "Conditions", [Table(("Host and version, mode, rate, blocks, channels, words",), rows, (100,), fine=True)]
    )


def _plan(session: Session, run: Run) -> Section:
    """The plan's revision, and what it has that the one before had not."""
    revision = run.revision
    made = f" by {revision.made_by}" if revision.made_by else ""
    note = f": {revision.note}" if revision.note else ""
    parts: list[Part] = [
        Text(ended(f"{revision.plan.name}, revision {revision.number}{made}, {day_text(revision.created_at)}{note}"))
    ]
    if revision.number > 1:
        before = revision_numbered(session, revision.plan_id, revision.number - 1)
        said = differences(document_of(session, before), document_of(session, revision))
        parts.append(Text(f"Against revision {before.number}:" if said else f"As revision {before.number}.", "quiet"))
        parts += [Text(line) for line in said]
    return Section("The plan", parts)


def _sensitivity(session: Session, run: Run) -> list[Section]:
    """What the plan notices of planted faults, where somebody has had that found out."""
    told = run_sensitivity(session, run)
    if told is None:
        return []
    rows = [
        (row.fault.title, row_text(row), by_text(row.least),
         f"{len(row.passing)} of {len(told.cells)}" if row.passing else "")
        for row in told.rows
    ]  # fmt: skip
    columns = ("Fault", "Noticed from", "By", "Not noticed by")
    return [
        Section("What this plan would notice", [
            Text(summary_sentence(told.rows)),
            Table(columns, rows, (34, 26, 22, 18), figures=(3,), fine=True),
            Text("Faults of growing size were planted into copies of the approved references, and judged by the "
                 "limits in force.", "quiet"),
        ])
    ]  # fmt: skip


def _appendix(session: Session, run: Run, cells: Sequence[SheetCell], places: Places) -> Section:
    """Every cell with the readings that have a limit, and the digests of its reference and its render."""
    listed = cells[:MOST_LISTED]
    limits = limits_in(run)
    query = (
        select(Cell.id, Cell.measured, Analysis.reference_sha256, Render.content_sha256)
        .outerjoin(Analysis, Analysis.key == Cell.analysis_key)
        .outerjoin(Render, Render.id == Cell.render_id)
        .where(Cell.run_id == run.id)
    )
    known = {row[0]: row[1:] for row in session.execute(query)}
    rows: dict[str, list[tuple[str, str, str]]] = {}
    for cell in listed:
        measured, reference, render = known[cell.id]
        case, condition = places[cell.id]
        text = readings_text(measured, limits[cell.case_id, cell.condition_id])
        verdict = verdict_text(cell.verdict, finished=cell.state in FINISHED)
        digests = dict.fromkeys(one[:_DIGITS] for one in (reference, render) if one)
        rows.setdefault(case, []).append((condition, f"{verdict}: {text}" if text else verdict, ", ".join(digests)))
    told = (
        "Counts, and what is answered by yes or no, stand here only where a limit is broken. SHA-256 of the reference "
    )
    told += f"and of the render, once where both are the same; the first {_DIGITS} of 64 digits."
    parts: list[Part] = [Text(told, "quiet")]
    columns = ("Condition", "Readings that have a limit", "SHA-256")
    parts += [Table(columns, found, (36, 44, 20), fine=True, title=case) for case, found in rows.items()]
    if len(cells) > MOST_LISTED:
        parts.append(Text(f"{len(cells) - MOST_LISTED} more are not listed; the table of cells has them.", "quiet"))
    return Section("Every cell", parts, appendix=True)
