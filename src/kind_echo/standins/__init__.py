"""Simulated effects and hosts, which ship with the product; their loops are compiled by numba when first used."""

import atexit
import os
import shutil
import tempfile
from pathlib import Path

_FOLDER_VARIABLE = "NUMBA_CACHE_DIR"


def _find_folder_for_loops() -> None:
    """See that numba can keep what it compiles: beside the code, at home, or for this process alone.

    It refuses to compile where it cannot. A service has neither a home nor leave to write where the package lies. What
    others can write is never loaded.
    """
    code, home = Path(__file__).parent, Path("~").expanduser()
    if os.environ.get(_FOLDER_VARIABLE) or os.access(code, os.W_OK) or os.access(home, os.W_OK):
        return
    folder = tempfile.mkdtemp(prefix="kind-echo-loops-")
    os.environ[_FOLDER_VARIABLE] = folder
    atexit.register(shutil.rmtree, folder, ignore_errors=True)


_find_folder_for_loops()
