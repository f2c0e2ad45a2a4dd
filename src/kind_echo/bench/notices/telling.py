"""Notices: what is told of a run, a decision, a waiver, and to whom; they go out once the transaction commits."""

import uuid
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Any

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from kind_echo.bench.decisions import undecided
from kind_echo.bench.notices.targets import Topic
from kind_echo.bench.queue import deliver_notices
from kind_echo.bench.runs import summary_of
from kind_echo.bench.sheets import sheet_of, usual_measure
from kind_echo.core.registry.errors import NotFound
from kind_echo.database.models import Act, Cell, Decision, Notice, NoticeTarget, Reference, Run
from kind_echo.wording.conditions import condition_text
from kind_echo.wording.decisions import day_text, ended
from kind_echo.wording.figures import counted

MOST_FINDINGS = 20
"""Of a run, that are told; the page has them all."""

_AT_ONCE = 100  # runs that are told of in a minute
_SOON = timedelta(days=7)  # before the last day of a waiver
_KEPT = timedelta(days=90)
_SCHEMA = "kind-echo notice 1"


@dataclass(frozen=True)
class Message:
    """What is told.

    Attributes:
        subject: in a line.
        lines: the rest of it, for people.
        data: the same for programs.
    """

    topic: Topic
    subject: str
    lines: Sequence[str]
    data: dict[str, Any]


class NoticeNotFound(NotFound):
    """A notice is named that is not there."""

    def __init__(self, notice_id: int) -> None:
        self.notice_id = notice_id
        super().__init__(f"There is no notice {notice_id}.")


def tell(session: Session, told: Message, now: datetime, targets: Iterable[NoticeTarget] | None = None) -> list[Notice]:
    """Put a notice on its way to all who asked for its topic, or to some targets."""
    if targets is None:
        found = session.scalars(select(NoticeTarget).where(NoticeTarget.paused_at.is_(None)).order_by(NoticeTarget.id))
        targets = [target for target in found if told.topic in target.topics]
    made = [
        Notice(
            target_id=target.id, number=f"msg_{uuid.uuid4().hex}", topic=told.topic, subject=told.subject,
            lines=list(told.lines), data={"schema": _SCHEMA, **told.data}, made_at=now, state="waiting",
        )
        for target in targets
    ]  # fmt: skip
    session.add_all(made)
    session.flush()
    deliver_notices(session, [notice.id for notice in made])
    return made


def latest_notices(session: Session, most: int) -> list[Notice]:
    """The last that were made, newest first."""
    return list(session.scalars(select(Notice).order_by(Notice.id.desc()).limit(most)))


def tell_again(session: Session, notice_id: int) -> Notice:
    """Try a notice once more, now. Raises NoticeNotFound."""
    notice = session.get(Notice, notice_id, with_for_update=True)
    if notice is None:
        raise NoticeNotFound(notice_id)
    notice.state, notice.attempts, notice.next_at = "waiting", 0, None
    deliver_notices(session, [notice.id])
    return notice


def tell_test(session: Session, target: NoticeTarget, who: str, now: datetime) -> Notice:
    """A notice that says nothing but that notices arrive."""
    said = [f"{who} asked for it; nothing happened."]
    told = Message("run.finished", "A notice of Kind Echo, to try it", said, {"test": True, "by": who})
    return tell(session, told, now, [target])[0]


def tell_of_act(session: Session, act: Act, address: str, now: datetime, *, undone: bool = False) -> None:
    """Tell of what a person decided or approved, or that it was taken back."""
    cells = list(session.scalars(_cells_of(act.id)))
    if not cells or not _anybody(session, "decision.made"):
        return
    first = session.get_one(Cell, cells[0])
    build = first.run.build
    who = act.undone_by if undone and act.undone_by else act.who
    what = f"{act.kind}: taken back" if undone else act.kind
    link = f"{address}/cells/{cells[0]}"
    lines = [f"{counted(len(cells), 'cell')} of {build.effect.name} {build.version}."]
    lines += [ended(act.why)] if act.why else []
    decision = session.scalars(select(Decision).where(Decision.act_id == act.id).limit(1)).first()
    if decision is not None and decision.until is not None:
        lines.append(f"It holds until {day_text(decision.until)}.")
    data = {
        "act": act.id, "kind": act.kind, "undone": undone, "by": who, "why": act.why, "effect": build.effect.name,
        "build": build.version, "cells": cells, "address": link,
        "ticket": decision.ticket if decision is not None else "",
        "until": decision.until.isoformat() if decision is not None and decision.until is not None else None,
    }  # fmt: skip
    subject = f"{build.effect.name} {build.version}: {what}, by {who}"
    tell(session, Message("decision.made", subject, [*lines, link], data), now)


def untold_runs(session: Session) -> list[int]:
    """Runs that have ended and whose end was told to nobody yet, oldest first."""
    under_way = select(Cell.id).where(Cell.run_id == Run.id, ~Cell.finished).exists()
    query = select(Run.id).where(Run.told_at.is_(None), Run.search_id.is_(None), ~under_way)
    return list(session.scalars(query.order_by(Run.id).limit(_AT_ONCE)))


