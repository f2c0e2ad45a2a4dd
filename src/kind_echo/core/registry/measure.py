"""What a measure is: its key, unit, definition, the bounds that it may be held to, and how it is shown and judged."""

from dataclasses import KW_ONLY, dataclass
from typing import Literal

Family = Literal[
    "levels", "loudness", "integrity", "compare", "account", "takes", "tone", "aliases", "imd", "response", "latency",
    "transfer", "law", "dynamics", "lossy", "match", "listening", "folding", "cost",
    "hosting",
]  # fmt: skip
Needs = Literal["file", "pair", "takes", "input and output", "trials", "frequency", "render"]
Drawing = Literal["number", "count", "flag", "sign"]
Better = Literal["less", "more"]


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
        drawing: how it is shown: a number, a count, a flag (yes or no), or a sign (+1 or −1).
        signed: shown with a plus where it is positive, since either direction from zero means something.
        absolute: limits hold for the distance from zero.
        better: which end of a table is the good one.
        phrase: how a reading beyond its limit is called; empty for the title.
        unfit: a render beyond the limit is unfit: nothing else of it is judged, and it cannot become a reference.
        common: told of all channels together alone.
        follows: measures whose own breaking accounts for the breaking of this one.
        undone: measure of the residual that is left once what this measures is undone.
        repeats: measure that shows the same thing, and how near its distance from the middle of its limit must be to
            this one's for both to be one fault.
        is_difference: the level of what is left between two sides, which other faults account for.
        apart: amounts further apart than (distance, share of the greater) have different causes; None where amounts do
            not tell causes apart.
    """

    key: str
    title: str
    unit: str
    definition: str
    source: str
    needs: Needs
    family: Family
    _: KW_ONLY
    decimals: int = 2
    limit: Limit | None = None
    drawing: Drawing = "number"
    signed: bool = False
    absolute: bool = False
    better: Better = "less"
    phrase: str = ""
    unfit: bool = False
    common: bool = False
    follows: tuple[str, ...] = ()
    undone: str | None = None
    apart: tuple[float, float] | None = None
    repeats: tuple[str, float] | None = None
    is_difference: bool = False

    @property
    def said(self) -> str:
        """How a reading beyond its limit is called."""
        return self.phrase or self.title
