"""The queue of jobs: PostgreSQL itself, so jobs survive a restart and join the transaction that needs them."""

from datetime import datetime
from functools import cache

import procrastinate
from sqlalchemy.orm import Session

from kind_echo.store.database import database_url, raw_connection

ANALYSIS_QUEUE = "analysis"
RENDER_PRIORITY = 0
ANALYSIS_PRIORITY = 10  # a render that is there is judged before the next is made


@cache
def queue_app() -> procrastinate.App:
    """The queue, with all tasks; its connections are opened by the worker alone."""
    return procrastinate.App(
        connector=procrastinate.PsycopgConnector(conninfo=database_url()), import_paths=["kind_echo.bench.jobs"]
    )


def enqueue(
    session: Session, task: str, queue: str, priority: int, *, at: datetime | None = None, **arguments: int
) -> None:
    """Put a job on a queue when the session's transaction commits, and not otherwise; not to be run before `at`."""
    connector = procrastinate.SyncPsycopgConnector(conninfo=database_url())
    manager = procrastinate.manager.JobManager(connector)
    job = procrastinate.jobs.Job(
        id=None,
        queue=queue,
        lock=None,
        queueing_lock=None,
        task_name=task,
        priority=priority,
        task_kwargs=dict(arguments),
        scheduled_at=at,
    )
    manager.defer_job(job, connection=raw_connection(session))
