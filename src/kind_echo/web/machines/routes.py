"""Render machines that reach the server and not its database: they register_remote_worker, take jobs, and deliver."""

from datetime import UTC, datetime
from pathlib import Path

import numpy as np
from flask import Response
from flask_openapi3 import APIBlueprint
from pydantic import ValidationError

from kind_echo.audio_io.temporary import temporary_folder
from kind_echo.bench.machines import approve_machine, ask_to_look_again, is_to_look_again, unapproved
from kind_echo.bench.rendering import (
    Facts,
    Question,
    RenderJob,
    answer_question,
    deliver,
    deregister_worker,
    own_machine,
    preset_of,
    record_heartbeat,
    register_remote_worker,
    report_failure,
    stimulus_of,
    uploaded_of,
)
from kind_echo.bench.rendering import (
    take_job as next_job,
)
from kind_echo.core.levels.hosting import HostedBlocks
from kind_echo.database.sessions import transaction
from kind_echo.renderers.contract import NotOffered, Offer, OfferedEffect, OfferedHost, RemoteRenderer
from kind_echo.web.http.answers import answer
from kind_echo.web.http.files import sent_and_gone, with_body
from kind_echo.web.http.problems import invalid_request, problem
from kind_echo.web.machines.schemas import (
    AnswersBody,
    ArrivalBody,
    ArrivedBody,
    BuildKeyBody,
    DeliveryHead,
    FailureBody,
    JobBody,
    MachineJobPath,
    MachineNamePath,
    MachineOfferBody,
    MachinePath,
    PresenceBody,
    RenderJobBody,
    SeenBody,
    TakeBody,
    TakenBody,
    UploadedBuildBody,
)
from kind_echo.web.security.doors import caller

api = APIBlueprint("machines", __name__, url_prefix="/api/machines")

_MOST_HEAD = 1_000_000  # bytes


@api.post("", responses={201: ArrivedBody})
def new_machine(body: ArrivalBody) -> Response:
    """A machine arrives, and says what it has."""
    with transaction() as session:
        offers = [_offer(one) for one in body.offers]
        number = register_remote_worker(session, _token(), body.machine, body.process, offers, datetime.now(UTC))
        waits = body.machine in unapproved(session)
        return answer(ArrivedBody(worker_id=number, waits_for_approval=waits), 201)


@api.post("/<int:worker_id>/presence", responses={200: SeenBody})
def presence(path: MachinePath, body: PresenceBody) -> Response:
    """A machine says that it is still there, or that it leaves."""
    with transaction() as session:
        machine = own_machine(session, _token(), path.worker_id)
        if body.leaves:
            deregister_worker(session, machine, datetime.now(UTC))
        else:
            record_heartbeat(session, machine, datetime.now(UTC))
        asked = is_to_look_again(session, machine.machine, machine.process)
    return answer(SeenBody(look_again=asked))


@api.post("/<int:worker_id>/take", responses={200: TakenBody})
def take(path: MachinePath, body: TakeBody) -> Response:
    """The next job of some renderers; what the machine was at before goes to another."""
    _own(path.worker_id)
    job = next_job(path.worker_id, body.queues, datetime.now(UTC))
    if isinstance(job, Question):
        builds = [BuildKeyBody(effect=e, handle=h, version=v) for e, h, v in job.builds]
        return answer(TakenBody(job=JobBody(job_id=job.job_id, builds=builds, renderer=job.renderer, render=None)))
    return answer(TakenBody(job=_job_body(job) if job is not None else None))


@api.post("/<int:worker_id>/jobs/<int:job_id>/builds")
def say_builds(path: MachineJobPath, body: AnswersBody) -> Response:
    """What would render the builds that the machine was asked about; the run goes on with it."""
    artefacts = {(one.effect, one.handle, one.version): one.artefact for one in body.builds}
    _own(path.worker_id)
    with transaction() as session:
        answer_question(session, path.worker_id, path.job_id, artefacts, datetime.now(UTC))
    return Response(status=204)


@api.get("/<int:worker_id>/jobs/<int:job_id>/signal")
def signal(path: MachineJobPath) -> Response:
    """The signal to render: frames × channels, 64-bit floats, little-endian."""
    _own(path.worker_id)
    with transaction() as session:
        samples = stimulus_of(session, path.worker_id, path.job_id)
    return Response(np.ascontiguousarray(samples, "<f8").tobytes(), content_type="application/octet-stream")


@api.get("/<int:worker_id>/jobs/<int:job_id>/preset")
def preset(path: MachineJobPath) -> Response:
    """The state that the render begins from, as it was uploaded; empty for none."""
    _own(path.worker_id)
    with transaction() as session:
        data = preset_of(session, path.worker_id, path.job_id)
    return Response(data, content_type="application/octet-stream")


