"""Comparisons of two of a person's own files."""

from datetime import UTC, datetime

from flask import Response
from flask_openapi3 import APIBlueprint

from kind_echo.bench.comparisons import Pair
from kind_echo.bench.signals import compare_uploads, delete_pair, find_pair, latest_pairs
from kind_echo.core.comparison.pair import CompareOptions
from kind_echo.database.sessions import transaction
from kind_echo.web.http.addresses import ComparisonPath
from kind_echo.web.http.answers import answer
from kind_echo.web.http.pair_schemas import ComparisonBody, ComparisonsBody, NewComparisonBody, PairBody
from kind_echo.web.runs.views import files_pair_body
from kind_echo.web.security.doors import caller

api = APIBlueprint("comparisons", __name__, url_prefix="/api")


@api.post("/comparisons", responses={201: ComparisonBody})
def new_comparison(body: NewComparisonBody) -> Response:
    """Compare two uploaded files."""
    options = CompareOptions(body.align, body.match_gain, body.match_polarity, body.max_delay)
    with transaction() as session:
        pair = compare_uploads(session, body.reference_id, body.render_id, options, now=datetime.now(UTC))
        return answer(_comparison_body(pair), 201)


@api.get("/comparisons", responses={200: ComparisonsBody})
def comparisons() -> Response:
    """The last comparisons of files."""
    with transaction() as session:
        return answer(ComparisonsBody(comparisons=[_comparison_body(pair) for pair in latest_pairs(session)]))


@api.get("/comparisons/<int:comparison_id>", responses={200: PairBody})
def comparison(path: ComparisonPath) -> Response:
    """A comparison of two files as a pair."""
    with transaction() as session:
        return answer(files_pair_body(find_pair(session, path.comparison_id)))


@api.delete("/comparisons/<int:comparison_id>")
def remove(path: ComparisonPath) -> Response:
    """Delete a comparison, with the files in it that no other has; a keeper may delete anybody's."""
    with transaction() as session:
        delete_pair(session, path.comparison_id, caller())
    return Response(status=204)


def _comparison_body(pair: Pair) -> ComparisonBody:
    return ComparisonBody.model_validate(
        {
            "id": pair.id,
            "reference": pair.reference.name,
            "render": pair.render.name,
            "created_at": pair.created_at,
            "state": pair.state,
            "brought_by": sorted({pair.reference.brought_by, pair.render.brought_by} - {""}),
        }
    )
