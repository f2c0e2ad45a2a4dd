"""A worker that reaches the server and not its database: takes renders over HTTP, and delivers them."""

import json
import os
import threading
import time
from collections.abc import Sequence
from dataclasses import asdict, replace

import numpy as np
import structlog

from kind_echo.audio_io.encoding import ENCODINGS, encode
from kind_echo.cli.exits import NoAnswer
from kind_echo.cli.workers.http import Refused, Server
from kind_echo.cli.workers.job import Job, RenderAsked, UploadedThere
from kind_echo.core.registry.errors import KindEchoError
from kind_echo.core.registry.offer_documents import OfferDocument
from kind_echo.renderers.contract import Offer, RenderFailed, RenderRequest, UploadedBuild
from kind_echo.renderers.offers import offer_document
from kind_echo.renderers.process import own_memory
from kind_echo.renderers.takes import Rendered, machine, offers_of, render_takes

_BEAT_SECONDS = 2.0
_LOOK_SECONDS = 1.0
_AGAIN_SECONDS = 3.0
_MOST_FAILED = 500
_FOR_GOOD = (401, 403, 404, 422)  # of HTTP: trying again would change nothing
_log = structlog.get_logger("kind_echo.worker")


class RemoteWorker:
    """Takes jobs of some renderers, one at a time; outlives a server that is away for a while."""

    def __init__(self, server: Server, name: str, renderers: Sequence[str]) -> None:
        self._server, self._names = server, renderers
        self._who = {"machine": name, "process": os.getpid()}
        self._worker_id = 0
        self._look_again = threading.Event()
        self._look()

    def _look(self) -> None:
        """See what this machine has."""
        offers = offers_of(self._names)
        self._renderers = {offer.queue: offer.renderer for offer in offers}
        self._offers = [_sent(offer) for offer in offers]
        self._by_host = {(h.name, h.version): offer.queue for offer in offers for h in offer.hosts}

    def work(self, stop: threading.Event) -> None:
        """Take jobs until it is told to stop. Raises Refused where trying again is no use, as for a wrong token."""
        while not stop.is_set():
            try:
                self._register()
                self._take_jobs(stop)
            except NoAnswer as error:
                _log.warning("the server does not answer; trying again", error=str(error))
                stop.wait(_AGAIN_SECONDS)
            except Refused as error:
                if error.status in _FOR_GOOD or (error.status == 409 and not self._worker_id):
                    raise
                _log.warning("the server refuses; arriving anew", error=str(error))
                stop.wait(_AGAIN_SECONDS)

    def _register(self) -> None:
        self._worker_id = 0
        said = self._server.post("/api/machines", self._who | {"offers": self._offers})
        self._worker_id = said["worker_id"]
        if said["waits_for_approval"]:
            waits = "an administrator has to approve on the page Hosts what this machine has"
            _log.warning(waits, server=self._server.address)
        _log.info("taking jobs", queues=list(self._renderers), server=self._server.address)

    def deregister(self) -> None:
        """Say that it stops; a server that does not answer will see it by the silence."""
        if not self._worker_id:
            return
        try:
            self._server.post(self._path("presence"), {"leaves": True})
        except (NoAnswer, Refused):
            _log.warning("the server does not answer; this worker leaves without a word")

    def _take_jobs(self, stop: threading.Event) -> None:
        gone = threading.Event()
        beating = threading.Thread(target=self._send_presence, args=(gone,), daemon=True)
        beating.start()
        try:
            while not stop.is_set():
                if machine().look_again(anyway=self._look_again.is_set()):
                    self._look_again.clear()
                    _log.info("what this machine has changed", renderers=list(self._renderers))
                    self._look()
                    return
                job: Job | None = self._server.post(self._path("take"), {"queues": list(self._renderers)})["job"]
                if job is None:
                    stop.wait(_LOOK_SECONDS)
                elif job["render"] is None:
                    self._say_builds(job)
                else:
                    self._render(job["job_id"], job["render"])
        finally:
            gone.set()
            beating.join()

    def _send_presence(self, gone: threading.Event) -> None:
        while not gone.wait(_BEAT_SECONDS):
            try:
                if self._server.post(self._path("presence"), {})["look_again"]:
                    self._look_again.set()
            except (NoAnswer, Refused) as error:
                _log.warning("no sign of life came through", error=str(error))

    def _say_builds(self, job: Job) -> None:
        renderer = self._renderers.get(job["renderer"])
        said = [
            {**one, "artefact": renderer and renderer.artefact(one["effect"], one["handle"], one["version"])}
            for one in job["builds"]
        ]
        self._server.post(self._path(f"jobs/{job['job_id']}/builds"), {"builds": said})

    def _render(self, job_id: int, asked: RenderAsked) -> None:
        begun = time.monotonic()
        try:
            body = self._rendered(job_id, asked)
        except (NoAnswer, Refused):
            raise
        except KindEchoError as error:
            self._fail(job_id, str(error), error.log if isinstance(error, RenderFailed) else "")
            return
        except Exception as error:
            # What breaks in a renderer is its cell's to say; the machine goes on with the next.
            _log.error("the renderer broke", job=job_id, exc_info=error)
            self._fail(job_id, f"The renderer broke ({type(error).__name__}: {error})", "")
            return
        try:
            self._server.post(self._path(f"jobs/{job_id}/render"), body)
            _log.info("delivered", job=job_id, seconds=round(time.monotonic() - begun, 3))
        except Refused as error:
            if error.status == 422:
                self._fail(job_id, str(error), "")
                return
            if error.status != 409:
                raise
            _log.warning("the job has been given to another meanwhile", job=job_id)

    def _fail(self, job_id: int, reason: str, log: str) -> None:
        said = {"reason": reason[:2000], "log": log[-100_000:]}
        self._server.post(self._path(f"jobs/{job_id}/failure"), said)
        _log.info("failed", job=job_id, reason=reason)

    def _rendered(self, job_id: int, asked: RenderAsked) -> bytes:
        queue = self._by_host.get((asked["host"], asked["host_version"]))
        if queue is None:
            raise RenderFailed(f"this machine has no host {asked['host']} {asked['host_version']}")
        data = self._server.fetch(self._path(f"jobs/{job_id}/signal"))
        signal = np.frombuffer(data, "<f8").reshape(asked["frames"], asked["channels"])
        request = RenderRequest(
            effect=asked["effect"], handle=asked["handle"], version=asked["version"], values=asked["values"],
            host=asked["host"], host_version=asked["host_version"], mode=asked["mode"], rate=asked["rate"],
            block_size=asked["block_size"], variation=asked["variation"],
            signal=signal, parts=tuple(asked["parts"]), double=asked["word_length"] == "DOUBLE",
            # A server of before knows nothing of it.
            hosting=tuple(asked.get("hosting", ())),
            preset=self._server.fetch(self._path(f"jobs/{job_id}/preset")) if asked["preset"] else b"",
            uploaded=self._uploaded(job_id, asked["uploaded"]),
        )  # fmt: skip
        # Taken before the render: what is replaced under it must not be taken for the new one.
        artefact = self._renderers[queue].artefact(request.effect, request.handle, request.version)
        rendered = render_takes(self._renderers[queue], request, asked["takes"])
        return delivery(rendered, artefact, asked["word_length"])

    def _uploaded(self, job_id: int, told: UploadedThere | None) -> UploadedBuild | None:
        if told is None:
            return None
        where = self._path(f"jobs/{job_id}/uploaded")
        return UploadedBuild(told["sha256"], told["name"], lambda target: self._server.save(where, target))

    def _path(self, rest: str) -> str:
        return f"/api/machines/{self._worker_id}/{rest}"


def delivery(rendered: Rendered, artefact: str | None, word_length: str) -> bytes:
    """A render as it is delivered: 4 bytes with the length of the head, the head as JSON, the samples of each take."""
    first = rendered.takes[0]
    memory = first.memory if first.cpu_seconds is not None else own_memory()
    head = {
        "frames": [len(take.samples) for take in rendered.takes], "channels": int(first.samples.shape[1]),
        "artefact": artefact, "claimed_latency": first.claimed_latency, "compensated": first.compensated,
        "wall": rendered.wall or 0.0, "cpu": rendered.cpu, "memory": memory, "log": first.log[-100_000:],
        "blocks": None if first.blocks is None else asdict(first.blocks),
    }  # fmt: skip
    text = json.dumps(head).encode()
    samples = [encode(take.samples, ENCODINGS[word_length]) for take in rendered.takes]
    return len(text).to_bytes(4, "little") + text + b"".join(samples)


def _sent(offer: Offer) -> OfferDocument:
    """What is told of a renderer; of very many files that it cannot offer, the first."""
    return offer_document(replace(offer, failed=offer.failed[:_MOST_FAILED]))
