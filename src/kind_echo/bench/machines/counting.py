"""How the queue and its jobs fare, for who watches the service."""

from datetime import datetime, timedelta
from typing import Literal

from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from kind_echo.bench.machines.hosts import SILENT_SECONDS
from kind_echo.database.accounts import JobCount
from kind_echo.database.models import Worker

Outcome = Literal["done", "failed"]


def count_job(session: Session, task: str, outcome: Outcome, seconds: float) -> None:
    """Write down that a job came to an end; adds up however many workers do so at once."""
    row = insert(JobCount).values(task=task, outcome=outcome, jobs=1, seconds=seconds)
    added = {"jobs": JobCount.jobs + 1, "seconds": JobCount.seconds + row.excluded.seconds}
    session.execute(row.on_conflict_do_update(index_elements=["task", "outcome"], set_=added))


def job_counts(session: Session) -> list[JobCount]:
    """Jobs that came to an end, by task and outcome."""
    return list(session.scalars(select(JobCount).order_by(JobCount.task, JobCount.outcome)))


def workers_at_work(session: Session, now: datetime) -> int:
    """Workers that were heard of lately."""
    since = now - timedelta(seconds=SILENT_SECONDS)
    return session.scalar(select(func.count()).select_from(Worker).where(Worker.seen_at >= since)) or 0
