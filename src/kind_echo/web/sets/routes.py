"""Sets of own files: made, changed, and their table as JSON and as CSV."""

import re
from datetime import UTC, datetime
from pathlib import Path
from threading import BoundedSemaphore

from flask import Response
from flask_openapi3 import APIBlueprint

from kind_echo.audio_io.temporary import temporary_folder
from kind_echo.bench.sets import (
    FileSet,
    NewFile,
    PlanNames,
    SetOptions,
    add_files,
    change_options,
    choose_columns,
    copy_set,
    delete_set,
    find_file,
    find_set,
    levelled_zip,
    list_sets,
    measure_all,
    new_set,
    options_from,
    plan_of_set,
    remove_files,
    set_csv,
    trim_of,
)
from kind_echo.core.comparison.pair import CompareOptions
from kind_echo.core.listening.match import Passage
from kind_echo.database.sessions import transaction
from kind_echo.web.http.answers import answer
from kind_echo.web.http.files import sent_and_gone
from kind_echo.web.http.pair_schemas import PairBody
from kind_echo.web.runs.views import file_body
from kind_echo.web.security.doors import caller
from kind_echo.web.sets.schemas import (
    ChangeSetBody,
    CopySetBody,
    LeftOutBody,
    LevelBody,
    LevelQuery,
    MadeSetBody,
    NewFilesBody,
    NewSetBody,
    PlannedBody,
    PlanOfSetBody,
    SetBody,
    SetFilePath,
    SetLineBody,
    SetOptionsBody,
    SetPath,
    SetsBody,
    SetsQuery,
    SomeFilesBody,
    TrimBody,
    TrimsBody,
)
from kind_echo.web.sets.views import set_body

api = APIBlueprint("sets", __name__, url_prefix="/api/sets")

_LISTED = 50
_LEVELLING = BoundedSemaphore(2)  # each reads whole files; readers are to have their turn


@api.get("", responses={200: SetsBody})
def sets(query: SetsQuery) -> Response:
    """Sets of files, newest first."""
    with transaction() as session:
        found = list_sets(session, query.before, _LISTED + 1)
        lines = [_line(one, files) for one, files in found[:_LISTED]]
        return answer(SetsBody(sets=lines, more=len(found) > _LISTED))


@api.post("", responses={201: MadeSetBody})
def make_set(body: NewSetBody) -> Response:
    """Make an empty set."""
    now = datetime.now(UTC)
    with transaction() as session:
        name = body.name.strip() or f"Files of {now:%Y-%m-%d %H:%M}"
        return answer(MadeSetBody(id=new_set(session, name, SetOptions(), who=caller().name, now=now).id), 201)


@api.get("/<int:set_id>", responses={200: SetBody})
def one_set(path: SetPath) -> Response:
    """A set with its table, as far as it is measured."""
    with transaction() as session:
        return answer(set_body(session, find_set(session, path.set_id)))


@api.post("/<int:set_id>/change", responses={200: SetBody})
def change(path: SetPath, body: ChangeSetBody) -> Response:
    """Change what a set is called, how its files are measured, or what its table shows."""
    with transaction() as session:
        found = find_set(session, path.set_id, lock=True)
        found.name = found.name if body.name is None else body.name
        found.note = found.note if body.note is None else body.note
        if body.options is not None or body.roles is not None:
            options = options_from(found.options) if body.options is None else _options(body.options)
            roles = (
                {one.id: one.role for one in found.files if one.role != "file"} if body.roles is None else body.roles
            )
            change_options(session, found, options, roles)
        if body.columns is not None or body.limits is not None:
            limits = found.limits if body.limits is None else {key: one.document for key, one in body.limits.items()}
            choose_columns(found, found.columns if body.columns is None else body.columns, limits)
        session.flush()
        return answer(set_body(session, found))


@api.post("/<int:set_id>/files", responses={200: SetBody})
def add(path: SetPath, body: NewFilesBody) -> Response:
    """Add uploaded files to a set."""
    with transaction() as session:
        found = find_set(session, path.set_id, lock=True)
        add_files(session, found, [NewFile(one.upload_id, one.folder) for one in body.files])
        return answer(set_body(session, found))


@api.get("/<int:set_id>/files/<int:file_id>", responses={200: PairBody})
def one_file(path: SetFilePath) -> Response:
    """One file of a set by itself."""
    with transaction() as session:
        return answer(file_body(find_file(find_set(session, path.set_id), path.file_id)))


