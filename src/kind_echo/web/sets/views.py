"""From a set of files to the table that is sent."""

from dataclasses import asdict

from sqlalchemy.orm import Session

from kind_echo.bench.documents import limit_from, reading_from
from kind_echo.bench.sets import FileSet, SetFile, changes, chosen_columns, options_from
from kind_echo.core.registry.limits import judge
from kind_echo.core.registry.measures import MEASURES
from kind_echo.web.http.schemas import LimitBody
from kind_echo.web.runs.views import finite
from kind_echo.web.sets.schemas import SetBody, SetFileBody, SetOptionsBody, SetReadingBody


def set_body(session: Session, found: FileSet) -> SetBody:
    """A set with its table."""
    options = options_from(found.options)
    own = asdict(options)
    own |= own.pop("compare")
    columns = chosen_columns(session, found)
    limits = {key: limit_from(document) for key, document in found.limits.items()}
    above = changes(found)
    keys = {document["measure"] for one in found.files for document in one.readings}
    shown = {*columns, *limits, "sample_peak"}

    def row(one: SetFile) -> SetFileBody:
        content = one.upload.content
        readings = {}
        for document in one.readings:
            key = document["measure"]
            if key not in shown:
                continue
            reading = reading_from(document)
            limit = limits.get(key)
            readings[key] = SetReadingBody(
                value=reading.value,
                change=above.get(one.id, {}).get(key),
                at_most=finite(reading.at_most),
                why=reading.why,
                reason=reading.reason,
                judgement=None if limit is None else judge(reading, limit),
            )
        return SetFileBody(
            id=one.id,
            upload_id=one.upload_id,
            name=one.upload.name,
            folder=one.folder,
            role=one.role,
            state=one.state,
            why=one.why,
            rate=content.rate,
            channels=content.channels,
            frames=content.frames,
            subtype=one.upload.subtype,
            address=content.sha256,
            comparison_id=one.pair_id,
            readings=readings,
        )

    return SetBody(
        id=found.id,
        name=found.name,
        note=found.note,
        brought_by=found.brought_by,
        created_at=found.created_at,
        options=SetOptionsBody(**own),
        columns=columns,
        chosen=bool(found.columns),
        measured=[key for key in MEASURES if key in keys],
        limits={key: LimitBody(**document) for key, document in found.limits.items()},
        files=[row(one) for one in found.files],
    )
