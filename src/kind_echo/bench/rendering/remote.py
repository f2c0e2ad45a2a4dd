"""Renderers on machines that reach the server and not its database: they take jobs one at a time, and deliver.

A machine is a worker of the queue like any other: when it falls silent, its job is given to another.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass
from datetime import datetime
from pathlib import Path

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.audio_io.decoding import Decoded
from kind_echo.audio_io.encoding import ENCODINGS
from kind_echo.bench.machines import admit, count_job, pieces_of, queues_of_machine, record_worker, renderer_of, stopped
from kind_echo.bench.queue import (
    ANALYSIS_QUEUE,
    MOST_ATTEMPTS,
    Job,
    JobName,
    fetch_job,
    finish_job,
    heartbeat,
    hold_job,
    is_registered,
    measure_delivered,
    register_worker,
    requeue_jobs,
    unregister_worker,
)
from kind_echo.bench.rendering.keeping import keep_render, keepable
from kind_echo.bench.rendering.requests import request_for, uploaded_for
from kind_echo.bench.rendering.reuse import render_key
from kind_echo.bench.rendering.steps import (
    begin_render,
    fail_cell,
    fail_cell_in,
    fail_waiting,
    prepare,
    reassign_cell,
    to_analysis,
)
from kind_echo.bench.runs import find_cell, find_run, waiting_cells
from kind_echo.core.audio.source import Samples
from kind_echo.core.levels.hosting import HostedBlocks
from kind_echo.core.registry.errors import BadParameter, Conflict, KindEchoError
from kind_echo.database.blobs import BlobSource, find_content, store_content
from kind_echo.database.models import Delivery, Worker
from kind_echo.database.sessions import transaction
from kind_echo.renderers.contract import BuildKey, Offer, RemoteRenderer, RenderRequest, RenderResult
from kind_echo.renderers.takes import Rendered


class JobLost(Conflict):
    """A job is spoken of that this machine has not, or has no more."""

    def __init__(self, job_id: int) -> None:
        self.job_id = job_id
        super().__init__(f"Job {job_id} is not this machine's, or is no more; nothing was kept.")


class MachineUnknown(Conflict):
    """A machine speaks that has not arrived by this token, or was silent for so long that it was forgotten."""

    def __init__(self, worker_id: int) -> None:
        self.worker_id = worker_id
        super().__init__(f"Machine {worker_id} is not known here by this token; it has to arrive first.")


@dataclass(frozen=True)
class RenderJob:
    """A render that a machine is to make; `word_length` is how its samples are to be delivered."""

    job_id: int
    cell_id: int
    request: RenderRequest
    takes: int
    word_length: str


@dataclass(frozen=True)
class Question:
    """A run is being prepared: what would render these builds here?"""

    job_id: int
    run_id: int
    renderer: str
    builds: tuple[BuildKey, ...]


_MOST_TAIL_SECONDS = 60.0
"""By which a render may be longer than its signal: an effect rings on, and a host renders its tail."""


@dataclass(frozen=True)
class Facts:
    """What a machine says of a render, beside the samples.

    Attributes:
        frames: of each take_job, how many it has.
        artefact: digest of what rendered it; None where that is not known.
        claimed_latency: frames that the effect claims; None where nothing tells.
        compensated: the claimed latency has been taken off the samples.
        wall, cpu: seconds by the clock and of the processor, for all takes.
        memory: MB at most; None where it is not known.
        log: what the renderer printed.
        blocks: what a host of plug-ins saw of its blocks; None where there was none.
    """

    frames: tuple[int, ...]
    channels: int
    artefact: str | None
    claimed_latency: int | None
    compensated: bool
    wall: float
    cpu: float
    memory: float | None
    log: str
    blocks: HostedBlocks | None = None


def register_remote_worker(
    session: Session, token_id: int, machine: str, process: int, offers: Sequence[Offer], now: datetime
) -> int:
    """Write down what a machine has and that it is there; the number under which it takes jobs.

    Until a keeper has approved it, it is given none.

    Raises:
        BadParameter: it offers what is none of a renderer's.
        MachineNameTaken, TooManyMachines: it cannot come by that name, or there are as many as are taken.
    """
    _check_queues(offer.queue for offer in offers)
    allowed = admit(session, token_id, machine, process, offers, now)
    number = register_worker(session)
    record_worker(session, machine, process, allowed, now, number=number, token_id=token_id)
    return number


def own_machine(session: Session, token_id: int, worker_id: int) -> Worker:
    """The machine of that number, if it came by this token and is not forgotten. Raises MachineUnknown."""
    query = select(Worker).where(Worker.number == worker_id, Worker.token_id == token_id)
    machine = session.scalar(query)
    if machine is None or not is_registered(session, worker_id):
        raise MachineUnknown(worker_id)
    return machine


def record_heartbeat(session: Session, machine: Worker, now: datetime) -> None:
    """A machine says that it is still there."""
    assert machine.number is not None
    heartbeat(session, machine.number)
    machine.seen_at = now


def deregister_worker(session: Session, machine: Worker, now: datetime) -> None:
    """A machine says that it stops; a job that it was at goes to another."""
    assert machine.number is not None
    requeue_jobs(session, machine.number)
    unregister_worker(session, machine.number)
    stopped(session, machine.machine, machine.process, now)


def take_job(worker_id: int, renderers: Sequence[str], now: datetime) -> RenderJob | Question | None:
    """The next job of some renderers that a machine has the build and the host for; None where there is none now.

    Raises BadParameter.
    """
    _check_queues(renderers)
    while True:
        with transaction() as session:
            requeue_jobs(session, worker_id)  # one job at a time: what it had, it has lost
            machine = session.scalars(select(Worker).where(Worker.number == worker_id)).one()
            has = [offer for offer in machine.renderers if offer["queue"] in renderers]
            queues = queues_of_machine(session, has)
            job = fetch_job(session, worker_id, queues) if queues else None
            if job is None:
                return None
            if job.name == "prepare_run" and job.attempts < MOST_ATTEMPTS:
                return _question(session, job.id, job.arguments["run_id"], job.queue)
        if job.name == "prepare_run":
            fail_waiting(job.arguments["run_id"], job.queue, f"It could not be prepared in {MOST_ATTEMPTS} attempts")
        else:
            wanted = _wanted(job.id, job.arguments["cell_id"], queues, now)
            if wanted is not None:
                return wanted
        with transaction() as session:
            finish_job(session, job.id)


def answer_question(
    session: Session, worker_id: int, job_id: int, artefacts: Mapping[BuildKey, str | None], now: datetime
) -> None:
    """Prepare a run with what a machine said of its builds. Raises JobLost."""
    job = _own_job(session, worker_id, job_id, "prepare_run")
    prepare(session, job.arguments["run_id"], job.queue, RemoteRenderer(artefacts), now)
    finish_job(session, job_id)


def deliver(session: Session, worker_id: int, job_id: int, facts: Facts, path: Path, skip: int) -> None:
    """Keep what a machine rendered, and enqueue its measuring.

    Args:
        path: the file that holds the samples of all takes, as bytes in the cell's word length.
        skip: bytes in it before them.

    Raises:
        JobLost: the job is another's by now.
        BadParameter: the samples are not as many as the facts say, or the takes, channels or frames are not those that
            were asked for.
    """
    job = _own_job(session, worker_id, job_id, "render_cell")
    cell = find_cell(session, job.arguments["cell_id"], lock=True)
    finish_job(session, job_id)
    if cell.state != "rendering":
        return
    if len(facts.frames) != cell.case.takes:
        raise BadParameter("takes", len(facts.frames), f"{cell.case.takes}")
    if facts.channels != cell.condition.channels:
        raise BadParameter("channels", facts.channels, f"{cell.condition.channels}, as was asked for")
    most = request_for(session, cell).signal.shape[0] + round(_MOST_TAIL_SECONDS * cell.condition.rate)
    if max(facts.frames) > most:
        allowed = f"at most {most}: the signal, and {_MOST_TAIL_SECONDS:g} s more"
        raise BadParameter("frames", max(facts.frames), allowed)
    encoding = ENCODINGS[cell.condition.word_length]
    width = encoding.width * facts.channels
    if path.stat().st_size != skip + sum(facts.frames) * width:
        raise BadParameter("samples", f"{path.stat().st_size - skip} bytes", "those of all takes")
    contents = []
    for frames in facts.frames:
        source = Decoded(path, cell.condition.rate, frames, facts.channels, encoding.name, encoding,
                         encoding.half_step, encoding.rail, skip)  # fmt: skip
        contents.append(store_content(session, source, encoding).sha256)
        skip += frames * width
    own = {(cell.run.build.effect.known_as, cell.run.build.effect.handle, cell.run.build.version): facts.artefact}
    said = {
        "claimed_latency": facts.claimed_latency, "compensated": facts.compensated, "wall": facts.wall,
        "cpu": facts.cpu, "memory": facts.memory, "log": keepable(facts.log),
        "key": render_key(RemoteRenderer(own), cell), "blocks": facts.blocks and asdict(facts.blocks),
    }  # fmt: skip
    former = session.get(Delivery, cell.id)
    if former is not None:
        session.delete(former)
        session.flush()
    session.add(Delivery(cell_id=cell.id, contents=contents, facts=said))
    session.flush()
    count_job(session, "render_cell", "done", facts.wall)
    measure_delivered(session, cell.id)


def report_failure(session: Session, worker_id: int, job_id: int, reason: str, log: str, now: datetime) -> None:
    """A machine could not render what it was asked for. Raises JobLost."""
    job = _own_job(session, worker_id, job_id, "render_cell")
    finish_job(session, job_id)
    fail_cell_in(session, job.arguments["cell_id"], reason, now, log)


def stimulus_of(session: Session, worker_id: int, job_id: int) -> Samples:
    """The signal that a machine is to render, shape (frames, channels). Raises JobLost."""
    job = _own_job(session, worker_id, job_id, "render_cell")
    return request_for(session, find_cell(session, job.arguments["cell_id"])).signal


def preset_of(session: Session, worker_id: int, job_id: int) -> bytes:
    """The state that a render begins from; empty for none. Raises JobLost."""
    job = _own_job(session, worker_id, job_id, "render_cell")
    return request_for(session, find_cell(session, job.arguments["cell_id"])).preset


def uploaded_of(session: Session, worker_id: int, job_id: int) -> Iterator[bytes]:
    """The bytes of the plug-in that a machine is to render with. Raises JobLost, ArtefactNotFound."""
    job = _own_job(session, worker_id, job_id, "render_cell")
    found = uploaded_for(find_cell(session, job.arguments["cell_id"]))
    return pieces_of(session, "" if found is None else found.sha256)


def measure_delivery(session: Session, cell_id: int, now: datetime) -> None:
    """Measure what was delivered for a cell, as any render is, and enqueue its analysis."""
    cell = find_cell(session, cell_id, lock=True)
    delivery = session.get(Delivery, cell_id)
    if delivery is None or cell.state != "rendering":
        return
    facts = delivery.facts
    results = [
        RenderResult(
            _whole(session, sha256), facts["claimed_latency"], facts["compensated"], facts["log"], facts["cpu"],
            facts["memory"], HostedBlocks(**facts["blocks"]) if facts.get("blocks") else None,
        )
        for sha256 in delivery.contents
    ]  # fmt: skip
    signal = request_for(session, cell).signal
    render = keep_render(session, cell, signal, Rendered(tuple(results), facts["wall"], facts["cpu"]), now)
    render.key = facts["key"]
    session.delete(delivery)
    to_analysis(session, cell)


def _whole(session: Session, sha256: str) -> Samples:
    source = BlobSource(session, find_content(session, sha256))
    return np.asarray(source.read(0, source.frames))


def _wanted(job_id: int, cell_id: int, queues: Sequence[str], now: datetime) -> RenderJob | None:
    """What is to be rendered for a cell; one that cannot even be asked for fails, with the reason.

    Args:
        queues: of what the machine can render; a cell of any other is handed on.
    """
    try:
        begun = begin_render(cell_id)
        if begun is None:
            return None
        with transaction() as session:
            cell = find_cell(session, cell_id, lock=True)
            if begun.queue not in queues:
                reassign_cell(session, cell, now)
                return None
            request = request_for(session, cell)
            return RenderJob(job_id, cell_id, request, begun.takes, cell.condition.word_length)
    except KindEchoError as error:
        fail_cell(cell_id, str(error), now)
        return None


def _question(session: Session, job_id: int, run_id: int, queue: str) -> Question:
    run = find_run(session, run_id)
    build = (run.build.effect.known_as, run.build.effect.handle, run.build.version)
    return Question(job_id, run_id, renderer_of(queue), (build,) if waiting_cells(session, run, queue) else ())


def _own_job(session: Session, worker_id: int, job_id: int, name: JobName) -> Job:
    job = hold_job(session, worker_id, job_id, name)
    if job is None:
        raise JobLost(job_id)
    return job


def _check_queues(queues: Iterable[str]) -> None:
    """Measuring and comparing are never given out: only renders are."""
    for queue in queues:
        if queue == ANALYSIS_QUEUE:
            raise BadParameter("renderer", queue, "the name of a renderer")
