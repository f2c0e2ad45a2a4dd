"""The space that audio takes: what takes it, how long it is kept, how much there may be, and where it is."""

from kind_echo.bench.storage.moving import Place, move_audio, pack_audio
from kind_echo.bench.storage.retention import (
    GRACE,
    Dropped,
    drop_audio,
    drop_unused,
    has_waited_out,
    is_due,
    sweep_objects,
    would_drop,
    would_drop_in_all,
)
from kind_echo.bench.storage.room import LittleRoom, little_room
from kind_echo.bench.storage.rule import (
    GIGABYTE,
    QuotaReached,
    Rule,
    StorageFull,
    check_space,
    current_rule,
    held_by,
    set_rule,
)
from kind_echo.bench.storage.space import Share, Space, what_takes_space

__all__ = [
    "GIGABYTE",
    "GRACE",
    "Dropped",
    "LittleRoom",
    "Place",
    "QuotaReached",
    "Rule",
    "Share",
    "Space",
    "StorageFull",
    "check_space",
    "current_rule",
    "drop_audio",
    "drop_unused",
    "has_waited_out",
    "held_by",
    "is_due",
    "little_room",
    "move_audio",
    "pack_audio",
    "set_rule",
    "sweep_objects",
    "what_takes_space",
    "would_drop",
    "would_drop_in_all",
]
