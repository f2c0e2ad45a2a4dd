"""Acts as they are sent, and the address that notices of them lead to."""

from flask import request
from sqlalchemy.orm import Session

from kind_echo.bench.decisions import Act, count_made
from kind_echo.web.decisions.schemas import ActBody


def act_body(session: Session, act: Act) -> ActBody:
    """An act, with how many cells it decided on or made references."""
    return ActBody(id=act.id, kind=act.kind, who=act.who, at=act.at, why=act.why, cells=count_made(session, act.id))


def page_root() -> str:
    """The address of the page that is asked, without a slash at its end."""
    return request.url_root.rstrip("/")
