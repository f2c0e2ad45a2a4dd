"""Bodies as responses."""

from flask import Response

from kind_echo.web.http.schemas import Body


def answer(body: Body, status: int = 200) -> Response:
    """A body as a JSON response."""
    return Response(body.model_dump_json(), status, content_type="application/json")
