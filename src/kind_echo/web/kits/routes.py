"""Render kits: the ZIP to take away, the files that come back, and what is asked about them."""

from datetime import UTC, datetime
from pathlib import Path

from flask import Response
from flask_openapi3 import APIBlueprint
from sqlalchemy.orm import Session

from kind_echo.audio_io.temporary import temporary_folder
from kind_echo.bench.kits import KitFile, Place, assign, discard, kit_files, kit_name, places_of, receive, write_kit
from kind_echo.bench.runs import find_run
from kind_echo.database.sessions import transaction
from kind_echo.web.http.addresses import RunPath
from kind_echo.web.http.answers import answer
from kind_echo.web.http.files import sent_and_gone, with_body
from kind_echo.web.http.schemas import ConditionBody
from kind_echo.web.kits.schemas import (
    AssignBody,
    KitBody,
    KitFileBody,
    KitFilePath,
    KitPlaceBody,
    KitReceiptBody,
    KitUploadQuery,
    RefusedBody,
)
from kind_echo.web.security.doors import caller

api = APIBlueprint("kits", __name__, url_prefix="/api")


@api.get("/runs/<int:run_id>/kit", responses={200: KitBody})
def kit(path: RunPath) -> Response:
    """What is to come back for a run, and what did."""
    with transaction() as session:
        return answer(_kit_body(session, path.run_id))


@api.get("/runs/<int:run_id>/kit.zip")
def kit_archive(path: RunPath) -> Response:
    """The kit itself: signals, manifest and instructions."""
    with temporary_folder() as folder, transaction() as session:
        target = Path(folder) / "kit.zip"
        write_kit(session, path.run_id, target)
        name = kit_name(find_run(session, path.run_id))
        return sent_and_gone(target, "application/zip", name)


@api.post("/runs/<int:run_id>/kit/files", responses={201: KitReceiptBody})
def return_file(path: RunPath, query: KitUploadQuery) -> Response:
    """Keep a render that came back, or a ZIP of them; workers find out which ones they are."""

    def keep(file: Path) -> Response:
        with transaction() as session:
            receipt = receive(session, path.run_id, file, query.name, who=caller().name, now=datetime.now(UTC))
            kept = [_file_body(kept) for kept in receipt.kept]
            refused = [RefusedBody(name=one.name, why=one.why) for one in receipt.refused]
            return answer(KitReceiptBody(kept=kept, refused=refused), 201)

    return with_body(query.name, keep)


@api.post("/kit-files/<int:file_id>/assign", responses={200: KitFileBody})
def assign_file(path: KitFilePath, body: AssignBody) -> Response:
    """Say which render a file is."""
    with transaction() as session:
        now = datetime.now(UTC)
        return answer(_file_body(assign(session, path.file_id, body.cell_id, body.take, who=caller().name, now=now)))


@api.delete("/kit-files/<int:file_id>")
def discard_file(path: KitFilePath) -> Response:
    """Forget a file that is no render of this run."""
    with transaction() as session:
        discard(session, path.file_id, who=caller().name, now=datetime.now(UTC))
    return Response(status=204)


def _kit_body(session: Session, run_id: int) -> KitBody:
    run, places, files = find_run(session, run_id), places_of(session, run_id), kit_files(session, run_id)
    matched = {(file.cell_id, file.take): file.id for file in files if file.state == "matched"}
    bodies = [_place_body(place, matched.get((place.cell.id, place.take))) for place in places]
    return KitBody(
        run_id=run_id,
        effect=run.build.effect.name,
        version=run.build.version,
        plan=run.revision.plan.name,
        missing=sum(body.file_id is None for body in bodies),
        places=bodies,
        files=[_file_body(file) for file in files],
    )


def _place_body(place: Place, file_id: int | None) -> KitPlaceBody:
    cell = place.cell
    return KitPlaceBody.model_validate(
        {
            "cell_id": cell.id,
            "take": place.take,
            "takes": cell.case.takes,
            "signal": cell.case.signal.name,
            "setting": cell.case.setting.name,
            "condition": ConditionBody.model_validate(cell.condition),
            "returned_as": place.returned_as,
            "state": cell.state,
            "verdict": cell.verdict,
            "why": cell.why,
            "file_id": file_id,
        }
    )


def _file_body(file: KitFile) -> KitFileBody:
    content = file.content
    return KitFileBody.model_validate(
        {
            "id": file.id,
            "name": file.name,
            "state": file.state,
            "why": file.why,
            "cell_id": file.cell_id,
            "candidates": file.candidates,
            "rate": content.rate,
            "channels": content.channels,
            "seconds": content.frames / content.rate,
            "received_at": file.received_at,
        }
    )
