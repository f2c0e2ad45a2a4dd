"""Listening: sides for open listening, tests, sittings, results and notes."""

from datetime import UTC, datetime
from threading import BoundedSemaphore

from flask import Response
from flask_openapi3 import APIBlueprint
from pydantic import TypeAdapter, ValidationError

from kind_echo.bench import listening
from kind_echo.bench.listening import ListeningRequest, Method, Part
from kind_echo.bench.runs import find_run
from kind_echo.core.registry.errors import BadParameter
from kind_echo.database.sessions import transaction
from kind_echo.web.http.addresses import RunPath
from kind_echo.web.http.answers import answer
from kind_echo.web.listening.schemas import (
    AnswerBody,
    AskedBody,
    ClipQuery,
    HeardPath,
    ListeningBody,
    MadeTestBody,
    NewNoteBody,
    NewTestBody,
    NoteBody,
    NotePath,
    NotesBody,
    NotesQuery,
    OutlookBody,
    OutlookQuery,
    PartBody,
    ResultsBody,
    RunHeardBody,
    SittingBody,
    SittingPath,
    TestBody,
    TestPath,
    TestsBody,
    TestsQuery,
    WordsBody,
)
from kind_echo.web.listening.views import (
    listening_body,
    results_body,
    results_csv,
    run_heard_body,
    sitting_body,
    test_body,
    test_line_body,
)
from kind_echo.web.security.doors import caller

api = APIBlueprint("listening", __name__, url_prefix="/api/listening")

_LISTED = 50
_READING = BoundedSemaphore(2)  # each reads whole files; others are to have their turn
_FOREVER = "private, max-age=31536000, immutable"
_parts = TypeAdapter(list[PartBody])


@api.post("/sides", responses={200: ListeningBody})
def sides(body: AskedBody) -> Response:
    """Line sides up, choose a passage, and bring all to one level over it."""
    with _READING, transaction() as session:
        return answer(listening_body(listening.prepare(session, _specs(body), _asked(body))))


@api.get("/clip")
def clip(query: ClipQuery) -> Response:
    """A passage of a side as a loop: 32 bit float, little-endian, channels interleaved; no gain is in it."""
    try:
        parts = [Part(**part.model_dump()) for part in _parts.validate_json(query.parts)]
    except ValidationError as error:
        raise BadParameter("parts", query.parts[:100], "those of a side, as JSON") from error
    if not 1 <= len(parts) <= 2:
        raise BadParameter("parts", len(parts), "one, or two of a difference")
    band = None if query.low is None or query.high is None else (query.low, query.high)
    with _READING, transaction() as session:
        samples = listening.clip_of(session, parts, query.rate, query.channels, query.start, query.stop, band)
    response = _samples(samples.astype("<f4").tobytes())
    response.headers["Cache-Control"] = _FOREVER
    return response


@api.get("/outlook", responses={200: OutlookBody})
def outlook(query: OutlookQuery) -> Response:
    """What a number of trials can show, before anybody sits down."""
    return answer(OutlookBody(words=listening.outlook(query.trials, query.heard)))


@api.get("/tests", responses={200: TestsBody})
def tests(query: TestsQuery) -> Response:
    """Tests, newest first."""
    with transaction() as session:
        found = listening.list_tests(session, query.before, _LISTED + 1)
        lines = [test_line_body(*one) for one in found[:_LISTED]]
        return answer(TestsBody(tests=lines, more=len(found) > _LISTED))


@api.post("/tests", responses={201: MadeTestBody})
def make_test(body: NewTestBody) -> Response:
    """Make a test of sides; its clips are made now, and stay whatever becomes of the sides."""
    method = Method(body.kind, body.trials, body.heard, body.false_alarm, body.miss, body.scale, body.sittings)
    with _READING, transaction() as session:
        test = listening.new_test(
            session,
            _specs(body.asked),
            _asked(body.asked),
            method,
            name=body.name,
            note=body.note,
            subject=body.subject,
            until=body.until,
            who=caller().name,
            now=datetime.now(UTC),
        )
        return answer(MadeTestBody(id=test.id), 201)


@api.get("/tests/<int:test_id>", responses={200: TestBody})
def one_test(path: TestPath) -> Response:
    """A test, and whether I am in the middle of a sitting."""
    with transaction() as session:
        found = listening.find_test(session, path.test_id)
        return answer(test_body(session, found, caller().name, datetime.now(UTC)))


@api.delete("/tests/<int:test_id>")
def delete_test(path: TestPath) -> Response:
    """Delete a test of one's own with its sittings; a keeper may delete anybody's."""
    with transaction() as session:
        listening.delete_test(session, path.test_id, caller(), datetime.now(UTC))
    return Response(status=204)


@api.get("/tests/<int:test_id>/results", responses={200: ResultsBody})
def results(path: TestPath) -> Response:
    """What a test came to; not before the day until which that is hidden from everybody."""
    with transaction() as session:
        found = listening.find_test(session, path.test_id)
        return answer(results_body(listening.results_of(session, found, datetime.now(UTC))))


