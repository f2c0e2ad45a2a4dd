"""Runs, their sheets, and their changes as they happen."""

from datetime import UTC, datetime
from pathlib import Path
from threading import BoundedSemaphore

from flask import Response
from flask_openapi3 import APIBlueprint
from sqlalchemy.orm import Session

from kind_echo.audio_io.temporary import temporary_folder
from kind_echo.bench import upkeep
from kind_echo.bench.decisions import undecided
from kind_echo.bench.evidence import evidence_name, write_evidence
from kind_echo.bench.runs import (
    Run,
    effects_that_ran,
    find_alike,
    find_run,
    list_runs,
    put_first,
    resume_run,
    runs_before,
    start_run,
    stop_run,
    summary_of,
)
from kind_echo.bench.sheets import compare_missing, parse_against, pictures_of
from kind_echo.core.registry.measures import find_measure
from kind_echo.database.sessions import snapshot, transaction
from kind_echo.web.http.addresses import RunPath
from kind_echo.web.http.answers import answer
from kind_echo.web.http.cache import AnswerCache
from kind_echo.web.http.files import sent_and_gone
from kind_echo.web.http.lasting import conditional, known_or_made
from kind_echo.web.http.scope import ADMITTED, server_scope
from kind_echo.web.runs.schemas import (
    AcrossBody,
    ComparingBody,
    EvidenceQuery,
    NewRunBody,
    PicturesBody,
    RunBody,
    RunChangeBody,
    RunsBody,
    RunsQuery,
    SheetBody,
    SheetQuery,
    StartedRunBody,
)
from kind_echo.web.runs.sheet_answer import SheetAnswer, SheetsSent
from kind_echo.web.runs.sheet_views import sheet_answer
from kind_echo.web.runs.views import run_body
from kind_echo.web.security.doors import caller, still_admitted

api = APIBlueprint("runs", __name__, url_prefix="/api")

# By revision; for seconds alone, for what holds a run up changes by itself.
_sheets: AnswerCache[SheetAnswer] = AnswerCache(most_bytes=64 << 20, seconds=2.0)
_lists: AnswerCache[bytes] = AnswerCache(most_bytes=16 << 20, seconds=2.0)
_sent = SheetsSent()
_BUNDLING = BoundedSemaphore(1)  # one packs thousands of files at a time: readers are to have their turn


@api.get("/runs", responses={200: RunsBody})
def runs(query: RunsQuery) -> Response:
    """Runs, newest first, a page at a time."""

    def make() -> bytes:
        with snapshot() as session:
            found = list_runs(session, query.effect, query.before, query.most + 1, query.text, query.archived)
            page = found[: query.most]
            waiting = undecided(session, datetime.now(UTC).date(), [one.run.id for one in page])
            earlier = runs_before(session, [one.run for one in page])
            bodies = [run_body(one, waiting.get(one.run.id, 0), earlier.get(one.run.id)) for one in page]
            older = len(found) > len(page)
            body = RunsBody(runs=bodies, older=older, effects=effects_that_ran(session))
            return body.model_dump_json().encode()

    key = ("runs", query.effect, query.text, query.before, query.most, query.archived)
    return conditional(known_or_made(_lists, key, None, make))


@api.post("/runs", responses={200: StartedRunBody, 201: StartedRunBody})
def new_run(body: NewRunBody) -> Response:
    """Start a run of a plan on a build, or join one that is there."""
    who, now, artefact = caller().name, datetime.now(UTC), body.artefact
    with transaction() as session:
        there = None
        if body.join:
            there = find_alike(session, body.plan_id, body.build_id, render=body.render, artefact=artefact)
        run = there or start_run(
            session, body.plan_id, body.build_id, who=who, now=now, render=body.render, artefact=artefact
        )
        told = StartedRunBody(**_run_body(session, run).model_dump(), joined=there is not None)
        return answer(told, 201 if there is None else 200)


@api.get("/runs/<int:run_id>", responses={200: SheetBody})
def sheet(path: RunPath, query: SheetQuery) -> Response:
    """A run as a sheet, with a measure as its figures."""
    if query.measure:
        find_measure(query.measure)

    def make() -> SheetAnswer:
        with snapshot() as session:
            return sheet_answer(session, find_run(session, path.run_id), query.measure, query.against)

    made = known_or_made(_sheets, (path.run_id, query.measure, query.against), path.run_id, make)
    _sent.remember(made)
    earlier = _sent.find(query.since) if query.since else None
    return conditional(made.json(earlier), made.tag(earlier))


@api.get("/runs/<int:run_id>/pictures", responses={200: PicturesBody})
def pictures(path: RunPath) -> Response:
    """Small pictures of the differences of a run that has few cells."""

    def make() -> bytes:
        with snapshot() as session:
            body = PicturesBody(levels=pictures_of(session, find_run(session, path.run_id)))
            return body.model_dump_json().encode()

    return conditional(known_or_made(_lists, ("pictures", path.run_id), path.run_id, make))


@api.post("/runs/<int:run_id>/across", responses={202: ComparingBody})
def compare_across(path: RunPath, body: AcrossBody) -> Response:
    """Compare the pairs of a run and another build, host or mode that nobody has compared yet."""
    with transaction() as session:
        run = find_run(session, path.run_id)
        return answer(ComparingBody(pairs=compare_missing(session, run, parse_against(session, body.against))), 202)


@api.post("/runs/<int:run_id>/change", responses={200: RunBody})
def change_run(path: RunPath, body: RunChangeBody) -> Response:
    """Stop a run, go on with it, let it be rendered before all others, archive it, or bring it back."""
    who, now = caller().name, datetime.now(UTC)
    with transaction() as session:
        match body.change:
            case "stop":
                stop_run(session, path.run_id, who=who, now=now)
            case "resume":
                resume_run(session, path.run_id, who=who, now=now)
            case "put first":
                put_first(session, path.run_id, who=who, now=now)
            case change:
                upkeep.archive(session, "run", path.run_id, archived=change == "archive", who=who, now=now)
        return answer(_run_body(session, find_run(session, path.run_id)))


@api.delete("/runs/<int:run_id>")
def delete_run(path: RunPath) -> Response:
    """Delete a run that nothing stands on."""
    with transaction() as session:
        upkeep.delete_run(session, path.run_id, who=caller().name, now=datetime.now(UTC))
    return Response(status=204)


@api.get("/runs/<int:run_id>/evidence.zip")
def evidence(path: RunPath, query: EvidenceQuery) -> Response:
    """A run as a bundle: readings, decisions, logs, the plan, and audio; `kind-echo verify` computes it again."""
    with _BUNDLING, temporary_folder() as folder, snapshot() as session:
        run, target = find_run(session, path.run_id), Path(folder) / "evidence.zip"
        write_evidence(session, run, target, datetime.now(UTC), query.audio)
        return sent_and_gone(target, "application/zip", evidence_name(run))


@api.get("/runs/<int:run_id>/events")
def events(path: RunPath) -> Response:
    """Server-sent events: one named `change` whenever cells of the run changed.

    The head alone is answered here. The server that stands before this application goes on with it; behind another one
    the stream ends, and the browser asks again after two seconds.
    """
    with transaction() as session:
        find_run(session, path.run_id)
    server_scope()[ADMITTED] = still_admitted()
    headers = {"Cache-Control": "no-store", "X-Accel-Buffering": "no"}
    return Response("retry: 2000\n\n", content_type="text/event-stream", headers=headers)


def _run_body(session: Session, run: Run) -> RunBody:
    waiting = undecided(session, datetime.now(UTC).date(), [run.id])
    return run_body(summary_of(session, run), waiting.get(run.id, 0))
