"""Limits that a command is given: judged on the reading of all channels, and told in words and in JSON."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.limits import Judgement, judge
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.readings import Reading
from kind_echo.wording.figures import judged_limit_text


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
    def document(self) -> dict[str, Any]:
        """As it stands under "limits" in JSON."""
        sign, bound = self._bound
        return {
            "measure": self.reading.measure, "channel": self.reading.channel, "sign": sign, "bound": bound,
            "value": self.reading.value, "holds": self.holds, "why": self.why,
        }  # fmt: skip


def judge_limits(command: str, readings: Sequence[Reading], limits: Sequence[tuple[str, Limit]]) -> list[JudgedLimit]:
    """Each limit on the reading of all channels. Raises BadParameter for a measure that the command does not give."""
    overall: Mapping[str, Reading] = {r.measure: r for r in readings if r.channel == "all"}
    for key, _ in limits:
        if key not in overall:
            raise BadParameter("limit", key, f"on a measure that kind-echo {command} gives")
    return [JudgedLimit(limit, overall[key], judge(overall[key], limit)) for key, limit in limits]
