"""Bodies of searches for the first build that differs."""

from datetime import datetime

from kind_echo.core.verdicts.verdict import VerdictName
from kind_echo.database.states import CellState
from kind_echo.web.http.schemas import Body, ConditionBody, RequestModel


class NewSearchBody(Body):
    """From which cell the first build that differs is searched."""

    cell_id: int


class LookedBody(Body):
    """A build of a search; `passes` is null while that is not known."""

    version: str
    note: str
    cell_id: int | None
    state: CellState | None
    verdict: VerdictName | None
    why: str
    passes: bool | None


class SearchBody(Body):
    """How a search stands: its builds, oldest first, and the place of the first that differs once it is found."""

    id: int
    effect: str
    signal: str
    setting: str
    condition: ConditionBody
    started_by: str
    started_at: datetime
    builds: list[LookedBody]
    first: int | None


class SearchPath(RequestModel):
    """Which search."""

    search_id: int
