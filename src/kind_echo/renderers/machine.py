"""What this machine can render with: stand-ins, plug-ins if their host is installed, and what a file declares."""

import os
from collections.abc import Callable
from pathlib import Path

import structlog

from kind_echo.renderers.contract import Offer
from kind_echo.renderers.declared import BadDeclaration, read_declarations
from kind_echo.renderers.plugins import scanning
from kind_echo.renderers.plugins.offering import plugin_offers
from kind_echo.renderers.plugins.watched import read_watched

_log = structlog.get_logger("kind_echo.worker")


_added: list[tuple[Callable[[], Offer], Callable[[], object]]] = []


def add_renderer(offer: Callable[[], Offer], stamp: Callable[[], object] = lambda: None) -> None:
    """Let every machine render with one's own renderer too.

    Args:
        offer: what it offers; asked for whenever offers are.
        stamp: something that is another when what it offers has changed: a worker asks every few seconds, and then for
            the offer again.
    """
    _added.append((offer, stamp))


def offers() -> dict[str, Offer]:
    """All renderers of this machine by name. Raises BadDeclaration."""
    # It takes over a second to load, and the web server, which renders nothing, does without.
    from kind_echo.renderers.stand_in import stand_in_offer

    found = [stand_in_offer()]
    named = os.environ.get(scanning.FILE_VARIABLE)
    if named:
        read_watched(Path(named))  # what is wrong in it is told before anything is looked for
    found += plugin_offers()
    found += [offer() for offer, _ in _added]
    if named:
        found += read_declarations(Path(named))
    return {offer.queue: offer for offer in found}


class Machine:
    """This machine's renderers, looked up again when its plug-ins or its file of renderers have changed."""

    def __init__(self) -> None:
        self._seen = _stamp()
        self.offers = offers()

    def look_again(self, *, anyway: bool = False) -> bool:
        """Look whether anything has changed; whether it has. A file that cannot be used leaves things as they were.

        Args:
            anyway: look even if nothing seems to have, and at files that could not be described as well.
        """
        stamp = _stamp()
        if stamp == self._seen and not anyway:
            return False
        self._seen = stamp
        scanning.forget(failures=anyway)
        try:
            self.offers = offers()
        except BadDeclaration as error:
            _log.warning("the changed file of renderers is not used", error=str(error))
            return False
        return True


def _stamp() -> tuple[object, ...]:
    """Changes when a plug-in or the file of renderers does."""
    named = os.environ.get(scanning.FILE_VARIABLE)
    file = Path(named).stat() if named and Path(named).exists() else None
    return (file and (file.st_mtime_ns, file.st_size, file.st_ino), scanning.stamp(), *(stamp() for _, stamp in _added))
