"""Bodies of references."""

from datetime import datetime

from kind_echo.web.http.schemas import Body, ConditionBody, RequestModel


class ReferenceBody(Body):
    """A reference: what it is of, where it came from, who approved it and when it was retired."""

    id: int
    effect: str
    signal: str
    setting: str
    condition: ConditionBody
    version: str
    run_id: int
    cell_id: int
    approved_by: str
    approved_at: datetime
    why: str
    replaces_id: int | None
    retired_at: datetime | None
    undone: bool
    sha256: str


class ReferencesBody(Body):
    """References, in order."""

    references: list[ReferenceBody]


class ReferencePath(RequestModel):
    """Which reference."""

    reference_id: int
