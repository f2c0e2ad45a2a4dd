"""Folders for files on their way; what a process that was killed leaves behind, the next one removes."""

import os
import re
import shutil
import sys
import tempfile
from pathlib import Path

_NAME = re.compile(r"kind-echo-(\d+)-")


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
