"""Files of a person's own."""

from datetime import UTC, datetime
from pathlib import Path

from flask import Response
from flask_openapi3 import APIBlueprint

from kind_echo.bench.signals import keep_upload
from kind_echo.database.sessions import transaction
from kind_echo.web.http.addresses import UploadQuery
from kind_echo.web.http.answers import answer
from kind_echo.web.http.files import with_body
from kind_echo.web.http.pair_schemas import UploadBody
from kind_echo.web.runs.views import upload_body
from kind_echo.web.security.doors import caller

api = APIBlueprint("uploads", __name__, url_prefix="/api")


@api.post("/uploads", responses={201: UploadBody})
def new_upload(query: UploadQuery) -> Response:
    """Keep a file; the request's body is the file, as it is. One that breaks off on its way leaves nothing behind."""

    def keep(path: Path) -> Response:
        with transaction() as session:
            return answer(
                upload_body(keep_upload(session, path, query.name, who=caller().name, now=datetime.now(UTC))), 201
            )

    return with_body(query.name, keep)
