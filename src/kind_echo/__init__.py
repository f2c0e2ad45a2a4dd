"""Kind Echo: regression testing for audio effects.

From Python: `kind_echo.compare`, `measure`, `tone`, `imd`, `alias_sweep`, `response`, `latency`, `curve` and `dynamics`
measure files and arrays; `kind_echo.library` says what they take and give.
"""

from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from kind_echo.library import (
        Cause,
        Curve,
        KindEchoError,
        Limit,
        Reading,
        Result,
        alias_sweep,
        compare,
        curve,
        dynamics,
        imd,
        latency,
        measure,
        response,
        tone,
    )

__all__ = [
    "Cause", "Curve", "KindEchoError", "Limit", "Reading", "Result", "alias_sweep", "compare", "curve", "dynamics",
    "imd", "latency", "measure", "response", "tone",
]  # fmt: skip


def __getattr__(name: str) -> Any:
    """What the library offers, loaded once it is wanted: a command that needs none of it starts without."""
    if name in __all__:
        from kind_echo import library

        return getattr(library, name)
    raise AttributeError(f"module 'kind_echo' has no attribute {name!r}")
