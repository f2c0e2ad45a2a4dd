"""What this machine can render with: stand-ins, plug-ins if their host is installed, and what a file declares."""

import os
from pathlib import Path

from kind_echo.renderers.contract import Offer
from kind_echo.renderers.declared import read_declarations
from kind_echo.renderers.lv2 import lv2_offer
from kind_echo.renderers.stand_in import stand_in_offer

FILE_VARIABLE = "KIND_ECHO_RENDERERS"
"""Names the file that declares renderers; a machine without it has none declared."""


def offers() -> dict[str, Offer]:
    """All renderers of this machine by queue. Raises BadDeclaration."""
    found = [stand_in_offer()]
    plugins = lv2_offer()
    if plugins is not None:
        found.append(plugins)
    named = os.environ.get(FILE_VARIABLE)
    if named:
        found += read_declarations(Path(named))
    return {offer.queue: offer for offer in found}
