"""The queue of jobs: PostgreSQL itself, so jobs survive a restart and join the transaction that needs them."""

from collections.abc import Iterable, Sequence
from datetime import datetime
from functools import cache

import procrastinate
from sqlalchemy import text
from sqlalchemy.orm import Session

from kind_echo.database.sessions import database_url, raw_connection

ANALYSIS_QUEUE = "analysis"
RENDER_PRIORITY = 0
ANALYSIS_PRIORITY = 1_000_000  # a render that is there is judged before the next is made
MOST_ATTEMPTS = 5
"""Times that a cell is tried before it is given up, whether its worker died or its job broke."""


@cache
def queue_app() -> procrastinate.App:
    """The queue, with all tasks; its connections are opened by the worker alone."""
    return procrastinate.App(
        connector=procrastinate.PsycopgConnector(conninfo=database_url()),
        import_paths=["kind_echo.bench.jobs.handlers"],
    )


def enqueue(
    session: Session, task: str, queue: str, priority: int, *, at: datetime | None = None, **arguments: int
) -> None:
    """Put a job on a queue when the session's transaction commits, and not otherwise; not to be run before `at`."""
    enqueue_all(session, task, queue, priority, [arguments], at=at)


def enqueue_all(
    session: Session,
    task: str,
    queue: str,
    priority: int,
    arguments: Sequence[dict[str, int]],
    *,
    at: datetime | None = None,
) -> None:
    """Put a job for each set of arguments on a queue, in their order, as `enqueue` does for one."""
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
        for one in arguments
    ]
    manager.batch_defer_jobs(jobs, connection=raw_connection(session))


def call_off(session: Session, task: str, argument: str, values: Iterable[int]) -> None:
    """Take jobs of a task that nobody is at from their queues: those whose argument has one of the values."""
    query = text(
        "SELECT procrastinate_cancel_job_v1(id, false, true) FROM procrastinate_jobs "
        "WHERE status = 'todo' AND task_name = :task AND (args->>:argument)::int = ANY(:values)"
    )
    session.execute(query, {"task": task, "argument": argument, "values": list(values)})
