"""One attempt to send a notice, and when the next one is made."""

import json
from datetime import datetime, timedelta

from sqlalchemy.orm import Session

from kind_echo.bench.notices.mail import send_mail
from kind_echo.bench.notices.webhooks import GONE, Answer, post
from kind_echo.bench.queue import deliver_notices
from kind_echo.database.models import Notice
from kind_echo.database.sessions import transaction

_PAUSES = (5, 300, 1800, 7200, 18_000, 36_000, 50_400, 72_000, 86_400)
"""Seconds between attempts: the example of the Standard Webhooks specification, three days in all."""

_MOST_ANSWER = 500  # letters of an answer that are kept


def send(notice_id: int, now: datetime) -> None:
    """Try a notice that waits, and keep what came back; the same notice may arrive twice, under one number.

    No transaction is open while the other side takes its time.
    """
    with transaction() as session:
        notice = session.get(Notice, notice_id)
        if notice is None or notice.state != "waiting":
            return
        target = notice.target
        if target.paused_at is not None:
            notice.state, notice.answer = "failed", "Nothing was sent: this address is paused."
            return
        session.expunge_all()
    answer = _attempt(notice, now)
    with transaction() as session:
        kept = session.get(Notice, notice_id, with_for_update=True)
        if kept is not None and kept.state == "waiting":
            _keep(session, kept, answer, now)


def _attempt(notice: Notice, now: datetime) -> Answer:
    target = notice.target
    if target.kind == "email":
        return send_mail(target.address, notice.number, notice.subject, notice.lines, now)
    data = {"subject": notice.subject, **notice.data}
    told = {"type": notice.topic, "timestamp": notice.made_at.isoformat(), "data": data}
    body = json.dumps(told, ensure_ascii=False, allow_nan=False)
    return post(target.address, target.secret, notice.number, body, now)


def _keep(session: Session, notice: Notice, answer: Answer, now: datetime) -> None:
    # PostgreSQL keeps no zero character, and what answers may send one.
    text = " ".join(answer.text.replace("\x00", " ").split())[:_MOST_ANSWER]
    notice.answer = f"{answer.status} {text}".strip() if answer.status is not None else text
    notice.attempts, notice.tried_at, notice.next_at = notice.attempts + 1, now, None
    if answer.taken:
        notice.state = "sent"
    elif answer.status == GONE:
        notice.state = "failed"
        notice.target.paused_at, notice.target.paused_by = now, "the address itself, which says that it is gone"
    elif notice.attempts > len(_PAUSES):
        notice.state = "failed"
    else:
        notice.next_at = now + timedelta(seconds=_PAUSES[notice.attempts - 1])
        deliver_notices(session, [notice.id], at=notice.next_at)
