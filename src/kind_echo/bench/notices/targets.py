"""Where notices go: addresses that administrators give."""

import base64
import re
import secrets
from collections.abc import Sequence
from datetime import datetime
from typing import Literal, get_args
from urllib.parse import urlsplit

from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.bench.notices.webhooks import check_address
from kind_echo.core.registry.errors import BadParameter, Conflict, NotFound
from kind_echo.database.models import Event, NoticeTarget
from kind_echo.database.states import TargetKind

Topic = Literal["run.finished", "run.needs_review", "decision.made", "waiver.ending"]
"""What can be told of."""

TOPICS: tuple[Topic, ...] = get_args(Topic)
MOST_TARGETS = 50

_PREFIX = "whsec_"  # of a secret, as Standard Webhooks writes it
_SECRET_BYTES = 32
_MAIL = re.compile(r"[^\s@<>,;:\"\\]{1,64}@[A-Za-z0-9](?:[A-Za-z0-9.-]{0,251}[A-Za-z0-9])?")


class TargetNotFound(NotFound):
    """A target is named that is not there."""

    def __init__(self, target_id: int) -> None:
        self.target_id = target_id
        super().__init__(f"There is no address {target_id} that notices go to.")


class TooManyTargets(Conflict):
    """There are as many targets as there may be."""

    def __init__(self) -> None:
        super().__init__(f"Notices go to {MOST_TARGETS} addresses already; remove one first.")


def all_targets(session: Session) -> list[NoticeTarget]:
    """All of them, oldest first."""
    return list(session.scalars(select(NoticeTarget).order_by(NoticeTarget.id)))


def find_target(session: Session, target_id: int) -> NoticeTarget:
    """A target by its number. Raises TargetNotFound."""
    found = session.get(NoticeTarget, target_id)
    if found is None:
        raise TargetNotFound(target_id)
    return found


def add_target(
    session: Session, kind: TargetKind, address: str, topics: Sequence[Topic], *, who: str, now: datetime
) -> NoticeTarget:
    """Add an address; a webhook gets a secret that its notices are signed with, which is told to who adds it.

    Raises:
        BadParameter: the address is none, or nothing is to be told.
        TooManyTargets: there are enough.
    """
    address = address.strip()
    if kind == "webhook":
        check_address(address)
    elif not _MAIL.fullmatch(address):
        raise BadParameter("address", address, "one address for mail, as name@example.org")
    if len(all_targets(session)) >= MOST_TARGETS:
        raise TooManyTargets
    secret = _PREFIX + base64.b64encode(secrets.token_bytes(_SECRET_BYTES)).decode() if kind == "webhook" else ""
    target = NoticeTarget(kind=kind, address=address, topics=_known(topics), secret=secret, made_by=who, made_at=now)
    session.add(target)
    session.flush()
    _write(session, "notices begun", target, who, now)
    return target


def change_target(
    session: Session,
    target_id: int,
    *,
    who: str,
    now: datetime,
    topics: Sequence[Topic] | None = None,
    paused: bool | None = None,
) -> NoticeTarget:
    """Choose what a target is told, or pause it. Raises TargetNotFound, BadParameter."""
    target = find_target(session, target_id)
    if topics is not None:
        target.topics = _known(topics)
        _write(session, "notices changed", target, who, now)
    if paused is not None and paused != (target.paused_at is not None):
        target.paused_at, target.paused_by = (now, who) if paused else (None, None)
        _write(session, "notices paused" if paused else "notices resumed", target, who, now)
    return target


def remove_target(session: Session, target_id: int, *, who: str, now: datetime) -> None:
    """Tell an address nothing more; what was sent to it is forgotten. Raises TargetNotFound."""
    target = find_target(session, target_id)
    _write(session, "notices ended", target, who, now)
    session.delete(target)


def place_of(target: NoticeTarget) -> str:
    """A target as anybody may see it: of a webhook its host alone, for its path may be as good as a password."""
    return target.address if target.kind == "email" else urlsplit(target.address).hostname or ""


def _known(topics: Sequence[Topic]) -> list[str]:
    if not topics:
        raise BadParameter("topics", "none", f"at least one of {', '.join(TOPICS)}")
    return [topic for topic in TOPICS if topic in topics]


def _write(session: Session, what: str, target: NoticeTarget, who: str, now: datetime) -> None:
    detail = {"target": target.id, "to": place_of(target), "topics": target.topics}
    session.add(Event(at=now, who=who, what=what, detail=detail))
