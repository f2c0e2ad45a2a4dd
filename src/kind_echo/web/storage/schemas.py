"""What takes the space, and the rule for it."""

from datetime import datetime

from pydantic import Field

from kind_echo.web.http.schemas import Body, RequestModel


class RuleBody(Body):
    """How long audio is kept and how much there may be; null for no limit. Gigabytes are of 10⁹ bytes."""

    keep_runs: int | None = Field(ge=1, le=10_000)
    person_gigabytes: float | None = Field(ge=0.001, le=1e6)
    all_gigabytes: float | None = Field(ge=0.001, le=1e6)


class KeptRuleBody(RuleBody):
    """The rule in force, and who set it; empty and null where nobody did."""

    changed_by: str
    changed_at: datetime | None


class ShareBody(Body):
    """One kind of thing, how many of it where that is counted, and the bytes that it takes."""

    name: str
    bytes: int
    pieces: int | None


class PlanShareBody(Body):
    """Audio of the renders of a plan."""

    effect: str
    plan: str
    bytes: int
    pieces: int


class SpaceBody(Body):
    """What takes the space; `raw` is what all audio would take unpacked, `dropped` the pieces that were dropped."""

    parts: list[ShareBody]
    plans: list[PlanShareBody]
    people: list[ShareBody]
    raw: int
    dropped: int


class OwnSpaceBody(Body):
    """What the files of who asks take, and the most that they may; null where it is not limited."""

    bytes: int
    most: int | None


class StorageBody(Body):
    """What takes the space, and the rule in force."""

    space: SpaceBody
    rule: KeptRuleBody
    own: OwnSpaceBody


class DryRunQuery(RequestModel):
    """The rule to try."""

    keep_runs: int = Field(ge=1, le=10_000)


class DryRunBody(Body):
    """What a rule would drop now, in all and by plan; audio of several plans counts in each of them."""

    pieces: int
    bytes: int
    plans: list[PlanShareBody]
