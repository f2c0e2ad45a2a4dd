"""The record: who did what, and when."""

from datetime import date, datetime

from flask import Response
from flask_openapi3 import APIBlueprint
from pydantic import Field

from kind_echo.bench.record import EventQuery, events, known_names, link_of
from kind_echo.database.sessions import snapshot
from kind_echo.web.http.answers import answer
from kind_echo.web.http.schemas import Body
from kind_echo.wording.record import event_text

api = APIBlueprint("record", __name__, url_prefix="/api/record")


class EventBody(Body):
    """Something that somebody did; `link` is the page that shows what it was done to, or empty."""

    id: int
    at: datetime
    who: str
    what: str
    text: str
    link: str


class RecordBody(Body):
    """Events, newest first; whether there are older ones; everybody who did anything, and all that was done."""

    events: list[EventBody]
    older: bool
    who: list[str]
    what: list[str]


class AskedQuery(Body):
    """Which events: of a person, of a kind, with a text in them, from one day to another in UTC."""

    who: str = Field("", max_length=200)
    what: str = Field("", max_length=200)
    text: str = Field("", max_length=200)
    first: date | None = None
    last: date | None = None

    def asked(self) -> EventQuery:
        """The same for the bench."""
        return EventQuery(self.who, self.what, self.text, self.first, self.last)


class RecordQuery(AskedQuery):
    """A page of them: before a number, and how many."""

    before: int | None = None
    most: int = Field(100, ge=1, le=500)


@api.get("", responses={200: RecordBody})
def record(query: RecordQuery) -> Response:
    """Who did what, newest first, a page at a time."""
    with snapshot() as session:
        found = events(session, query.asked(), query.before, query.most + 1)
        who, what = known_names(session)
        bodies = [
            EventBody(
                id=one.id, at=one.at, who=one.who, what=one.what, text=event_text(one.what, one.detail),
                link=link_of(one.detail),
            )
            for one in found[: query.most]
        ]  # fmt: skip
        return answer(RecordBody(events=bodies, older=len(found) > query.most, who=who, what=what))
