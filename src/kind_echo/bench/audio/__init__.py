"""Audio that can be looked at and listened to, by address."""

from kind_echo.bench.audio.addresses import (
    draw,
    map_levels,
    open_address,
    read_samples,
    show_needles,
    signal_address,
    write_file,
)

__all__ = [
    "draw",
    "map_levels",
    "open_address",
    "read_samples",
    "show_needles",
    "signal_address",
    "write_file",
]
