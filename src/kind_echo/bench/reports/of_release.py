"""The report of a build: how every plan of its effect stands on it."""

from collections.abc import Sequence
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.bench.machines import BuildNotFound
from kind_echo.bench.reports.cells import MOST_LISTED, Places, cells_table, holding, places_of
from kind_echo.bench.reports.document import Entries, Entry, Part, Report, Section, Table, Text
from kind_echo.bench.reports.of_run import changes_text, outcome_text, verdict_counts
from kind_echo.bench.sheets import Sheet, sheet_of, usual_measure
from kind_echo.database.models import Build, Plan, PlanRevision, Run
from kind_echo.database.states import FINISHED
from kind_echo.wording.decisions import decision_text, ended, moment_text
from kind_echo.wording.figures import counted
from kind_echo.wording.names import slug


def release_report(session: Session, build_id: int, now: datetime, *, address: str = "") -> Report:
    """The report of a build: what needs a decision, what is new, fixed and decided, by plan; and what never ran.

    Raises:
        BuildNotFound: there is no build of that number.
    """
    build = session.get(Build, build_id)
    if build is None:
        raise BuildNotFound(build_id)
    plans = session.scalars(
        select(Plan).where(Plan.effect_id == build.effect_id, Plan.archived_at.is_(None)).order_by(Plan.name)
    ).all()
    sheets = {plan.id: _newest_sheet(session, plan, build, now) for plan in plans}
    known = [sheet for sheet in sheets.values() if sheet is not None]
    missing = [plan.name for plan in plans if sheets[plan.id] is None]
    rows = [_row(plan, sheets[plan.id]) for plan in plans]
    columns = ("Plan", "Cells", "Pass", "Need a decision", "New", "Fixed", "Decided")
    overview: list[Part] = [Text(_outcome(known, missing), "loud")]
    overview.append(Table(columns, rows, (34, 10, 10, 16, 10, 10, 10), figures=range(1, 7)))
    if missing:
        overview.append(Text(f"Never run on this build: {', '.join(missing)}."))
    sections = [Section("Result", overview), *(_section(sheet) for sheet in known)]
    facts = [ended(build.note)] if build.note else []
    facts.append(f"{counted(len(plans), 'plan')} of the effect; of each the newest run on this build.")
    return Report(
        f"report-{slug(build.effect.name)}-{slug(build.version)}", f"{build.effect.name} {build.version}",
        "by all plans of the effect.", facts, sections, now, address,
    )  # fmt: skip


def _newest_sheet(session: Session, plan: Plan, build: Build, now: datetime) -> Sheet | None:
    query = (
        select(Run)
        .join(PlanRevision, PlanRevision.id == Run.revision_id)
        .where(
            PlanRevision.plan_id == plan.id,
            Run.build_id == build.id,
            Run.search_id.is_(None),
            Run.archived_at.is_(None),
        )
        .order_by(Run.id.desc())
        .limit(1)
    )
    run = session.scalar(query)
    return None if run is None else sheet_of(session, run, now.date(), usual_measure(run))


def _outcome(known: Sequence[Sheet], missing: Sequence[str]) -> str:
    cells = [cell for sheet in known for cell in sheet.cells]
    under_way = sum(cell.state not in FINISHED for cell in cells)
    open_ = sum(cell.needs_you for cell in cells)
    if not cells:
        return "Nothing was run on this build."
    parts = [f"{counted(under_way, 'cell')} under way"] if under_way else []
    parts += [f"{counted(open_, 'cell')} {'needs' if open_ == 1 else 'need'} a decision"] if open_ else []
    parts += [f"{counted(len(missing), 'plan')} never run"] if missing else []
    return f"{', '.join(parts)}." if parts else f"All {counted(len(cells), 'cell')} pass or are decided."


def _row(plan: Plan, sheet: Sheet | None) -> tuple[str, ...]:
    if sheet is None:
        return (plan.name, "never run", *[""] * 5)
    cells = sheet.cells
    changed = [sum(cell.change == change for cell in cells) for change in ("new", "fixed")]
    decided = sum(cell.decision is not None and cell.decision.holds for cell in cells)
    passed, waiting = sum(cell.verdict == "Pass" for cell in cells), sum(cell.needs_you for cell in cells)
    return (plan.name, *map(str, (len(cells), passed, waiting, *changed, decided)))


def _section(sheet: Sheet) -> Section:
    """A plan: its outcome, its findings, the decisions that hold, and the cells that need somebody."""
    run, places = sheet.run, places_of(sheet)
    parts: list[Part] = [Text(outcome_text(run, sheet.cells)), verdict_counts(sheet.cells)]
    changed = changes_text(sheet, sheet.cells)
    told = f"Run {run.id}, revision {run.revision.number}, {moment_text(run.requested_at)}. {changed}"
    parts.append(Text(told.strip(), "quiet"))
    entries = [
        Entry(
            one.finding.headline,
            one.finding.verdict,
            [f"{counted(len(one.finding.cells), 'cell')}, {one.finding.where}."],
        )
        for one in sheet.findings
    ]
    parts += [Entries(entries)] if entries else []
    parts += _decided(sheet, places)
    waiting = [cell for cell in sheet.cells if cell.needs_you]
    if waiting:
        parts.append(cells_table(waiting[:MOST_LISTED], places, {}, "Why"))
    return Section(run.revision.plan.name, parts)


def _decided(sheet: Sheet, places: Places) -> list[Part]:
    held = holding(sheet.cells).values()
    entries = [
        Entry(
            decision_text(standing),
            counted(len(ids), "cell"),
            [f"{', '.join(places[ids[0]])}{' and others' if len(ids) > 1 else ''}."],
        )
        for standing, ids in held
    ]
    return [Entries(entries)] if entries else []
