"""How the queue and its jobs fare, for who watches the service."""

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Literal

from sqlalchemy import func, select, text
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from kind_echo.bench.machines.hosts import SILENT_SECONDS
from kind_echo.database.accounts import JobCount
from kind_echo.database.models import Worker

Outcome = Literal["done", "failed"]


@dataclass(frozen=True)
class QueueState:
    """Jobs on a queue: how many wait, how many are under way, and how many seconds the first has waited."""

    queue: str
    waiting: int
    doing: int
    oldest: float


def count_job(session: Session, task: str, outcome: Outcome, seconds: float) -> None:
    """Write down that a job came to an end; adds up however many workers do so at once."""
    row = insert(JobCount).values(task=task, outcome=outcome, jobs=1, seconds=seconds)
    added = {"jobs": JobCount.jobs + 1, "seconds": JobCount.seconds + row.excluded.seconds}
    session.execute(row.on_conflict_do_update(index_elements=["task", "outcome"], set_=added))


def job_counts(session: Session) -> list[JobCount]:
    """Jobs that came to an end, by task and outcome."""
    return list(session.scalars(select(JobCount).order_by(JobCount.task, JobCount.outcome)))


def queue_states(session: Session) -> list[QueueState]:
    """All queues that hold jobs, by name."""
    query = text(
        "SELECT j.queue_name, count(*) FILTER (WHERE j.status = 'todo'), count(*) FILTER (WHERE j.status = 'doing'), "
        "coalesce(extract(epoch FROM now() - min(e.at) FILTER (WHERE j.status = 'todo')), 0) "
        "FROM procrastinate_jobs j LEFT JOIN procrastinate_events e ON e.job_id = j.id AND e.type = 'deferred' "
        "WHERE j.status IN ('todo', 'doing') GROUP BY j.queue_name ORDER BY j.queue_name"
    )
    return [
        QueueState(queue, waiting, doing, float(oldest)) for queue, waiting, doing, oldest in session.execute(query)
    ]


def workers_at_work(session: Session, now: datetime) -> int:
    """Workers that were heard of lately."""
    since = now - timedelta(seconds=SILENT_SECONDS)
    return session.scalar(select(func.count()).select_from(Worker).where(Worker.seen_at >= since)) or 0