def tell_of_run(session: Session, run_id: int, address: str, now: datetime) -> None:
    """Tell of a run that has ended, once, and of the cells of it that need somebody."""
    run = session.scalar(select(Run).where(Run.id == run_id).with_for_update(skip_locked=True))
    if run is None or run.told_at is not None:
        return  # another worker is at it, or was
    run.told_at = now
    if any(_anybody(session, topic) for topic in ("run.finished", "run.needs_review")):
        _tell_of_run(session, run, address, now)


def tell_of_waivers(session: Session, address: str, now: datetime) -> int:
    """Tell of waivers that end within a week, each once; how many these are."""
    today = now.date()
    query = (
        select(Decision, Act)
        .join(Act, Act.id == Decision.act_id)
        .where(
            Decision.until >= today, Decision.until <= today + _SOON, Decision.ending_told_at.is_(None),
            Act.undone_at.is_(None),
        )
        .order_by(Decision.id)
    )  # fmt: skip
    acts: dict[int, tuple[Act, list[Decision]]] = {}
    for decision, act in session.execute(query):
        acts.setdefault(act.id, (act, []))[1].append(decision)
        decision.ending_told_at = now
    if acts and _anybody(session, "waiver.ending"):
        for act, decisions in acts.values():
            tell(session, _of_waiver(session, act, decisions, address, today), now)
    return len(acts)


def forget_old(session: Session, now: datetime) -> None:
    """Forget notices of long ago."""
    session.execute(delete(Notice).where(Notice.made_at < now - _KEPT))


def _tell_of_run(session: Session, run: Run, address: str, now: datetime) -> None:
    build, plan = run.build, run.revision.plan
    needs = undecided(session, now.date(), [run.id]).get(run.id, 0)
    summary = summary_of(session, run)
    findings = [one.finding for one in sheet_of(session, run, now.date(), usual_measure(run)).findings]
    name, link = f"{plan.name} on {build.effect.name} {build.version}", f"{address}/runs/{run.id}"
    counts = ", ".join(f"{count} {verdict}" for verdict, count in sorted(summary.verdicts.items()) if count)
    told = [f"{one.headline}: {counted(len(one.cells), 'cell')}, {one.where}." for one in findings[:MOST_FINDINGS]]
    more = [f"{len(findings) - MOST_FINDINGS} more findings."] if len(findings) > MOST_FINDINGS else []
    data = {
        "run": run.id, "effect": build.effect.name, "build": build.version, "plan": plan.name,
        "revision": run.revision.number, "requested_by": run.requested_by, "cells": summary.cells,
        "verdicts": summary.verdicts, "need_somebody": needs, "address": link,
        "findings": [
            {"headline": one.headline, "where": one.where, "verdict": one.verdict, "cells": len(one.cells)}
            for one in findings[:MOST_FINDINGS]
        ],
    }  # fmt: skip
    lines = [f"{counted(summary.cells, 'cell')}: {counts}.", *told, *more, link]
    tell(session, Message("run.finished", f"{name}: finished", lines, data), now)
    if needs:
        subject = f"{name}: {counted(needs, 'cell')} {'needs' if needs == 1 else 'need'} somebody"
        tell(session, Message("run.needs_review", subject, lines, data), now)


def _of_waiver(session: Session, act: Act, decisions: Sequence[Decision], address: str, today: date) -> Message:
    first = decisions[0]
    cell = session.get_one(Cell, first.cell_id)
    build = cell.run.build
    assert first.until is not None
    link = f"{address}/cells/{cell.id}"
    days = (first.until - today).days
    left = "today" if days == 0 else f"in {counted(days, 'day')}"
    place = f"{cell.case.signal.name}, {cell.case.setting.name}, {condition_text(cell.condition)}"
    lines = [
        f"It ends on {day_text(first.until)} and covers {counted(len(decisions), 'cell')}, {place} among them.",
        *([ended(act.why)] if act.why else []), link,
    ]  # fmt: skip
    data = {
        "act": act.id, "by": act.who, "why": act.why, "ticket": first.ticket, "until": first.until.isoformat(),
        "effect": build.effect.name, "build": build.version, "cells": [one.cell_id for one in decisions],
        "address": link,
    }  # fmt: skip
    return Message("waiver.ending", f"{build.effect.name}: a waiver by {act.who} ends {left}", lines, data)


def _cells_of(act_id: int) -> Any:
    decided = select(Decision.cell_id).where(Decision.act_id == act_id)
    approved = select(Reference.cell_id).where(Reference.act_id == act_id)
    return select(Cell.id).where(Cell.id.in_(decided.union(approved))).order_by(Cell.id)


def _anybody(session: Session, topic: str) -> bool:
    query = select(NoticeTarget.id).where(NoticeTarget.paused_at.is_(None), NoticeTarget.topics.contains([topic]))
    return session.scalar(query.limit(1)) is not None
