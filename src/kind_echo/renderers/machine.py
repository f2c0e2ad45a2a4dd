"""What this machine can render with: stand-ins, plug-ins if their host is installed, and what a file declares."""

import os
from collections.abc import Callable
from pathlib import Path

import structlog

from kind_echo.renderers import lv2
from kind_echo.renderers.clap import offering as clap
from kind_echo.renderers.contract import Offer
from kind_echo.renderers.declared import BadDeclaration, read_declarations

FILE_VARIABLE = "KIND_ECHO_RENDERERS"
"""Names the file that declares renderers; a machine without it has none declared."""

_log = structlog.get_logger("kind_echo.worker")


_added: list[Callable[[], Offer]] = []


def add_renderer(offer: Callable[[], Offer]) -> None:
    """Let every machine render with one's own renderer too; what it offers is asked for whenever offers are."""
    _added.append(offer)


def offers() -> dict[str, Offer]:
    """All renderers of this machine by name. Raises BadDeclaration."""
    # It takes over a second to load, and the web server, which renders nothing, does without.
    from kind_echo.renderers.stand_in import stand_in_offer

    found = [stand_in_offer()]
    found += [offer for offer in (lv2.lv2_offer(), clap.clap_offer()) if offer is not None]
    found += [offer() for offer in _added]
    named = os.environ.get(FILE_VARIABLE)
    if named:
        found += read_declarations(Path(named))
    return {offer.queue: offer for offer in found}


class Machine:
    """This machine's renderers, looked up again when its plug-ins or its file of renderers have changed."""

    def __init__(self) -> None:
        self._seen = _stamp()
        self.offers = offers()

    def look_again(self) -> bool:
        """Look whether anything has changed; whether it has. A file that cannot be used leaves things as they were."""
        stamp = _stamp()
        if stamp == self._seen:
            return False
        self._seen = stamp
        lv2.scan.cache_clear()
        clap.scan.cache_clear()
        try:
            self.offers = offers()
        except BadDeclaration as error:
            _log.warning("the changed file of renderers is not used", error=str(error))
            return False
        return True


def _stamp() -> tuple[object, ...]:
    """Changes when a plug-in or the file of renderers does."""
    named = os.environ.get(FILE_VARIABLE)
    file = Path(named).stat() if named and Path(named).exists() else None
    return (file and (file.st_mtime_ns, file.st_size, file.st_ino), lv2.stamp(), clap.stamp())
