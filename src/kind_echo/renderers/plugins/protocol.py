"""What the program in which a plug-in is hosted is asked, as JSON."""

from typing import TypedDict

from kind_echo.renderers.contract import Values


class DescribeAsked(TypedDict):
    """Describe all plug-ins in a file, by the key of its standard."""

    path: str
    standard: str


class RenderAsked(DescribeAsked):
    """Run a sound file through a plug-in, as `hosting.PluginRun` has it; an empty path is none."""

    id: str
    values: Values
    input: str
    output: str
    block: int
    seed: int
    offline: bool
    double: bool
    state: str
    save: str
    tail: int
    compensate: bool
    paced: bool
    twice: bool
    beside: Values | None
