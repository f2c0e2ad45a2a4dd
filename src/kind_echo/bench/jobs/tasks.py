"""What every job has in common: how often it is tried, what is logged of it, and how it is counted."""

import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from typing import Any

import procrastinate
import structlog
from sqlalchemy.exc import DBAPIError

from kind_echo.bench.machines import Outcome, count_job, memory_of_lost
from kind_echo.bench.queue import ANALYSIS_QUEUE, MOST_ATTEMPTS, JobName, forget_attempt, queue_app
from kind_echo.core.registry.errors import KindEchoError
from kind_echo.database.sessions import is_temporary, transaction

_FEW = procrastinate.RetryStrategy(max_attempts=MOST_ATTEMPTS, wait=1, linear_wait=2)
_PATIENCE_SECONDS = 10


class NeverEnded(KindEchoError):
    """A job was begun again and again, and no attempt came to an end: its workers died, or lost the database."""

    def __init__(self, times: int, memory: float | None) -> None:
        self.times, self.memory = times, memory
        seen = "" if memory is None else f" A worker that died over it was last seen with {memory:.0f} MB."
        super().__init__(
            f"This was begun {times} times and never came to an end: its worker died, or lost the database.{seen} "
            "It may need more memory than the machine has."
        )


class TooMuchMemory(KindEchoError):
    """A job needs more memory than a job may take."""

    def __init__(self) -> None:
        super().__init__(
            "This needs more memory than a job may take on this worker; a worker with a greater --memory-gb can do it."
        )


def refuse_if_never_ended(context: procrastinate.JobContext) -> None:
    """Raises NeverEnded for a job that was begun more often than it could have failed by itself.

    A job that breaks is given up after MOST_ATTEMPTS; only one whose worker was lost is put back beyond that.
    """
    if context.job.attempts > MOST_ATTEMPTS:
        with transaction() as session:
            memory = memory_of_lost(session, context.job.id or 0)
        raise NeverEnded(context.job.attempts, memory)


class _Retry(procrastinate.BaseRetryStrategy):
    """A few attempts at what breaks; as many as it takes while a disk is full or the database is away."""

    def get_retry_decision(
        self, *, exception: BaseException, job: procrastinate.jobs.Job
    ) -> procrastinate.RetryDecision | None:
        """When to try again; None for never."""
        if isinstance(exception, NeverEnded | TooMuchMemory | MemoryError):
            return None
        if is_temporary(exception):
            return procrastinate.RetryDecision(retry_in={"seconds": _PATIENCE_SECONDS})
        return _FEW.get_retry_decision(exception=exception, job=job)


_RETRY = _Retry()
app = queue_app()
_log = structlog.get_logger("kind_echo.jobs")


def task(
    name: JobName, queue: str = ANALYSIS_QUEUE, *, pass_context: bool = False
) -> Callable[[Callable[..., None]], Any]:
    """Make a function a task of the queue: tried again when it breaks, each attempt logged and counted."""

    def decorate(work: Callable[..., None]) -> Any:
        @app.task(name=name, queue=queue, retry=_RETRY, pass_context=True)
        def attempt(context: procrastinate.JobContext, /, **arguments: int) -> None:
            with _watched(context, name, arguments):
                work(context, **arguments) if pass_context else work(**arguments)

        return attempt

    return decorate


@contextmanager
def _watched(context: procrastinate.JobContext, name: str, arguments: Mapping[str, int]) -> Iterator[None]:
    begun = time.monotonic()
    outcome: Outcome = "failed"
    job = {"job": context.job.id, "attempt": context.job.attempts, **arguments}
    with structlog.contextvars.bound_contextvars(task=name, **job):
        try:
            yield
            outcome = "done"
        except Exception as error:
            _log.warning("attempt failed", exc_info=error)
            if is_temporary(error) and context.job.id is not None:
                with suppress(DBAPIError), transaction() as session:
                    forget_attempt(session, context.job.id)
            raise
        finally:
            seconds = time.monotonic() - begun
            _log.info(outcome, seconds=round(seconds, 3))
            # Counting is no reason for a job to fail.
            with suppress(DBAPIError), transaction() as session:
                count_job(session, name, outcome, seconds)
