"""The shapes in which what was measured of a pair is kept as JSON, by the command line and in bundles of evidence."""

from typing import TYPE_CHECKING, Any, NotRequired, TypedDict

from kind_echo.core.causes.cause import CauseDocument
from kind_echo.core.registry.documents import FileDocument, ReadingDocument, WholeCurveDocument

if TYPE_CHECKING:  # a comparison makes no signal
    from kind_echo.core.signals import SignalDocument


class MeasuredDocument(TypedDict):
    """What is known of a pair: `own` of the render by itself, `comparison` of it against the reference."""

    signal: str
    inputs: list[FileDocument]
    own: list[ReadingDocument]
    comparison: list[ReadingDocument]
    causes: list[CauseDocument]
    curves: dict[str, WholeCurveDocument]


class WentInDocument(TypedDict):
    """The signal that went into a cell, and the law that was expected of it."""

    request: "SignalDocument"
    law: dict[str, float] | None


class ComparedDocument(TypedDict):
    """How a cell of a run was compared.

    `options` are those of `CompareOptions`. `law`: the signal that went in, where it shows the law of a level control.
    `signal` is there where its render was measured beside that, on the samples that are kept.
    """

    options: dict[str, Any]
    law: "SignalDocument | None"
    signal: NotRequired[WentInDocument]


class PairDocument(TypedDict):
    """A pair of files or a cell of a run as `readings.json` in a bundle has it.

    Of a pair of files `causes` is a sentence; of a cell, which has a number, they are facts. `audio` are names in the
    bundle: so many references, renders and inputs as `takes` says. `alone` is audio that was compared with nothing.
    """

    name: str
    status: str
    why: str
    causes: str | list[CauseDocument]
    cell: NotRequired[int]
    beside_signal: NotRequired[list[ReadingDocument]]
    measured: NotRequired[MeasuredDocument]
    audio: NotRequired[list[str]]
    takes: NotRequired[tuple[int, int, bool]]
    resample: NotRequired[bool]
    compared: NotRequired[ComparedDocument]
    alone: NotRequired[list[str]]
