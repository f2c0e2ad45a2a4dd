"""Tokens: what build servers and render machines come in by."""

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.bench.accounts.access import Scope
from kind_echo.bench.accounts.credentials import digest_of, new_secret
from kind_echo.core.registry.errors import BadParameter, NotFound
from kind_echo.database.accounts import Token
from kind_echo.database.models import Event

PREFIX = "kindecho_"
"""Begins each token, so that one that has leaked into a file can be searched for."""

MOST_DAYS = 730
_USE_SECONDS = 60.0  # how exactly the last use is kept: a token that asks all the time need not write all the time


class TokenNotFound(NotFound):
    """A token is named that was never made."""

    def __init__(self, token_id: int) -> None:
        self.token_id = token_id
        super().__init__(f"There is no token {token_id}.")


@dataclass(frozen=True)
class NewToken:
    """A token as it was made; its secret is told once and not kept."""

    token: Token
    secret: str


def all_tokens(session: Session) -> list[Token]:
    """All tokens, newest first."""
    return list(session.scalars(select(Token).order_by(Token.id.desc())))


def make_token(session: Session, name: str, scope: Scope, days: int, *, who: str, now: datetime) -> NewToken:
    """Make a token that ends by itself. Raises BadParameter."""
    name = name.strip()
    if not 0 < len(name) <= 80 or not name.isprintable():
        raise BadParameter("name", repr(name), "1 to 80 characters that can be seen")
    if not 1 <= days <= MOST_DAYS:
        raise BadParameter("days", days, f"1 to {MOST_DAYS}")
    secret = PREFIX + new_secret()
    token = Token(
        name=name, scope=scope, digest=digest_of(secret), made_at=now, made_by=who, ends_at=now + timedelta(days=days)
    )
    session.add(token)
    session.flush()
    _write(session, now, who, "token made", token)
    return NewToken(token, secret)


def revoke_token(session: Session, token_id: int, *, who: str, now: datetime) -> Token:
    """Let a token reach nothing from now on. Raises TokenNotFound."""
    token = session.get(Token, token_id)
    if token is None:
        raise TokenNotFound(token_id)
    if token.revoked_at is None:
        token.revoked_at, token.revoked_by = now, who
        _write(session, now, who, "token revoked", token)
    return token


def known_token(session: Session, secret: str, now: datetime) -> Token | None:
    """The token of that secret; None where it was never made, has ended, or was revoked."""
    token = session.scalar(select(Token).where(Token.digest == digest_of(secret)))
    if token is None or token.revoked_at is not None or token.ends_at < now:
        return None
    if token.used_at is None or (now - token.used_at).total_seconds() > _USE_SECONDS:
        token.used_at = now
    return token


def _write(session: Session, now: datetime, who: str, what: str, token: Token) -> None:
    detail = {"token": token.id, "name": token.name, "scope": token.scope}
    session.add(Event(at=now, who=who, what=what, detail=detail))
