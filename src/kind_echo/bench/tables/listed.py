"""Tables of what pages list: runs, references, and a measure over the builds of a plan."""

from typing import get_args

from sqlalchemy.orm import Session

from kind_echo.bench.decisions import all_decisions, current_references
from kind_echo.bench.record import EventQuery, events
from kind_echo.bench.runs import list_runs
from kind_echo.bench.sheets import trend_of
from kind_echo.bench.tables.table import Table
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.verdicts.verdict import VerdictName
from kind_echo.database.models import Condition, Plan
from kind_echo.wording.record import event_text

_CONDITION = ("host", "host_version", "mode", "rate", "block_size", "channels", "word_length", "hosting")


def runs_table(session: Session, effect: str | None, text: str, *, archived: bool) -> Table:
    """A row a run, newest first. Args: as `list_runs` has them."""
    found = list_runs(session, effect, text=text, archived=archived)
    verdicts: tuple[str, ...] = get_args(VerdictName)
    counts = tuple(name.lower().replace(" ", "_") for name in verdicts)
    columns = (
        "run", "effect", "build", "plan", "revision", "requested_by", "requested_at", "stopped_by", "cells", "finished",
        *counts,
    )  # fmt: skip
    rows = (
        (
            one.run.id, one.run.build.effect.name, one.run.build.version, one.run.revision.plan.name,
            one.run.revision.number, one.run.requested_by, one.run.requested_at.isoformat(timespec="seconds"),
            one.run.stopped_by, one.cells, one.finished, *(one.verdicts.get(name, 0) for name in verdicts),
        )
        for one in found
    )  # fmt: skip
    return Table("runs", columns, rows)


def decisions_table(session: Session) -> Table:
    """A row a decision of a cell, newest first; `undone_at` where it was taken back."""
    columns = (
        "act", "decision", "who", "at", "why", "ticket", "until", "covers", "undone_by", "undone_at", "effect", "build",
        "run", "cell", "signal", "setting", *_CONDITION,
    )  # fmt: skip
    rows = (
        (
            one.act_id, one.kind, one.act.who, one.act.at.isoformat(timespec="seconds"), one.act.why,
            one.ticket or None,
            None if one.until is None else one.until.isoformat(), ", ".join(one.covers), one.act.undone_by,
            None if one.act.undone_at is None else one.act.undone_at.isoformat(timespec="seconds"),
            cell.run.build.effect.name, cell.run.build.version, cell.run_id, cell.id, cell.case.signal.name,
            cell.case.setting.name, *_condition(cell.condition),
        )
        for one, cell in all_decisions(session)
    )  # fmt: skip
    return Table("decisions", columns, rows)


def record_table(session: Session, asked: EventQuery) -> Table:
    """A row an event of the log, newest first."""
    rows = (
        (one.id, one.at.isoformat(timespec="seconds"), one.who, one.what, event_text(one.what, one.detail))
        for one in events(session, asked)
    )
    return Table("record", ("event", "at", "who", "what", "told"), rows)


def references_table(session: Session) -> Table:
    """A row an approved reference."""
    columns = (
        "effect", "signal", "setting", *_CONDITION, "build", "run", "cell", "approved_by", "approved_at", "why",
        "sha256",
    )  # fmt: skip
    rows = (
        (
            cell.run.build.effect.name, cell.case.signal.name, cell.case.setting.name, *_condition(reference.condition),
            cell.run.build.version, cell.run_id, cell.id, reference.act.who,
            reference.act.at.isoformat(timespec="seconds"), reference.act.why, reference.render.content_sha256,
        )
        for reference, cell in current_references(session)
    )  # fmt: skip
    return Table("references", columns, rows)


def trend_table(session: Session, plan: Plan, measure: str) -> Table:
    """A row for each build of each line of a trend. Raises UnknownMeasure."""
    unit = find_measure(measure).unit
    found = trend_of(session, plan, measure)
    rows = (
        (
            line.case.signal.name, line.case.setting.name, *_condition(line.condition), run.build.version, run.id,
            point.cell_id, measure, point.value, unit, point.verdict, point.why,
            None if line.limit is None else line.limit.at_least, None if line.limit is None else line.limit.at_most,
        )
        for line in found.lines
        for run, point in zip(found.runs, line.points, strict=True)
        if point is not None
    )  # fmt: skip
    columns = (
        "signal", "setting", *_CONDITION, "build", "run", "cell", "measure", "value", "unit", "verdict", "why",
        "at_least", "at_most",
    )  # fmt: skip
    return Table("trend", columns, rows)


def _condition(one: Condition) -> tuple[str | float, ...]:
    return (
        one.host, one.host_version, one.mode, one.rate, one.block_size, one.channels, one.word_length, one.hosting,
    )  # fmt: skip
