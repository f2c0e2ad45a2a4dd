"""Changes to what is under test, in the name of whoever asks for them."""

from datetime import UTC, datetime

from sqlalchemy.orm import Session

from kind_echo.bench import upkeep
from kind_echo.web.http.schemas import ChangeThingBody
from kind_echo.web.security.doors import caller


def change_thing(session: Session, kind: upkeep.Kind, number: int, body: ChangeThingBody) -> None:
    """Rename something, archive it, or bring it back, as far as the body says. Raises what `bench.upkeep` raises."""
    who, now = caller().name, datetime.now(UTC)
    upkeep.find(session, kind, number)
    if body.name is not None:
        upkeep.rename(session, kind, number, body.name, who=who, now=now)
    if body.archived is not None:
        upkeep.archive(session, kind, number, archived=body.archived, who=who, now=now)
