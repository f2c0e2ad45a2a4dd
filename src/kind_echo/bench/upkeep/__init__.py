"""Order among what is under test: other names, what is archived, and what can be deleted."""

from kind_echo.bench.upkeep.archiving import archive
from kind_echo.bench.upkeep.deleting import InUse, delete_build, delete_run
from kind_echo.bench.upkeep.naming import (
    CannotRename,
    NameTaken,
    change_note,
    move_build,
    named_by_machines,
    rename,
    rename_host,
)
from kind_echo.bench.upkeep.things import Kind, Named, find

__all__ = [
    "CannotRename",
    "InUse",
    "Kind",
    "NameTaken",
    "Named",
    "archive",
    "change_note",
    "delete_build",
    "delete_run",
    "find",
    "move_build",
    "named_by_machines",
    "rename",
    "rename_host",
]
