"""Who may do what: roles of people, scopes of tokens, and what each of them reaches."""

from dataclasses import dataclass
from typing import Literal, get_args

from kind_echo.core.registry.errors import Forbidden, Unauthenticated

Role = Literal["look", "work", "keep"]
"""Read, listen, export; plans, runs and decisions as well; references, people and renderers as well."""

Scope = Literal["read", "submit", "upload", "render"]
"""Of a token: all that *look* reads; new builds and runs as well; a renderer's jobs, and nothing else."""

ROLES: tuple[Role, ...] = get_args(Role)
ROLE_TITLES: dict[Role, str] = {"look": "Viewer", "work": "Engineer", "keep": "Administrator"}
SCOPES: tuple[Scope, ...] = get_args(Scope)


class NotAllowed(Forbidden):
    """Somebody is known, and may not do what they ask for."""

    def __init__(self, name: str, needed: str) -> None:
        self.name, self.needed = name, needed
        super().__init__(f"Nothing was changed: {name} may not do that; it needs {needed}.")


class TokenUnknown(Unauthenticated):
    """Somebody asks with a token that lets nobody in."""

    def __init__(self) -> None:
        super().__init__("This token is not known here: it may be mistyped, past its end, or revoked.")


class NotSignedIn(Unauthenticated):
    """Nobody is known to ask."""

    def __init__(self) -> None:
        super().__init__("Sign in first; nothing was changed.")


@dataclass(frozen=True)
class Caller:
    """Who asks: a person with a role, or a program with a token of some scope."""

    name: str
    role: Role | None = None
    scope: Scope | None = None
    person_id: int | None = None
    token_id: int | None = None

    def has(self, role: Role) -> bool:
        """Whether it is a person of that role, or of one that reaches further."""
        return self.role is not None and ROLES.index(self.role) >= ROLES.index(role)

    def need(self, role: Role) -> None:
        """Raises NotAllowed for anybody who has not that role."""
        if not self.has(role):
            raise NotAllowed(self.name, f"the role {ROLE_TITLES[role]}")
