"""Ways in and out, people, and tokens."""

from datetime import UTC, datetime

from flask import Response
from flask_openapi3 import APIBlueprint

from kind_echo.bench.accounts import (
    ROLES,
    Invited,
    Role,
    add_person,
    all_people,
    all_tokens,
    change_password,
    change_person,
    make_token,
    open_link,
    reset_person,
    revoke_token,
    sign_in,
    use_link,
)
from kind_echo.database.accounts import Person, Token
from kind_echo.database.sessions import transaction
from kind_echo.web.http.answers import answer
from kind_echo.web.people.schemas import (
    InvitedBody,
    LinkBody,
    MadeTokenBody,
    MeBody,
    NewPersonBody,
    NewTokenBody,
    OpenedLinkBody,
    PasswordBody,
    PeopleBody,
    PersonBody,
    PersonChangeBody,
    PersonPath,
    SignInBody,
    TokenBody,
    TokenPath,
    TokensBody,
    UseLinkBody,
)
from kind_echo.web.security.devices import remember_device
from kind_echo.web.security.doors import begin_session, caller, end_session, forgery_token, is_local, nobody
from kind_echo.web.security.hashing import hashing_turn

api = APIBlueprint("people", __name__, url_prefix="/api")

LINK_PATH = "/sign-in#"
"""The page that a link opens; its secret stands behind the mark, where it is sent to no server and into no log."""


@api.get("/me", responses={200: MeBody})
def me() -> Response:
    """Who asks, if they are signed in."""
    return answer(_me())


@api.post("/sign-in", responses={200: MeBody})
def sign_in_with_password(body: SignInBody) -> Response:
    """Begin a session with a name and a password."""
    with hashing_turn(), transaction() as session:
        person = sign_in(session, body.name, body.password, datetime.now(UTC))
        begin_session(person)
        remember_device(person.name)
    return answer(_me())


@api.post("/links/open", responses={200: OpenedLinkBody})
def show_link(body: LinkBody) -> Response:
    """Whose link it is; it can still be used afterwards."""
    with transaction() as session:
        link = open_link(session, body.secret, datetime.now(UTC), near=is_local())
        return answer(OpenedLinkBody(name=link.person.name, sets_password=not link.local))


@api.post("/links/use", responses={200: MeBody})
def sign_in_by_link(body: UseLinkBody) -> Response:
    """Begin a session by a link, and set the password that was chosen."""
    with hashing_turn(), transaction() as session:
        person = use_link(session, body.secret, body.password, datetime.now(UTC), near=is_local())
        begin_session(person)
        remember_device(person.name)
    return answer(_me())


@api.post("/sign-out", responses={200: MeBody})
def sign_out() -> Response:
    """End the session."""
    end_session()
    return answer(MeBody(forgery_token=forgery_token(), id=None, name=None, role=None, roles=[]))


@api.post("/me/password", responses={200: MeBody})
def change_own_password(body: PasswordBody) -> Response:
    """Choose another password; all other sessions end."""
    with hashing_turn(), transaction() as session:
        person_id = caller().person_id
        assert person_id is not None  # the route is for people
        begin_session(change_password(session, person_id, body.old, body.new, datetime.now(UTC)))
    return answer(_me())


@api.get("/people", responses={200: PeopleBody})
def people() -> Response:
    """Everybody who has an account."""
    with transaction() as session:
        return answer(PeopleBody(people=[_person_body(person) for person in all_people(session)]))


@api.post("/people", responses={201: InvitedBody})
def new_person(body: NewPersonBody) -> Response:
    """Make an account; its link is told once."""
    with transaction() as session:
        invited = add_person(session, body.name, body.role, who=caller().name, now=datetime.now(UTC))
        return answer(_invited_body(invited), 201)


@api.post("/people/<int:person_id>/change", responses={200: PersonBody})
def change_role(path: PersonPath, body: PersonChangeBody) -> Response:
    """Give a person another role, shut them out, or let them in again."""
    with transaction() as session:
        now = datetime.now(UTC)
        person = change_person(
            session, path.person_id, who=caller().name, now=now, role=body.role, disabled=body.disabled
        )
        return answer(_person_body(person))


@api.post("/people/<int:person_id>/reset", responses={200: InvitedBody})
def reset(path: PersonPath) -> Response:
    """Take a person's password away and make a link to choose another; it is told once."""
    with transaction() as session:
        return answer(_invited_body(reset_person(session, path.person_id, who=caller().name, now=datetime.now(UTC))))


@api.get("/tokens", responses={200: TokensBody})
def tokens() -> Response:
    """All tokens, those that have ended too."""
    with transaction() as session:
        return answer(TokensBody(tokens=[_token_body(token) for token in all_tokens(session)]))


@api.post("/tokens", responses={201: MadeTokenBody})
def new_token(body: NewTokenBody) -> Response:
    """Make a token; its secret is told once."""
    with transaction() as session:
        made = make_token(session, body.name, body.scope, body.days, who=caller().name, now=datetime.now(UTC))
        return answer(MadeTokenBody(token=_token_body(made.token), secret=made.secret), 201)


@api.post("/tokens/<int:token_id>/revoke", responses={200: TokenBody})
def revoke(path: TokenPath) -> Response:
    """Let a token reach nothing from now on."""
    with transaction() as session:
        return answer(_token_body(revoke_token(session, path.token_id, who=caller().name, now=datetime.now(UTC))))


def _me() -> MeBody:
    if nobody():
        return MeBody(forgery_token=forgery_token(), id=None, name=None, role=None, roles=[])
    known = caller()
    roles = [role for role in ROLES if known.has(role)]
    return MeBody(forgery_token=forgery_token(), id=known.person_id, name=known.name, role=known.role, roles=roles)


def _person_body(person: Person) -> PersonBody:
    role: Role = person.role  # type: ignore[assignment]  # the table holds no other
    return PersonBody(
        id=person.id,
        name=person.name,
        role=role,
        has_password=person.password_hash is not None,
        made_at=person.made_at,
        made_by=person.made_by,
        signed_in_at=person.signed_in_at,
        disabled_at=person.disabled_at,
    )


def _invited_body(invited: Invited) -> InvitedBody:
    return InvitedBody(person=_person_body(invited.person), link=LINK_PATH + invited.secret)


def _token_body(token: Token) -> TokenBody:
    return TokenBody.model_validate(token)
