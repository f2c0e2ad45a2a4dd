"""The rule that administrators set: how long audio is kept, and how much space it may take."""

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from kind_echo.core.registry.errors import BadParameter, KindEchoError, Unavailable
from kind_echo.database.models import Content, Event, StorageRule

GIGABYTE = 10**9
_MOST_GIGABYTES = 1e6
_MOST_RUNS = 10_000


class QuotaReached(KindEchoError):
    """A file would take somebody's files beyond what one person's may take."""

    def __init__(self, name: str, held: int, quota: int) -> None:
        self.name, self.held, self.quota = name, held, quota
        super().__init__(
            f"The files of {name} take {held / GIGABYTE:.2f} GB, and {quota / GIGABYTE:g} GB is the most for one "
            "person; nothing was kept. Delete comparisons that are not needed any more, or ask an administrator for "
            "more."
        )


class StorageFull(Unavailable):
    """All audio together takes as much as administrators allow; it may be sent again when there is space."""

    def __init__(self, quota: int) -> None:
        self.quota = quota
        super().__init__(
            f"All audio together takes the {quota / GIGABYTE:g} GB that administrators allow; nothing was kept. "
            "It goes on when an administrator allows more, or drops older audio; the space of what was deleted is free "
            "within two hours."
        )


@dataclass(frozen=True)
class Rule:
    """How long audio is kept, and how much there may be; None where nothing is limited.

    Attributes:
        keep_runs: newest runs of each plan that keep the audio of renders that pass.
        person_bytes: that one person's files may take.
        all_bytes: that all audio may take.
    """

    keep_runs: int | None = None
    person_bytes: int | None = None
    all_bytes: int | None = None
    changed_by: str = ""
    changed_at: datetime | None = None


def current_rule(session: Session) -> Rule:
    """The rule in force; one without limits where nobody has set one."""
    kept = session.get_one(StorageRule, 1)
    return Rule(kept.keep_runs, kept.person_bytes, kept.all_bytes, kept.changed_by, kept.changed_at)


def set_rule(
    session: Session,
    keep_runs: int | None,
    person_gigabytes: float | None,
    all_gigabytes: float | None,
    *,
    who: str,
    now: datetime,
) -> Rule:
    """Set the rule; None for no limit. Raises BadParameter."""
    if keep_runs is not None and not 1 <= keep_runs <= _MOST_RUNS:
        raise BadParameter("keep_runs", keep_runs, f"from 1 to {_MOST_RUNS}, or empty")
    sizes = []
    for name, gigabytes in (("person_gigabytes", person_gigabytes), ("all_gigabytes", all_gigabytes)):
        if gigabytes is not None and not 0.001 <= gigabytes <= _MOST_GIGABYTES:
            raise BadParameter(name, gigabytes, f"from 0.001 to {_MOST_GIGABYTES:.0f}, or empty")
        sizes.append(None if gigabytes is None else round(gigabytes * GIGABYTE))
    rule = session.get_one(StorageRule, 1, with_for_update=True)
    rule.keep_runs, rule.person_bytes, rule.all_bytes = keep_runs, sizes[0], sizes[1]
    rule.changed_by, rule.changed_at = who, now
    limits = {"keep_runs": keep_runs, "person_gigabytes": person_gigabytes, "all_gigabytes": all_gigabytes}
    session.add(Event(at=now, who=who, what="set the rule for storage", detail=limits))
    session.flush()
    return current_rule(session)


def check_space(session: Session, brought_by: str = "") -> None:
    """What one more piece of audio has to pass before and after it is kept; who brings it, where somebody does.

    Raises:
        QuotaReached, StorageFull: there is more than the rule allows.
    """
    rule = current_rule(session)
    if rule.person_bytes is not None and brought_by:
        held = held_by(session, brought_by)
        if held > rule.person_bytes:
            raise QuotaReached(brought_by, held, rule.person_bytes)
    if rule.all_bytes is not None and held_in_all(session) > rule.all_bytes:
        raise StorageFull(rule.all_bytes)


def held_by(session: Session, who: str) -> int:
    """Bytes of all audio that somebody brought, without what has been deleted and is about to go."""
    theirs = Content.brought_by == who, Content.unused_since.is_(None)
    return int(session.scalar(select(func.coalesce(func.sum(Content.bytes), 0)).where(*theirs)) or 0)


def held_in_all(session: Session) -> int:
    """Bytes of all audio."""
    return int(session.scalar(select(func.coalesce(func.sum(Content.bytes), 0))) or 0)
