"""The shapes in which what a listening test hides is kept as JSON."""

from typing import TypedDict


class SideDocument(TypedDict):
    """A side of a test as it is heard.

    Attributes:
        hidden: a copy of the reference, or an anchor made of it.
        sha256: of its clip.
        gain: dB by which it was matched; `error` what is left, None where nothing was matched.
        delay: samples that were taken off; None where none could be found.
    """

    name: str
    hidden: bool
    sha256: str
    gain: float
    error: float | None
    delay: float | None


class SlotDocument(TypedDict):
    """A slot of a trial: what it is called, the side behind it by its place in the test, whether it is graded."""

    label: str
    side: int
    graded: bool
