"""The queue of jobs: PostgreSQL itself, so jobs survive a restart and join the transaction that needs them.

Nothing else knows the tables and functions of the library that keeps it, Procrastinate; but the migration that makes
them, and the grants.
"""

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from typing import Any

import procrastinate
from sqlalchemy import Integer, Select, cast, column, delete, literal_column, table, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Session

from kind_echo.database.sessions import database_url, raw_connection

MOST_ATTEMPTS = 5
"""Times that a cell is tried before it is given up, whether its worker died or its job broke."""


@dataclass(frozen=True)
class Job:
    """A job that a machine has taken: its name, what it is about, the queue it was on, and how often it was tried."""

    id: int
    name: str
    arguments: dict[str, int]
    queue: str
    attempts: int


@dataclass(frozen=True)
class QueueState:
    """How many jobs a queue holds, how many are being done, and for how long the oldest has waited, in seconds."""

    queue: str
    waiting: int
    doing: int
    oldest_seconds: float


@cache
def queue_app() -> procrastinate.App:
    """The queue, with all tasks; its connections are opened by the worker alone."""
    return procrastinate.App(
        connector=procrastinate.PsycopgConnector(conninfo=database_url()),
        import_paths=["kind_echo.bench.jobs.handlers"],
    )


def defer(
    session: Session,
    task: str,
    queue: str,
    priorities: Sequence[int],
    arguments: Sequence[dict[str, int]],
    *,
    at: datetime | None = None,
) -> None:
    """Put a job for each set of arguments on a queue, in their order, when the session's transaction commits.

    Args:
        priorities: of each; the greatest is done first, and of equals the one that was put there first.
        at: they are not to be run before.
    """
    if not arguments:
        return
    connector = procrastinate.SyncPsycopgConnector(conninfo=database_url())
    manager = procrastinate.manager.JobManager(connector)
    jobs = [
        procrastinate.jobs.Job(
            id=None,
            queue=queue,
            lock=None,
            queueing_lock=None,
            task_name=task,
            priority=priority,
            task_kwargs=dict(one),
            scheduled_at=at,
        )
        for one, priority in zip(arguments, priorities, strict=True)
    ]
    manager.batch_defer_jobs(jobs, connection=raw_connection(session))


def is_under_way(session: Session, task: str, arguments: dict[str, int]) -> bool:
    """Whether a job of a task with just these arguments waits or is being done."""
    query = text(
        "SELECT 1 FROM procrastinate_jobs WHERE status IN ('todo', 'doing') AND task_name = :task "
        "AND args = CAST(:arguments AS jsonb) LIMIT 1"
    )
    return session.scalar(query, {"task": task, "arguments": json.dumps(arguments)}) is not None


def has_failed(session: Session, task: str, arguments: dict[str, int]) -> bool:
    """Whether a job of a task with just these arguments was given up within the last day."""
    query = text(
        "SELECT 1 FROM procrastinate_jobs j WHERE status = 'failed' AND task_name = :task "
        "AND args = CAST(:arguments AS jsonb) AND EXISTS (SELECT 1 FROM procrastinate_events e "
        "WHERE e.job_id = j.id AND e.at > now() - interval '1 day') LIMIT 1"
    )
    return session.scalar(query, {"task": task, "arguments": json.dumps(arguments)}) is not None


def greatest_waiting(session: Session, task: str, least: int, most: int) -> int | None:
    """The greatest priority from `least` to `most` of the jobs of a task that wait; None where none does."""
    query = text(
        "SELECT max(priority) FROM procrastinate_jobs WHERE status = 'todo' AND task_name = :task "
        "AND priority BETWEEN :least AND :most"
    )
    found: int | None = session.scalar(query, {"task": task, "least": least, "most": most})
    return found


_JOBS = table("procrastinate_jobs", column("status"), column("task_name"), column("args", JSONB))


def cancel(session: Session, task: str, argument: str, values: Select[int]) -> None:
    """Take jobs of a task that nobody is at from their queues: those whose argument has one of the values.

    In one statement: one of twenty thousand cells must not hold up whoever stops a run.
    """
    told = cast(_JOBS.c.args[argument].astext, Integer)
    waiting = _JOBS.c.status == literal_column("'todo'"), _JOBS.c.task_name == task, told.in_(values)
    session.execute(delete(_JOBS).where(*waiting))


def register_worker(session: Session) -> int:
    """A new number under which a machine takes jobs."""
    return int(session.execute(text("SELECT worker_id FROM procrastinate_register_worker_v1()")).scalar_one())


def is_registered(session: Session, number: int) -> bool:
    """Whether a machine may still take jobs under a number: one that was silent for long may not."""
    return session.scalar(text("SELECT 1 FROM procrastinate_workers WHERE id = :id"), {"id": number}) is not None


def heartbeat(session: Session, number: int) -> None:
    """Write down that a machine is still there."""
    session.execute(text("SELECT procrastinate_update_heartbeat_v1(:worker)"), {"worker": number})


def unregister_worker(session: Session, number: int) -> None:
    """Forget the number of a machine that stops."""
    session.execute(text("SELECT procrastinate_unregister_worker_v1(:worker)"), {"worker": number})


def fetch_job(session: Session, number: int, queues: Sequence[str]) -> Job | None:
    """The next job of some queues, taken under the number of a machine; None where there is none now."""
    query = text("SELECT id, task_name, args, queue_name, attempts FROM procrastinate_fetch_job_v2(:queues, :worker)")
    row: Any = session.execute(query, {"queues": list(queues), "worker": number}).one()
    return None if row.id is None else Job(row.id, row.task_name, row.args, row.queue_name, row.attempts)


def hold_job(session: Session, number: int, job_id: int, name: str) -> Job | None:
    """A job that a machine is at, kept from others until the transaction ends; None where it has lost it."""
    query = text(
        "SELECT id, task_name, args, queue_name, attempts FROM procrastinate_jobs "
        "WHERE id = :job AND worker_id = :worker AND status = 'doing' AND task_name = :task FOR UPDATE"
    )
    row: Any = session.execute(query, {"job": job_id, "worker": number, "task": name}).one_or_none()
    return None if row is None else Job(row.id, row.task_name, row.args, row.queue_name, row.attempts)


def finish_job(session: Session, job_id: int) -> None:
    """A job is done."""
    session.execute(text("SELECT procrastinate_finish_job_v1(:job, 'succeeded', true)"), {"job": job_id})


def requeue_jobs(session: Session, number: int) -> None:
    """What a machine is at goes to another."""
    held = text("SELECT id FROM procrastinate_jobs WHERE worker_id = :worker AND status = 'doing' FOR UPDATE")
    for job_id in session.scalars(held, {"worker": number}).all():
        session.execute(text("SELECT procrastinate_retry_job_v1(:job, now(), NULL, NULL, NULL)"), {"job": job_id})


def forget_attempt(session: Session, job_id: int) -> None:
    """Do not count the attempt that a job is at: it says nothing of the job."""
    session.execute(text("UPDATE procrastinate_jobs SET attempts = attempts - 1 WHERE id = :job"), {"job": job_id})


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
