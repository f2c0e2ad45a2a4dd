"""Changes that hold in time or between channels: each finds itself, and what it did is done to the other side.

What looks for a change is loaded when it is first looked for: most pairs need few, and to load all takes as long as to
compare a second.
"""

import importlib
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from kind_echo.core.undoing.chords import find_change_of_tones
    from kind_echo.core.undoing.echoes import find_echo
    from kind_echo.core.undoing.jumps import find_jumps
    from kind_echo.core.undoing.level_over_time import find_motion
    from kind_echo.core.undoing.levelled_tones import cause_at_edges
    from kind_echo.core.undoing.lines import find_lines
    from kind_echo.core.undoing.mixing import find_mix
    from kind_echo.core.undoing.orders import is_tonal
    from kind_echo.core.undoing.placing import find_place
    from kind_echo.core.undoing.sameness import find_sameness, shift_of_frequencies
    from kind_echo.core.undoing.silence import causes_from_nothing, is_constant
    from kind_echo.core.undoing.swept_orders import folding_of_sweep
    from kind_echo.core.undoing.switching import find_switch
    from kind_echo.core.undoing.tones import find_tone_change
    from kind_echo.core.undoing.wandering import find_wander

_MODULES = {
    "cause_at_edges": "levelled_tones",
    "causes_from_nothing": "silence",
    "find_change_of_tones": "chords",
    "find_echo": "echoes",
    "find_jumps": "jumps",
    "find_lines": "lines",
    "find_mix": "mixing",
    "find_motion": "level_over_time",
    "find_place": "placing",
    "find_sameness": "sameness",
    "find_switch": "switching",
    "find_tone_change": "tones",
    "find_wander": "wandering",
    "folding_of_sweep": "swept_orders",
    "is_constant": "silence",
    "is_tonal": "orders",
    "shift_of_frequencies": "sameness",
}

__all__ = [
    "cause_at_edges",
    "causes_from_nothing",
    "find_change_of_tones",
    "find_echo",
    "find_jumps",
    "find_lines",
    "find_mix",
    "find_motion",
    "find_place",
    "find_sameness",
    "find_switch",
    "find_tone_change",
    "find_wander",
    "folding_of_sweep",
    "is_constant",
    "is_tonal",
    "shift_of_frequencies",
]


def __getattr__(name: str) -> Any:
    """What a module offers, once it is asked for (PEP 562)."""
    if name not in _MODULES:
        raise AttributeError(f"module {__name__} has no attribute {name}")
    return getattr(importlib.import_module(f"{__name__}.{_MODULES[name]}"), name)
