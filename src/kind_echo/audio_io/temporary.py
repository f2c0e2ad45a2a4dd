"""Folders for files on their way; what a process that was killed leaves behind, the next one removes."""

import errno
import os
import re
import shutil
import sys
import tempfile
from pathlib import Path

from kind_echo.core.registry.errors import Unavailable


class NoTemporarySpace(Unavailable):
    """The disk for temporary files is full; what was asked for can be had when there is space."""

    def __init__(self) -> None:
        super().__init__(
            "The disk for temporary files is full; nothing was kept. Send it again when there is space: TMPDIR says "
            "where these files are."
        )


_NAME = re.compile(r"kind-echo-(\d+)-")


def is_out_of_space(error: BaseException) -> bool:
    """Whether a file could not be written because its disk, or its owner's share of it, is full."""
    return isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT)


def temporary_folder() -> tempfile.TemporaryDirectory[str]:
    """A folder that goes with the block that it is used in; its name tells whose it is."""
    return tempfile.TemporaryDirectory(prefix=f"kind-echo-{os.getpid()}-")


def sweep_temporary() -> int:
    """Remove folders of this system user's processes that run no more; how many there were."""
    if sys.platform == "win32":
        return 0
    gone = 0
    for folder in Path(tempfile.gettempdir()).glob("kind-echo-*"):
        found = _NAME.match(folder.name)
        if found and folder.is_dir() and folder.stat().st_uid == os.getuid() and not _runs(int(found[1])):
            shutil.rmtree(folder, ignore_errors=True)
            gone += 1
    return gone


def _runs(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True
