"""Signals, the stimuli made of them, and uploaded files."""

from kind_echo.bench.signals.kept import (
    FORMATS,
    RATES,
    WORD_LENGTHS,
    aliases_of,
    all_signals,
    checked,
    export,
    keep_own_file,
    keep_signal,
    preview,
    seconds_of,
    shown,
)
from kind_echo.bench.signals.stimulus import families_of, make_stimulus, measure_by_signal
from kind_echo.bench.signals.uploads import (
    MOST_BYTES,
    UploadRefused,
    compare_uploads,
    find_pair,
    keep_audio,
    keep_upload,
    latest_pairs,
)

__all__ = [
    "FORMATS",
    "MOST_BYTES",
    "RATES",
    "WORD_LENGTHS",
    "UploadRefused",
    "aliases_of",
    "all_signals",
    "checked",
    "compare_uploads",
    "export",
    "families_of",
    "find_pair",
    "keep_audio",
    "keep_own_file",
    "keep_signal",
    "keep_upload",
    "latest_pairs",
    "make_stimulus",
    "measure_by_signal",
    "preview",
    "seconds_of",
    "shown",
]