@api.get("/tests/<int:test_id>/results.csv")
def results_as_csv(path: TestPath) -> Response:
    """Every trial of a test as CSV."""
    with transaction() as session:
        found = listening.find_test(session, path.test_id)
        text = results_csv(listening.results_of(session, found, datetime.now(UTC)))
    response = Response(text, content_type="text/csv; charset=utf-8")
    response.headers.set("Content-Disposition", "attachment", filename=f"listening-test-{path.test_id}.csv")
    return response


@api.post("/tests/<int:test_id>/sittings", responses={200: SittingBody})
def sit_down(path: TestPath) -> Response:
    """Sit down to a test, or go on with the sitting that is under way."""
    with transaction() as session:
        made = listening.begin(session, path.test_id, who=caller().name, now=datetime.now(UTC))
        return answer(sitting_body(session, listening.find_sitting(session, made.id, caller().name)))


@api.get("/sittings/<int:sitting_id>", responses={200: SittingBody})
def one_sitting(path: SittingPath) -> Response:
    """A sitting of mine."""
    with transaction() as session:
        return answer(sitting_body(session, listening.find_sitting(session, path.sitting_id, caller().name)))


@api.post("/sittings/<int:sitting_id>/answers", responses={200: SittingBody})
def give_answer(path: SittingPath, body: AnswerBody) -> Response:
    """Answer the trial under way; the same answer that comes twice counts once."""
    given = {"choice": body.choice} if body.grades is None else {"grades": body.grades, "notes": body.notes}
    with transaction() as session:
        sitting = listening.find_sitting(session, path.sitting_id, caller().name, lock=True)
        now = datetime.now(UTC)
        listening.answer_trial(
            session, sitting, body.number, given, switches=body.switches, seconds=body.seconds, now=now
        )
        session.flush()
        session.expire_all()
        return answer(sitting_body(session, listening.find_sitting(session, path.sitting_id, caller().name)))


@api.post("/sittings/<int:sitting_id>/break-off", responses={200: SittingBody})
def break_off(path: SittingPath) -> Response:
    """End a sitting before its time; it is shown, and counts for nothing."""
    with transaction() as session:
        sitting = listening.find_sitting(session, path.sitting_id, caller().name, lock=True)
        listening.break_off(session, sitting, datetime.now(UTC))
        session.flush()
        return answer(sitting_body(session, sitting))


@api.get("/heard/<string:secret>")
def heard(path: HeardPath) -> Response:
    """A clip of a trial of mine: nothing about it tells which side it is."""
    with transaction() as session:
        response = _samples(listening.clip_bytes(session, path.secret, caller().name))
    response.headers["Cache-Control"] = "no-store"
    return response


@api.get("/notes", responses={200: NotesBody})
def notes(query: NotesQuery) -> Response:
    """What was noted on a page, the tests that were made there, and the words of the house."""
    with transaction() as session:
        found = [NoteBody.model_validate(note) for note in listening.notes_on(session, query.subject)]
        made = listening.list_tests(session, count=_LISTED, subjects=[query.subject])
        tests = [test_line_body(*one) for one in made]
        return answer(NotesBody(notes=found, tests=tests, words=listening.words(session)))


@api.get("/runs/<int:run_id>", responses={200: RunHeardBody})
def run_heard(path: RunPath) -> Response:
    """What was heard of a run and its cells, for its report."""
    with transaction() as session:
        run = find_run(session, path.run_id)
        return answer(run_heard_body(listening.heard_of_run(session, run, datetime.now(UTC))))


@api.post("/notes", responses={201: NoteBody})
def add_note(body: NewNoteBody) -> Response:
    """Keep what was heard."""
    with transaction() as session:
        note = listening.add_note(
            session, body.subject, body.side, body.second, body.text, who=caller().name, now=datetime.now(UTC)
        )
        return answer(NoteBody.model_validate(note), 201)


@api.delete("/notes/<int:note_id>")
def delete_note(path: NotePath) -> Response:
    """Delete a note of one's own; a keeper may delete anybody's."""
    with transaction() as session:
        listening.delete_note(session, path.note_id, caller())
    return Response(status=204)


@api.post("/words", responses={200: WordsBody})
def change_words(body: WordsBody) -> Response:
    """Make the words of the house these."""
    with transaction() as session:
        return answer(WordsBody(words=listening.change_words(session, body.words)))


def _specs(body: AskedBody) -> list[tuple[str, str]]:
    return [(side.spec, side.name) for side in body.sides]


def _asked(body: AskedBody) -> ListeningRequest:
    if (body.low is None) != (body.high is None):
        raise BadParameter("band", f"{body.low} to {body.high}", "two frequencies or none")
    band = None if body.low is None or body.high is None else (body.low, body.high)
    if body.passage is not None:
        return ListeningRequest(body.align, body.by, body.passage, band, body.snap)
    if body.start is None or body.end is None:
        raise BadParameter("passage", "none", "one that is found, or a start and an end")
    return ListeningRequest(body.align, body.by, (body.start, body.end), band, body.snap)


def _samples(data: bytes) -> Response:
    return Response(data, content_type="application/octet-stream")
