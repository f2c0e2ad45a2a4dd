"""Which of the compiled forms of a module this processor can run: the wide one where it has the instructions for it."""

import os
from importlib import import_module
from importlib.util import find_spec
from typing import Any

from kind_echo.core.compiled._processor import is_wide

PLAIN_VARIABLE = "KIND_ECHO_PLAIN_LOOPS"
"""Set to anything, it keeps to the form that every processor runs."""


def variant(name: str) -> dict[str, Any]:
    """What a compiled module offers, by name."""
    wide = f"{__package__}._{name}_wide"
    take_wide = is_wide() and not os.environ.get(PLAIN_VARIABLE) and find_spec(wide) is not None
    module = import_module(wide if take_wide else f"{__package__}._{name}")
    return {key: value for key, value in vars(module).items() if not key.startswith("_")}
