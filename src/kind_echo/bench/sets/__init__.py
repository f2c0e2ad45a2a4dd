"""A person's own files in sets: one table of any number of them, with no plan."""

from kind_echo.bench.sets.keeping import (
    MOST_FILES,
    NewFile,
    SetFull,
    SetNotFound,
    add_files,
    change_options,
    choose_columns,
    copy_set,
    delete_set,
    find_file,
    find_set,
    list_sets,
    measure_all,
    need_own,
    new_set,
    remove_files,
)
from kind_echo.bench.sets.levelling import Trim, levelled_zip, trim_of
from kind_echo.bench.sets.measuring import Superseded, changes, is_wanted, keep_found, measure_file
from kind_echo.bench.sets.options import Also, SetOptions, options_from
from kind_echo.bench.sets.planned import PlanNames, Planned, approve_given, keep_given, plan_of_set
from kind_echo.bench.sets.table import chosen_columns, set_csv
from kind_echo.database.models import FileSet, SetFile

__all__ = [
    "MOST_FILES",
    "Also",
    "FileSet",
    "NewFile",
    "PlanNames",
    "Planned",
    "SetFile",
    "SetFull",
    "SetNotFound",
    "SetOptions",
    "Superseded",
    "Trim",
    "add_files",
    "approve_given",
    "change_options",
    "changes",
    "choose_columns",
    "chosen_columns",
    "copy_set",
    "delete_set",
    "find_file",
    "find_set",
    "is_wanted",
    "keep_found",
    "keep_given",
    "levelled_zip",
    "list_sets",
    "measure_all",
    "measure_file",
    "need_own",
    "new_set",
    "options_from",
    "plan_of_set",
    "remove_files",
    "set_csv",
    "trim_of",
]
