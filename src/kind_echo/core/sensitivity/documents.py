"""What is asked about a cell or a gap, and what is found, as JSON keeps it."""

from typing import TypedDict, final

from kind_echo.core.registry.documents import LimitDocument
from kind_echo.core.sensitivity.least import LeastDocument
from kind_echo.core.signals import SignalDocument


@final
class CellAsked(TypedDict):
    """An approved render into which faults are planted, and all that what is found depends on.

    Attributes:
        sha256: of its audio.
        signal, channels, rate: what went in.
        against: "reference", or "signal" where it is judged against what went in.
        law: what is expected of it, as `ExpectedCurve`; None for nothing.
        take_spread: of its takes, in dB; None for one take.
        claimed: frames of latency that it should still have; None where nothing tells.
    """

    sha256: str
    signal: SignalDocument
    channels: int
    rate: int
    limits: dict[str, LimitDocument]
    against: str
    law: dict[str, float] | None
    take_spread: float | None
    claimed: float | None


@final
class ClosingAsked(TypedDict):
    """A gap that is to be closed.

    Attributes:
        closing: key of the fault.
        wanted: size from which on it is to be noticed; None where it is to be noticed at any.
        cell: for which a limit is looked for; None for none.
    """

    closing: str
    wanted: float | None
    cell: CellAsked | None


SensitivityAsked = CellAsked | ClosingAsked


class FoundDocument(LeastDocument, total=False):
    """What came of a fault in a cell; of a gap, in the signal of that `title`, or the `limit` that notices it."""

    title: str
    limit: float | None
