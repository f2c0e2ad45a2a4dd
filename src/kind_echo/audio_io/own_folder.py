"""The user's folder for what can be made again."""

import os
import sys
from pathlib import Path


def cache_folder() -> Path | None:
    """Where what can be made again is kept; None where the user has no home, as in some containers."""
    try:
        if sys.platform == "win32":
            folder = Path(os.environ.get("LOCALAPPDATA") or Path.home() / "AppData" / "Local")
        elif sys.platform == "darwin":
            folder = Path.home() / "Library" / "Caches"
        else:
            folder = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache")
    except RuntimeError:
        return None
    return folder / "kind-echo"
