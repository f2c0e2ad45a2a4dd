"""A worker beside the database: takes jobs of its renderers, gives back those of workers that died, and outlives it."""

import asyncio
import os
import signal
from collections.abc import Callable, Sequence
from contextlib import suppress
from datetime import UTC, datetime

import procrastinate
import structlog
from procrastinate.exceptions import ConnectorException
from procrastinate.worker import Worker
from sqlalchemy.exc import DBAPIError, OperationalError

from kind_echo.audio_io.temporary import sweep_temporary
from kind_echo.bench.machines import (
    is_to_look_again,
    queues_of_machine,
    record_worker,
    register,
    renew_worker,
    stopped,
)
from kind_echo.bench.queue import ANALYSIS_QUEUE, CLOCK_QUEUE, NOTICE_QUEUE, drop_audio, drop_unused, queue_app
from kind_echo.bench.storage import has_waited_out, is_due
from kind_echo.database.sessions import transaction
from kind_echo.renderers.offers import offer_document
from kind_echo.renderers.process import limit_own_memory, own_memory
from kind_echo.renderers.takes import installed, machine, offers_of

_HEARTBEAT_SECONDS = 2.0
_DEAD_AFTER_SECONDS = 8.0
_RECONNECT_SECONDS = 2.0
_log = structlog.get_logger("kind_echo.worker")


def work_beside_database(machine_name: str, renderers: Sequence[str], *, analysis: bool, memory: float) -> None:
    """Take jobs until this process is told to stop.

    Args:
        memory: MB that a job may take.
        renderers: names of those that it works for; all of the machine's where none are named.
        analysis: whether it measures and compares as well.
    """
    presence = _Presence(machine_name, renderers, [ANALYSIS_QUEUE, NOTICE_QUEUE, CLOCK_QUEUE] if analysis else [])
    limit_own_memory(memory)
    sweep_temporary()
    try:
        asyncio.run(_work(presence))
    finally:
        presence.deregister()


class _Presence:
    """What the database knows of this worker.

    Args:
        renderers: names of those that it works for; all of the machine's where none are named.
        others: queues that it takes beside those of renders.
    """

    def __init__(self, machine_name: str, renderers: Sequence[str], others: Sequence[str]) -> None:
        self._machine, self._renderers, self._others = machine_name, renderers, others

    def register(self) -> list[str]:
        """Write down what this machine has, and that it is there; the queues that it is to take jobs from."""
        offers = offers_of(self._renderers)
        with transaction() as session:
            register(session, offers)
            record_worker(session, self._machine, os.getpid(), offers, datetime.now(UTC))
        return self._queues()

    def stay(self, job_id: int | None) -> list[str]:
        """Say that it is still there, at what job, and what it has if that changed; the queues it is to take from."""
        with transaction() as session:
            asked = is_to_look_again(session, self._machine, os.getpid())
        if machine().look_again(anyway=asked):
            _log.info("what this machine has changed", renderers=list(installed()))
            return self.register()
        with transaction() as session:
            now = datetime.now(UTC)
            renew_worker(session, self._machine, os.getpid(), now, job_id=job_id, memory=own_memory())
            if ANALYSIS_QUEUE in self._others:
                if is_due(session, now):
                    drop_audio(session)
                elif has_waited_out(session, now):
                    drop_unused(session)
        return self._queues()

    def _queues(self) -> list[str]:
        with transaction() as session:
            mine = queues_of_machine(session, [offer_document(offer) for offer in offers_of(self._renderers)])
        return [*mine, *self._others]

    def deregister(self) -> None:
        """Say that it stopped; a database that does not answer will see it by the silence."""
        try:
            with transaction() as session:
                stopped(session, self._machine, os.getpid(), datetime.now(UTC))
        except DBAPIError:
            _log.warning("the database does not answer; this worker leaves without a word")


async def _work(presence: _Presence) -> None:
    """Take jobs until a signal says to stop; what stops by itself, for the database went away, is begun anew."""
    asked = asyncio.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        asyncio.get_running_loop().add_signal_handler(number, asked.set)
    while not asked.is_set():
        try:
            await _take_jobs(presence, asked)
            if asked.is_set():
                return
            _log.warning("taking jobs came to an end by itself; trying again")
        except (ConnectorException, ConnectionError, OperationalError) as error:
            _log.warning("the database does not answer; trying again", error=str(error.__cause__ or error))
        with suppress(TimeoutError):
            await asyncio.wait_for(asked.wait(), _RECONNECT_SECONDS)


async def _take_jobs(presence: _Presence, asked: asyncio.Event) -> None:
    """Take jobs until it is asked to stop, or the queue's own library does."""
    queues = await asyncio.to_thread(presence.register)
    async with queue_app().open_async() as app:
        _log.info("taking jobs", renderers=list(installed()), queues=len(queues))
        app.perform_import_paths()  # type: ignore[no-untyped-call]
        worker = Worker(
            app=app,
            queues=queues,
            concurrency=1,
            update_heartbeat_interval=_HEARTBEAT_SECONDS,
            stalled_worker_timeout=_DEAD_AFTER_SECONDS,
            fetch_job_polling_interval=2.0,
            shutdown_graceful_timeout=20.0,
            delete_jobs="successful",
            install_signal_handlers=False,
        )
        beside = [asyncio.create_task(_rescue(app, worker, presence.stay)), asyncio.create_task(_stop(worker, asked))]
        try:
            await worker.run()  # type: ignore[no-untyped-call]
        finally:
            for task in beside:
                task.cancel()


async def _stop(worker: Worker, asked: asyncio.Event) -> None:
    await asked.wait()
    worker.stop()  # type: ignore[no-untyped-call]


async def _rescue(app: procrastinate.App, worker: Worker, stay: Callable[[int | None], list[str]]) -> None:
    """Put jobs back on their queues: those of dead workers, and those that this one was given without hearing of it.

    Beside that, keep the worker's queues up to date with what this machine has and which builds are known.

    When the database goes away as it hands out a job, the job is this worker's, and this worker does not know.
    """
    unknown: set[int] = set()
    while True:
        await asyncio.sleep(_HEARTBEAT_SECONDS)
        if worker.worker_id is None:
            continue
        try:
            # What this worker is at, the storing of its outcome included; procrastinate has no public name for it.
            at_work = {context.job.id for context in worker._running_jobs.values()}
            own = {job.id for job in await app.job_manager.list_jobs_async(status="doing", worker_id=worker.worker_id)}
            stalled = await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=_DEAD_AFTER_SECONDS)
            lost = [job for job in stalled if job.worker_id != worker.worker_id]
            # Seen twice: a job that has just been fetched is known a moment later.
            forgotten = {number for number in own - at_work if number is not None}
            for number in forgotten & unknown:
                lost += await app.job_manager.list_jobs_async(id=number, status="doing")
            unknown = forgotten
            worker.queues = await asyncio.to_thread(stay, next(iter(at_work), None))
            for job in lost:
                _log.warning("giving a job back, which nobody is at", job=job.id)
                await app.job_manager.retry_job(job)
        except (ConnectorException, DBAPIError):
            _log.warning("the database does not answer; looking for lost jobs later")
