"""What is said of a cell, as facts; `kind_echo.wording` makes the sentence."""

from dataclasses import dataclass
from typing import Literal

from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.readings import Reading

VerdictName = Literal["Pass", "Changed", "Fail", "No reading", "Waiting"]

Ground = Literal[
    "unfit", "limit broken", "no value", "no reference", "not compared", "identical", "null", "rounding", "takes",
    "changed", "nothing measured", "itself", "no counterpart", "other unfit", "other format", "audio dropped",
    "one side only", "alike", "apart", "under way", "not rendered",
]  # fmt: skip
"""What a verdict rests on.

"unfit": integrity failed. "limit broken": readings beyond their limits. "no value": a limit holds for what has no
value. "no reference": none is approved. "not compared": within its limits, of which none needs a reference.
"identical", "null", "rounding", "takes": every sample is the same; the residual is digital silence; it is under the
rounding of a float file; it is no greater than the spread of the takes. "changed": within limits, but not the same.
"nothing measured": there is no residual though there was something to compare.

Against something other than a reference: "itself": the cell is its own other side. "no counterpart": there is no other
side. "other unfit": it has no render that is fit. "other format": another rate or number of channels. "audio dropped":
one side's audio is gone. "one side only", "alike", "apart": readings of two rates, where one lacks a value, both are
near each other, or not. "under way": nothing is known yet. "not rendered": there is no render.
"""

THE_REFERENCE = "the reference"
"""What a render is compared with, in words, unless it is something else."""

ITS_SIGNAL = "its signal"
"""What the render of a case that is judged against its own signal is compared with, in words."""

NOT_RENDERED = "not rendered"
"""Stands among the broken measures of a cell of which there is no render."""

_BROKEN: frozenset[Ground] = frozenset(
    {"unfit", "limit broken", "no value", "nothing measured", "no counterpart", "other unfit", "other format",
     "audio dropped", "one side only"}
)  # fmt: skip


@dataclass(frozen=True)
class JudgedReading:
    """A reading that a verdict rests on, and the limit that it was held to, where one was."""

    reading: Reading
    limit: Limit | None = None


@dataclass(frozen=True)
class Verdict:
    """What is said of a cell.

    Attributes:
        name: one of the five.
        ground: what it rests on.
        found: the readings that it rests on, worst first.
        other: what the render was compared with, as a sentence calls it.
        ink: 0 (blank) to 1 (full); how far the worst reading stands from its limit, on a scale of decibels.
        why: what came of rendering it, in the words of whoever rendered it, where there is no render.
    """

    name: VerdictName
    ground: Ground
    found: tuple[JudgedReading, ...] = ()
    other: str = THE_REFERENCE
    ink: float = 0.0
    why: str = ""

    @property
    def unfit(self) -> bool:
        """The render failed integrity, so that it cannot become a reference."""
        return self.ground == "unfit"

    @property
    def broken(self) -> tuple[str, ...]:
        """Measures that broke their limits, worst first; where there is no reading, those that have none."""
        if self.ground == "not rendered":
            return (NOT_RENDERED,)
        return tuple(one.reading.measure for one in self.found) if self.ground in _BROKEN else ()


def needs_review(verdict: str, *, finished: bool, decided: bool) -> bool:
    """Whether a person has to look at a cell: it is finished, did not pass, and no decision holds."""
    return finished and verdict != "Pass" and not decided
