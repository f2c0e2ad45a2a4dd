"""Plug-ins that build servers upload: checked, kept with their build, and found again for a host on some system."""

import hashlib
import os
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from kind_echo.audio_io.signatures import check_detached, public_key
from kind_echo.core.registry.errors import Conflict, Invalid, NotFound
from kind_echo.core.registry.offer_documents import ParameterDocument
from kind_echo.database.models import Artefact, ArtefactPiece, Build, Event, Host
from kind_echo.renderers.plugins.model import HostFailed
from kind_echo.renderers.plugins.packing import check_package
from kind_echo.renderers.plugins.standards import SYSTEMS, standard_of

KEY_VARIABLE = "KIND_ECHO_ARTEFACT_KEY"
"""Names the file of the public key with which artefacts must be signed; unset where none need be."""

_PIECE = 1 << 20
_LOCK = 0x6172746566616374


class BadArtefact(Invalid):
    """What was uploaded is no plug-in that could be kept."""


class ArtefactKnown(Conflict):
    """A build has another artefact for that standard and system already: a build stays what it was."""

    def __init__(self, version: str, standard: str, system: str) -> None:
        self.version, self.standard, self.system = version, standard, system
        super().__init__(f"Build {version} has another {standard} artefact for {system} already; name a new build.")


class ArtefactNotFound(NotFound):
    """An artefact is asked for that is not kept."""

    def __init__(self, sha256: str) -> None:
        self.sha256 = sha256
        super().__init__(f"No artefact {sha256[:12]} is kept here.")


@dataclass(frozen=True)
class Uploaded:
    """What comes with an artefact.

    Attributes:
        name: of the plug-in's file or folder, whose ending tells the standard.
        signature: of the bytes, in base64; empty for none.
    """

    name: str
    system: str
    signature: str = ""


def keep_artefact(
    session: Session, build_id: int, path: Path, uploaded: Uploaded, *, who: str, now: datetime
) -> Artefact:
    """Keep a plug-in with its build; the same again changes nothing.

    Raises:
        BadArtefact: it is no plug-in of a known standard, or its signature is not good.
        ArtefactKnown: the build is made of something else already.
    """
    build = session.get(Build, build_id, with_for_update=True)
    if build is None:
        raise BuildNotFound(build_id)
    if uploaded.system not in SYSTEMS:
        raise BadArtefact(f"An artefact is for {', '.join(SYSTEMS)}, and not for {uploaded.system!r}.")
    try:
        standard = standard_of(Path(uploaded.name)).key
        check_package(path, uploaded.name)
    except HostFailed as error:
        raise BadArtefact(f"{error}.") from error
    signed_by = _signer(path, uploaded.signature)
    with path.open("rb") as file:
        sha256 = hashlib.file_digest(file, "sha256").hexdigest()
    place = select(Artefact).filter_by(build_id=build_id, standard=standard, system=uploaded.system)
    there = session.scalar(place)
    if there is not None:
        if there.sha256 != sha256:
            raise ArtefactKnown(build.version, standard, uploaded.system)
        return there
    _hold_pieces(session)
    _keep_pieces(session, path, sha256)
    kept = Artefact(
        build_id=build_id, standard=standard, system=uploaded.system, name=uploaded.name, sha256=sha256,
        size=path.stat().st_size, signed_by=signed_by, uploaded_at=now, uploaded_by=who,
    )  # fmt: skip
    session.add(kept)
    detail = {
        "build": build_id, "effect": build.effect.name, "version": build.version, "standard": standard,
        "system": uploaded.system, "sha256": sha256,
    }  # fmt: skip
    session.add(Event(at=now, who=who, what="artefact uploaded", detail=detail))
    session.flush()
    return kept


class BuildNotFound(NotFound):
    """A build is named that is not there."""

    def __init__(self, build_id: int) -> None:
        self.build_id = build_id
        super().__init__(f"There is no build {build_id}.")


def artefact_of(session: Session, build: Build, host: Host) -> Artefact | None:
    """What a host of plug-ins on its system would load for a build; None where nothing was uploaded for it."""
    wanted = select(Artefact).filter_by(build_id=build.id, standard=host.renderer, system=host.system)
    return session.scalar(wanted)


def artefacts_of(session: Session, builds: Iterable[Build]) -> dict[int, list[Artefact]]:
    """What was uploaded, by build."""
    numbers = [build.id for build in builds]
    found: dict[int, list[Artefact]] = {}
    rows = session.scalars(select(Artefact).where(Artefact.build_id.in_(numbers)).order_by(Artefact.id))
    for one in rows:
        found.setdefault(one.build_id, []).append(one)
    return found


def pieces_of(session: Session, sha256: str) -> Iterator[bytes]:
    """The bytes of an artefact, a piece at a time. Raises ArtefactNotFound."""
    number = 0
    while (data := session.scalar(select(ArtefactPiece.data).filter_by(sha256=sha256, number=number))) is not None:
        yield data
        number += 1
    if number == 0:
        raise ArtefactNotFound(sha256)


def drop_artefacts(session: Session, build_id: int) -> None:
    """Forget what was uploaded for a build, and bytes that no other is made of."""
    _hold_pieces(session)
    hashes = set(session.scalars(select(Artefact.sha256).where(Artefact.build_id == build_id)))
    session.execute(delete(Artefact).where(Artefact.build_id == build_id))
    held = set(session.scalars(select(Artefact.sha256).where(Artefact.sha256.in_(hashes))))
    session.execute(delete(ArtefactPiece).where(ArtefactPiece.sha256.in_(hashes - held)))


def learn_of_plugin(
    session: Session, build_id: int, parameters: Sequence[ParameterDocument], channels: Sequence[int]
) -> None:
    """Let an effect of which nothing is known take over what the plug-in of a build says of itself.

    Raises BuildNotFound.
    """
    build = session.get(Build, build_id)
    if build is None:
        raise BuildNotFound(build_id)
    if not build.effect.parameters:
        build.effect.parameters, build.effect.channels = list(parameters), list(channels)


def _hold_pieces(session: Session) -> None:
    """Until the transaction ends, nobody else keeps or drops bytes: two builds may be made of the same."""
    session.execute(select(func.pg_advisory_xact_lock(_LOCK)))


def _keep_pieces(session: Session, path: Path, sha256: str) -> None:
    if session.scalar(select(ArtefactPiece.number).filter_by(sha256=sha256, number=0)) is not None:
        return
    with path.open("rb") as file:
        for number, data in enumerate(iter(lambda: file.read(_PIECE), b"")):
            session.add(ArtefactPiece(sha256=sha256, number=number, data=data))
            session.flush()
            session.expire_all()


def _signer(path: Path, signature: str) -> str | None:
    """The fingerprint of the key that signed it; None where none need. Raises BadArtefact, BadKey."""
    named = os.environ.get(KEY_VARIABLE)
    if not named:
        return None
    if not signature:
        raise BadArtefact("This server takes signed artefacts alone, and this one has no signature.")
    try:
        return check_detached(public_key(Path(named)), path.read_bytes(), signature)
    except Invalid as error:
        raise BadArtefact(f"The signature of the artefact does not hold: {error}") from error
