"""Where room runs out before anything is refused for it."""

import shutil
import tempfile
from dataclasses import dataclass
from typing import Literal

from sqlalchemy.orm import Session

from kind_echo.bench.storage.rule import current_rule, held_in_all

_SHARE = 0.1  # of what all audio may take, that is little
_LEAST_FREE = 2_000_000_000  # bytes for files on their way: an upload or a report may take as much


@dataclass(frozen=True)
class LittleRoom:
    """Something that is nearly full.

    Attributes:
        what: "audio" of what all of it may take by the rule, or the disk of "temporary files" on this machine.
        left: bytes; none are left where there is less.
    """

    what: Literal["audio", "temporary files"]
    left: int


def little_room(session: Session) -> list[LittleRoom]:
    """What is nearly full; what the disk of the database has left, it tells nobody."""
    found = []
    most = current_rule(session).all_bytes
    if most is not None:
        left = most - held_in_all(session)
        if left < _SHARE * most:
            found.append(LittleRoom("audio", max(0, left)))
    free = shutil.disk_usage(tempfile.gettempdir()).free
    if free < _LEAST_FREE:
        found.append(LittleRoom("temporary files", free))
    return found
