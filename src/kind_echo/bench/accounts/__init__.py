"""People, what each may do, tokens, and the log of what was done."""

from kind_echo.bench.accounts.access import ROLES, SCOPES, Caller, NotAllowed, NotSignedIn, Role, Scope, TokenUnknown
from kind_echo.bench.accounts.people import (
    LINK_DAYS,
    Invited,
    add_person,
    all_people,
    change_password,
    change_person,
    local_link,
    open_link,
    person_named,
    reset_person,
    sign_in,
    use_link,
)
from kind_echo.bench.accounts.tokens import all_tokens, known_token, make_token, revoke_token

__all__ = [
    "LINK_DAYS",
    "ROLES",
    "SCOPES",
    "Caller",
    "Invited",
    "NotAllowed",
    "NotSignedIn",
    "Role",
    "Scope",
    "TokenUnknown",
    "add_person",
    "all_people",
    "all_tokens",
    "change_password",
    "change_person",
    "known_token",
    "local_link",
    "make_token",
    "open_link",
    "person_named",
    "reset_person",
    "revoke_token",
    "sign_in",
    "use_link",
]
