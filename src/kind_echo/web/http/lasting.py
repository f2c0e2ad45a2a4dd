"""Answers that are the same for all who ask until something changes, and that are sent once to who has them."""

import hashlib
from collections.abc import Callable, Hashable

from flask import Response, request

from kind_echo.web.http.cache import Answer, AnswerCache, writes
from kind_echo.web.http.scope import REVISION, server_scope


def known_or_made(
    answers: AnswerCache[Answer], key: tuple[Hashable, ...], run_id: int | None, make: Callable[[], Answer]
) -> Answer:
    """An answer that is the same for all who ask, until the run, or any run for None, changes."""
    # Taken before the look at the database: what changes between the two makes another revision. What was written
    # through this server counts by itself, for its change may be heard of a moment later.
    written, revision = writes.count, server_scope().get(REVISION, lambda _: None)(run_id)
    return make() if revision is None else answers.get((*key, written, revision), make)


def conditional(made: bytes, tag: str | None = None) -> Response:
    """JSON for who does not have it yet, by its tag."""
    response = Response(made, content_type="application/json")
    response.headers["Cache-Control"] = "private, no-cache"
    response.set_etag(tag or hashlib.sha256(made).hexdigest()[:32], weak=True)
    response.make_conditional(request)
    return response
