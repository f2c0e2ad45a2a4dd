"""People, what each may do, tokens, and the log of what was done."""

from kind_echo.bench.accounts.access import ROLES, SCOPES, Caller, NotAllowed, NotSignedIn, Role, Scope, TokenUnknown
from kind_echo.bench.accounts.attempts import (
    KEEP_SECONDS,
    add_attempts,
    admit_attempts,
    count_attempts,
    forget_attempts,
    oldest_attempt,
)
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
from kind_echo.bench.accounts.sessions import end_session, person_of_session
from kind_echo.bench.accounts.tokens import all_tokens, known_token, make_token, revoke_token

__all__ = [
    "KEEP_SECONDS",
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
    "add_attempts",
    "add_person",
    "admit_attempts",
    "all_people",
    "all_tokens",
    "change_password",
    "change_person",
    "count_attempts",
    "end_session",
    "forget_attempts",
    "known_token",
    "local_link",
    "make_token",
    "oldest_attempt",
    "open_link",
    "person_named",
    "person_of_session",
    "reset_person",
    "revoke_token",
    "sign_in",
    "use_link",
]
