"""What a renderer of this machine is asked for to render a cell, and whether this machine can."""

from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session, object_session

from kind_echo.bench.machines import Place, artefact_of, has_place, pieces_of, renderer_of
from kind_echo.bench.signals import make_stimulus
from kind_echo.database.models import Artefact, Cell, Host
from kind_echo.database.sessions import transaction
from kind_echo.renderers.contract import Renderer, RenderFailed, RenderRequest, UploadedBuild
from kind_echo.renderers.takes import installed


def renderer_named(queue: str) -> Renderer:
    """The renderer of a queue. Raises RenderFailed where this machine does not have it."""
    name = renderer_of(queue)
    if name not in installed():
        raise RenderFailed(f"this machine has no renderer {name}")
    return installed()[name].renderer


def can_render_here(cell: Cell, queue: str) -> bool:
    """Whether this machine has the build and the host of a cell, as things stand now."""
    offer = installed().get(renderer_of(queue))
    effect, condition = cell.run.build.effect, cell.condition
    place = Place(
        renderer_of(queue),
        condition.host,
        condition.host_version,
        effect.known_as,
        effect.handle,
        cell.run.build.version,
    )
    return offer is not None and (has_place(offer, place) or (offer.accepts and uploaded_for(cell) is not None))


def uploaded_for(cell: Cell) -> Artefact | None:
    """What was uploaded of a cell's build for the host of its condition; None where nothing was."""
    session, condition = object_session(cell), cell.condition
    assert session is not None
    with session.no_autoflush:
        host = session.scalar(select(Host).filter_by(name=condition.host, version=condition.host_version))
    return None if host is None or not host.system else artefact_of(session, cell.run.build, host)


def _uploaded(session: Session, cell: Cell) -> UploadedBuild | None:
    found = uploaded_for(cell)
    if found is None:
        return None
    sha256 = found.sha256

    def fetch(target: Path) -> None:
        with transaction() as own, target.open("wb") as file:
            file.writelines(pieces_of(own, sha256))

    return UploadedBuild(sha256, found.name, fetch)


def request_for(session: Session, cell: Cell) -> RenderRequest:
    """What a renderer is asked for. Raises what make_stimulus raises."""
    condition, build = cell.condition, cell.run.build
    return RenderRequest(
        effect=build.effect.known_as,
        version=build.version,
        values=cell.case.setting.parameters,
        host=condition.host,
        host_version=condition.host_version,
        mode=condition.mode,
        rate=condition.rate,
        block_size=condition.block_size,
        signal=make_stimulus(session, cell.case.signal.stimulus, condition.channels, condition.rate),
        handle=build.effect.handle,
        parts=tuple(cell.case.setting.parts),
        double=condition.word_length == "DOUBLE",
        variation=cell.case.variation,
        hosting=tuple(what for what in condition.hosting.split(", ") if what),
        preset=cell.case.setting.preset or b"",
        uploaded=_uploaded(session, cell),
    )