@api.post("/<int:set_id>/remove", responses={200: SetBody})
def remove(path: SetPath, body: SomeFilesBody) -> Response:
    """Take files out of a set."""
    with transaction() as session:
        found = find_set(session, path.set_id, lock=True)
        remove_files(session, found, body.file_ids, caller())
        return answer(set_body(session, found))


@api.post("/<int:set_id>/again", responses={200: SetBody})
def again(path: SetPath) -> Response:
    """Measure all files of a set anew."""
    with transaction() as session:
        found = find_set(session, path.set_id, lock=True)
        measure_all(session, found)
        return answer(set_body(session, found))


@api.post("/<int:set_id>/copies", responses={201: MadeSetBody})
def copy(path: SetPath, body: CopySetBody) -> Response:
    """Make an empty set that is measured and shown in the same way."""
    with transaction() as session:
        found = find_set(session, path.set_id)
        made = copy_set(session, found, body.name, who=caller().name, now=datetime.now(UTC))
        return answer(MadeSetBody(id=made.id), 201)


@api.post("/<int:set_id>/plan", responses={201: PlannedBody})
def plan(path: SetPath, body: PlanOfSetBody) -> Response:
    """Make a plan of a set: its input the signal, its files the references of a host that people render in."""
    names = PlanNames(**{key: value.strip() for key, value in body.model_dump().items()})
    with transaction() as session:
        found = find_set(session, path.set_id, lock=True)
        made = plan_of_set(session, found, names, who=caller().name, now=datetime.now(UTC))
        left_out = [LeftOutBody(name=one.name, why=one.why) for one in made.left_out]
        planned = PlannedBody(plan_id=made.run.revision.plan_id, run_id=made.run.id, left_out=left_out)
        return answer(planned, 201)


@api.delete("/<int:set_id>")
def delete(path: SetPath) -> Response:
    """Delete a set with its files; a keeper may delete anybody's."""
    with transaction() as session:
        delete_set(session, find_set(session, path.set_id, lock=True), caller())
    return Response(status=204)


@api.get("/<int:set_id>/table.csv")
def table(path: SetPath) -> Response:
    """All readings of a set as CSV, a line a reading."""
    with transaction() as session:
        found = find_set(session, path.set_id)
        response = Response(set_csv(found), content_type="text/csv; charset=utf-8")
        response.headers.set("Content-Disposition", "attachment", filename=f"{_file_name(found)}.csv")
        return response


@api.post("/<int:set_id>/trims", responses={200: TrimBody})
def trim(path: SetPath, body: TrimsBody) -> Response:
    """How one file of a set comes to a level."""
    with _LEVELLING, transaction() as session:
        found = find_set(session, path.set_id)
        made = trim_of(session, found, body.file_id, body.target, body.by, _passage(body))
        return answer(
            TrimBody(
                measured=made.measured,
                target=made.target,
                trim=made.trim,
                error=made.error,
                peak=made.peak,
                why=made.why,
            )
        )


@api.get("/<int:set_id>/levelled.zip")
def levelled(path: SetPath, query: LevelQuery) -> Response:
    """Copies of files of a set, each brought to a level, as a ZIP."""
    numbers = list(dict.fromkeys(int(number) for number in query.files.split(",")))
    with _LEVELLING, temporary_folder() as folder, transaction() as session:
        found = find_set(session, path.set_id)
        file = Path(folder) / "levelled.zip"
        levelled_zip(session, found, numbers, query.target, query.by, _passage(query), file)
        return sent_and_gone(file, "application/zip", f"{_file_name(found)}, levelled.zip")


def _passage(asked: LevelBody | LevelQuery) -> Passage | None:
    match asked.passage:
        case "whole":
            return None
        case "given":
            return asked.start, asked.end
        case named:
            return named


def _options(body: SetOptionsBody) -> SetOptions:
    given = body.model_dump()
    compare = {key: given.pop(key) for key in ("align", "match_gain", "match_polarity", "max_delay", "ceiling")}
    return SetOptions(CompareOptions(**compare), **given)


def _line(found: FileSet, files: int) -> SetLineBody:
    return SetLineBody(
        id=found.id,
        name=found.name,
        note=found.note,
        brought_by=found.brought_by,
        created_at=found.created_at,
        files=files,
    )


def _file_name(found: FileSet) -> str:
    return re.sub(r"[^\w ,.−-]+", "-", found.name).strip(" .") or "files"
