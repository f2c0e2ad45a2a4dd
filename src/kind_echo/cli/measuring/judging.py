"""Limits that a command is given: judged on the reading of all channels, and told in words and in JSON."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, TypedDict

from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.limits import Judgement, judge
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.readings import Reading
from kind_echo.wording.figures import judged_limit_text

if TYPE_CHECKING:  # slow to load, and few commands are given a file of limits
    from kind_echo.checks.settings import Settings

_NO_SIGNAL = ""
"""Of what is measured by itself the kind of signal is not looked for: rules for signals hold for a pair alone."""


class JudgedDocument(TypedDict):
    """A limit as it stands under "limits" in JSON."""

    measure: str
    channel: str
    sign: str
    bound: float
    value: float | None
    holds: bool
    why: str | None


@dataclass(frozen=True)
class JudgedLimit:
    """A limit with one bound, the reading that it stands on, and what comes of it."""

    limit: Limit
    reading: Reading
    judgement: Judgement

    @property
    def holds(self) -> bool:
        """Whether it holds; one on a reading that is not there, and that no bound settles, does not."""
        return self.judgement == "met"

    @property
    def why(self) -> str | None:
        """Why there is no value, where there is none."""
        return None if self.reading.value is not None else self.reading.why or "no reading"

    @property
    def _bound(self) -> tuple[str, float]:
        if self.limit.at_most is not None:
            return "<=", self.limit.at_most
        assert self.limit.at_least is not None
        return ">=", self.limit.at_least

    @property
    def words(self) -> str:
        """As "True peak −2.32 dBTP, limit ≤ −3.00: broken"."""
        return judged_limit_text(self.reading, self.limit, self.judgement)

    @property
    def document(self) -> JudgedDocument:
        """As it stands under "limits" in JSON."""
        sign, bound = self._bound
        return {
            "measure": self.reading.measure, "channel": self.reading.channel, "sign": sign, "bound": bound,
            "value": self.reading.value, "holds": self.holds, "why": self.why,
        }  # fmt: skip


def documents_of(held: Iterable[tuple[Reading, Limit]]) -> list[JudgedDocument]:
    """Readings with their limits as they stand under "limits" in JSON: an entry a bound."""
    single = [(reading, one) for reading, limit in held for one in single_bounds(limit)]
    return [JudgedLimit(one, reading, judge(reading, one)).document for reading, one in single]


def single_bounds(limit: Limit) -> list[Limit]:
    """A limit as limits of one bound each."""
    least, most = Limit(at_least=limit.at_least), Limit(at_most=limit.at_most)
    return [one for one in (least, most) if one != Limit()]


@dataclass(frozen=True)
class WantedLimits:
    """The limits that a command was given: each by itself, and those of a file for what it measures.

    Attributes:
        given: measure and limit of one bound, in the order given.
        team: the rules of a file; None where none was given.
    """

    given: Sequence[tuple[str, Limit]] = ()
    team: "Settings | None" = None

    def judge(self, command: str, readings: Sequence[Reading], path: str) -> list[JudgedLimit]:
        """Each limit on the reading of all channels.

        Args:
            path: of the file that the readings are of, by which the rules of a file hold or do not.
        Raises:
            BadParameter: one given by itself is on a measure that the command does not give.
        """
        overall: Mapping[str, Reading] = {r.measure: r for r in readings if r.channel == "all"}
        for key, _ in self.given:
            if key not in overall:
                raise BadParameter("limit", key, f"on a measure that kind-echo {command} gives")
        held = [*self.given]
        if self.team is not None:
            team = self.team.own_limits_for(path, _NO_SIGNAL)
            held += [(key, one) for key, limit in team.items() if key in overall for one in single_bounds(limit)]
        return [JudgedLimit(limit, overall[key], judge(overall[key], limit)) for key, limit in held]
