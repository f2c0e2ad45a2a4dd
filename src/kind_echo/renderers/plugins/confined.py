"""Keeping a process from writing outside a folder: Landlock of Linux, from the kernel's own documentation of it.

https://docs.kernel.org/userspace-api/landlock.html
"""

import ctypes
import os
import struct
import sys
from collections.abc import Iterable
from pathlib import Path

_CREATE_RULESET, _ADD_RULE, _RESTRICT_SELF = 444, 445, 446  # the same number on every processor
_RULE_PATH_BENEATH = 1
_VERSION = 1
_NO_NEW_PRIVILEGES = 38
_WRITE_FILE, _TRUNCATE = 1 << 1, 1 << 14
_IN_FOLDERS = sum(1 << bit for bit in range(4, 13))
"""Removing files and folders, and making them, sockets, pipes, devices and links."""
_REFER = 1 << 13


def confine_writes(folder: Path, files: Iterable[Path] = ()) -> bool:
    """Let this thread, and all that it starts from now on, write beneath a folder and into these files alone.

    What is refused is an error of permission to who tries it. Reading stays as it is.

    Returns:
        Whether it is so: False where the system has no such thing, or another lock forbids it.
    """
    if sys.platform != "linux":
        return False
    kernel = ctypes.CDLL(None, use_errno=True)
    version = kernel.syscall(_CREATE_RULESET, None, ctypes.c_size_t(0), _VERSION)
    if version < 1:
        return False
    handled = _WRITE_FILE | _IN_FOLDERS | (_REFER if version >= 2 else 0) | (_TRUNCATE if version >= 3 else 0)
    asked = ctypes.create_string_buffer(struct.pack("Q", handled), 8)
    rules = kernel.syscall(_CREATE_RULESET, asked, ctypes.c_size_t(8), 0)
    if rules < 0:
        return False
    try:
        within_file = handled & (_WRITE_FILE | _TRUNCATE)
        allowed = [(folder, handled), *((one, within_file) for one in (Path(os.devnull), *files))]
        if not all(_allow(kernel, rules, path, what) for path, what in allowed):
            return False
        if kernel.prctl(_NO_NEW_PRIVILEGES, 1, 0, 0, 0):
            return False
        return bool(kernel.syscall(_RESTRICT_SELF, rules, 0) == 0)
    finally:
        os.close(rules)


def _allow(kernel: ctypes.CDLL, rules: int, path: Path, what: int) -> bool:
    if sys.platform != "linux":
        return False
    opened = os.open(path, os.O_PATH | os.O_CLOEXEC)
    try:
        rule = ctypes.create_string_buffer(struct.pack("=Qi", what, opened), 12)
        return bool(kernel.syscall(_ADD_RULE, rules, _RULE_PATH_BENEATH, rule, 0) == 0)
    finally:
        os.close(opened)
