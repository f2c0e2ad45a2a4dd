"""Kits for hosts that a person renders in, and what comes back."""

from kind_echo.bench.kits.packing import Place, kit_name, places_of, why_not, write_kit
from kind_echo.bench.kits.returns import (
    KitFileNotFound,
    assign,
    discard,
    give_up,
    kit_files,
    measure_returned,
    receive,
    recognise,
)
from kind_echo.database.models import KitFile

__all__ = [
    "KitFile",
    "KitFileNotFound",
    "Place",
    "assign",
    "discard",
    "give_up",
    "kit_files",
    "kit_name",
    "measure_returned",
    "places_of",
    "receive",
    "recognise",
    "why_not",
    "write_kit",
]
