"""Code from outside the package: modules that add measures, kinds of signals and renderers when they are imported."""

import importlib
import os

from kind_echo.core.registry.errors import Invalid

VARIABLE = "KIND_ECHO_EXTENSIONS"
"""Names modules, with commas between them, that every process of Kind Echo imports when it starts."""


class BadExtension(Invalid):
    """A module that is named cannot be imported."""

    def __init__(self, name: str, reason: Exception) -> None:
        self.name, self.reason = name, reason
        super().__init__(f"{VARIABLE} names {name}, which cannot be imported: {reason}.")


def load_extensions() -> None:
    """Import all modules that the environment names. Raises BadExtension."""
    for name in os.environ.get(VARIABLE, "").split(","):
        if name.strip():
            try:
                importlib.import_module(name.strip())
            except Exception as error:
                raise BadExtension(name.strip(), error) from error
