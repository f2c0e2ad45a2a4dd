"""What a measure is: its key, unit, definition and the bounds that it may be held to."""

from dataclasses import dataclass
from typing import Literal

Family = Literal[
    "levels", "loudness", "integrity", "compare", "account", "takes", "tone", "aliases", "imd", "response", "latency",
    "transfer", "law", "dynamics", "lossy", "match", "listening", "folding", "cost",
]  # fmt: skip
Needs = Literal["file", "pair", "takes", "input and output", "trials", "frequency", "render"]
Drawing = Literal["number", "count", "flag"]


@dataclass(frozen=True)
class Limit:
    """The bounds within which a reading passes; None where there is no bound. Same unit as the measure."""

    at_least: float | None = None
    at_most: float | None = None


@dataclass(frozen=True)
class Measure:
    """What one number means.

    Attributes:
        key: its name in files, the API and on the command line; final.
        title: its name on screen.
        unit: unit of the value; empty for counts and flags.
        definition: how it is computed and when it refuses.
        source: the standard or the practice that it comes from.
        needs: "file" (a render alone), "pair" (a reference too), "input and output" (of the effect), "takes" (several
            renders of one cell), "trials" (of a listening test), "frequency", "render" (what making it took).
        family: the group it is shown in.
        decimals: digits after the point on screen.
        limit: the default bounds in a plan; None where nothing is judged unless asked for.
        drawing: how it is shown.
    """

    key: str
    title: str
    unit: str
    definition: str
    source: str
    needs: Needs
    family: Family
    decimals: int = 2
    limit: Limit | None = None
    drawing: Drawing = "number"