@api.get("/<int:worker_id>/jobs/<int:job_id>/uploaded")
def uploaded(path: MachineJobPath) -> Response:
    """The plug-in that the build is, as it was uploaded."""
    _own(path.worker_id)
    with temporary_folder() as folder:
        file = Path(folder) / "plug-in"
        with transaction() as session, file.open("wb") as out:
            out.writelines(uploaded_of(session, path.worker_id, path.job_id))
        return sent_and_gone(file, "application/octet-stream", "plug-in")


@api.post("/<string:name>/look-again")
def look_again(path: MachineNamePath) -> Response:
    """Have a machine look again at what it has, and at files that could not be loaded."""
    with transaction() as session:
        ask_to_look_again(session, path.name, datetime.now(UTC))
    return Response(status=204)


@api.post("/<int:worker_id>/jobs/<int:job_id>/render")
def new_delivery(path: MachineJobPath) -> Response:
    """Keep a render. The body: 4 bytes with the length of the head, the head as JSON, and the samples of each take.

    The head is a DeliveryHead; the samples are interleaved, little-endian, in the word length that was asked for.
    """

    _own(path.worker_id)

    def keep(file: Path) -> Response:
        with file.open("rb") as body:
            length = int.from_bytes(body.read(4), "little")
            if length > _MOST_HEAD:
                return problem(422, "InvalidRequest", f"The head has {length} bytes, and {_MOST_HEAD} are taken.")
            head = body.read(length)
        try:
            said = DeliveryHead.model_validate_json(head)
        except ValidationError as error:
            return invalid_request(error)
        blocks = None if said.blocks is None else HostedBlocks(**said.blocks.model_dump())
        facts = Facts(**said.model_dump() | {"frames": tuple(said.frames), "blocks": blocks})
        with transaction() as session:
            deliver(session, path.worker_id, path.job_id, facts, file, 4 + length)
        return Response(status=204)

    return with_body("the render", keep)


@api.post("/<int:worker_id>/jobs/<int:job_id>/failure")
def new_failure(path: MachineJobPath, body: FailureBody) -> Response:
    """The machine could not render what it was asked for."""
    _own(path.worker_id)
    with transaction() as session:
        report_failure(session, path.worker_id, path.job_id, body.reason, body.log, datetime.now(UTC))
    return Response(status=204)


def _token() -> int:
    """The token by which the machine came; the routes are for those who have one."""
    token_id = caller().token_id
    assert token_id is not None
    return token_id


def _own(worker_id: int) -> None:
    """Raises MachineUnknown for the number of a machine that came by another token."""
    with transaction() as session:
        own_machine(session, _token(), worker_id)


@api.post("/<string:name>/approval")
def approve(path: MachineNamePath) -> Response:
    """Let a machine render what it offers now; a machine beside the database needs no approval."""
    with transaction() as session:
        approve_machine(session, path.name, who=caller().name, now=datetime.now(UTC))
    return Response(status=204)


def _offer(body: MachineOfferBody) -> Offer:
    hosts = tuple(
        OfferedHost(h.name, h.version, h.description, tuple(h.modes), h.system, tuple(h.hosting)) for h in body.hosts
    )
    effects = tuple(
        OfferedEffect(
            e.name, e.handle, e.description, tuple(one.document for one in e.parameters),
            tuple(e.versions), tuple(e.patterns),
            tuple(e.channels),
        )
        for e in body.effects
    )  # fmt: skip
    failed = tuple(NotOffered(one.file, one.reason) for one in body.failed)
    renderer = RemoteRenderer({})
    return Offer(body.queue, body.description, renderer, hosts, effects, failed=failed, accepts=body.accepts)


def _job_body(job: RenderJob) -> JobBody:
    asked = job.request
    frames, channels = asked.signal.shape
    render = RenderJobBody(
        effect=asked.effect, handle=asked.handle, version=asked.version, values=asked.values, host=asked.host,
        host_version=asked.host_version, mode=asked.mode, rate=asked.rate, block_size=asked.block_size,
        channels=channels, frames=frames, takes=job.takes, word_length=job.word_length,
        parts=[dict(values) for values in asked.parts], variation=asked.variation,
        hosting=list(asked.hosting), preset=bool(asked.preset),
        uploaded=UploadedBuildBody(sha256=asked.uploaded.sha256, name=asked.uploaded.name) if asked.uploaded else None,
    )  # fmt: skip
    return JobBody(job_id=job.job_id, builds=[], renderer="", render=render)
