"""Bodies of people, of ways in, and of tokens."""

from datetime import datetime
from typing import Annotated

from pydantic import Field

from kind_echo.bench.accounts import Role, Scope
from kind_echo.web.http.schemas import Body, RequestModel, ShownName

_NAME = Field(min_length=1, max_length=80)
_SECRET = Field(min_length=1, max_length=2000)


class PersonBody(Body):
    """Somebody with an account."""

    id: int
    name: str
    role: Role
    has_password: bool
    made_at: datetime
    made_by: str
    signed_in_at: datetime | None
    disabled_at: datetime | None


class PeopleBody(Body):
    """Everybody, by name."""

    people: list[PersonBody]


class MeBody(Body):
    """Who asks; `forgery_token` is to be sent back with each change, in the header X-CSRFToken.

    `roles` is their role and all that reach less far.
    """

    forgery_token: str
    id: int | None
    name: str | None
    role: Role | None
    roles: list[Role]


class SignInBody(Body):
    """A name and its password."""

    name: str = _NAME
    password: str = _SECRET


class LinkBody(Body):
    """The secret of a link that lets somebody in."""

    secret: str = _SECRET


class OpenedLinkBody(Body):
    """Whose link it is, and whether they choose a password by it."""

    name: str
    sets_password: bool


class UseLinkBody(LinkBody):
    """The secret of a link, and the password that is chosen by it."""

    password: str | None = Field(default=None, max_length=2000)


class PasswordBody(Body):
    """The password that a person has, and the one that they want."""

    old: str = _SECRET
    new: str = _SECRET


class NewPersonBody(Body):
    """An account to make."""

    name: str = _NAME
    role: Role


class InvitedBody(Body):
    """A person, and the path of the page that lets them in, once; it is told this one time."""

    person: PersonBody
    link: str


class PersonChangeBody(Body):
    """What is to be another; null for what stays."""

    role: Role | None = None
    disabled: bool | None = None


class PersonPath(RequestModel):
    """Which person."""

    person_id: int


class TokenBody(Body):
    """What a program comes in by."""

    id: int
    name: str
    scope: Scope
    made_at: datetime
    made_by: str
    ends_at: datetime
    used_at: datetime | None
    revoked_at: datetime | None
    revoked_by: str | None


class TokensBody(Body):
    """All tokens, newest first."""

    tokens: list[TokenBody]


class NewTokenBody(Body):
    """A token to make, and for how many days."""

    name: Annotated[str, _NAME, ShownName]
    scope: Scope
    days: int = Field(ge=1, le=730)


class MadeTokenBody(Body):
    """A token, and its secret; it is told this one time."""

    token: TokenBody
    secret: str


class TokenPath(RequestModel):
    """Which token."""

    token_id: int
