"""Audio that can be looked at and listened to, by address."""

from kind_echo.bench.audio.addresses import (
    BAND_STEPS,
    draw,
    map_levels,
    open_address,
    read_samples,
    show_bands,
    show_needles,
    signal_address,
    write_file,
)

__all__ = [
    "BAND_STEPS",
    "draw",
    "map_levels",
    "open_address",
    "read_samples",
    "show_bands",
    "show_needles",
    "signal_address",
    "write_file",
]
