"""What can be renamed or archived, by its kind and number."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any, Literal

from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.core.registry.errors import NotFound
from kind_echo.database.models import Build, Effect, Event, Host, Plan, Run, Setting

Kind = Literal["effect", "build", "setting", "host", "plan", "run"]
Named = Effect | Build | Setting | Host | Plan | Run

TABLES: Mapping[Kind, type[Any]] = {
    "effect": Effect, "build": Build, "setting": Setting, "host": Host, "plan": Plan, "run": Run,
}  # fmt: skip


class ThingNotFound(NotFound):
    """Something is to be changed that is not there."""

    def __init__(self, kind: Kind, number: int) -> None:
        self.kind, self.number = kind, number
        super().__init__(f"There is no {kind} {number}.")


def find(session: Session, kind: Kind, number: int) -> Any:
    """The thing of that number, held until the end of the transaction. Raises ThingNotFound."""
    table = TABLES[kind]
    found = session.scalar(select(table).where(table.id == number).with_for_update())
    if found is None:
        raise ThingNotFound(kind, number)
    return found


def write(session: Session, kind: Kind, number: int, what: str, who: str, now: datetime, **detail: object) -> None:
    """Put into the log of events what became of a thing."""
    session.add(Event(at=now, who=who, what=f"{kind} {what}", detail={kind: number, **detail}))
