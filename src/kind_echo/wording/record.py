"""Events of the log, in words."""

from collections.abc import Mapping
from typing import Any

from kind_echo.wording.figures import counted

_NAMES = ("name", "version", "effect", "plans", "to", "ticket", "role", "scope", "state", "kind", "note")
"""What stands in an event's detail that tells a person which thing it was about, as it is."""

_NUMBERS = ("run", "plan", "search", "test", "schedule", "file")
"""Things that are known by a number."""


def event_text(what: str, detail: Mapping[str, Any]) -> str:
    """What happened, with what it happened to: "Waived: 12 cells, SALT-71, until 2026-12-24"."""
    told = []
    cells = detail.get("cells")
    if isinstance(cells, list):
        told.append(counted(len(cells), "cell"))
    if detail.get("before") is not None and detail.get("after") is not None:
        told.append(f"{detail['before']} to {detail['after']}")
    for name in _NUMBERS:
        if isinstance(detail.get(name), int):
            told.append(f"{name} {detail[name]}")
    if isinstance(detail.get("revision"), int):
        told.append(f"revision {detail['revision']}")
    if isinstance(detail.get("build"), str):
        told.append(detail["build"])
    for name in _NAMES:
        value = detail.get(name)
        if isinstance(value, list):
            told += [str(one) for one in value]
        elif value not in (None, ""):
            told.append(str(value))
    if detail.get("until"):
        told.append(f"until {detail['until']}")
    said = what[:1].upper() + what[1:]
    return f"{said}: {', '.join(dict.fromkeys(told))}" if told else said
