"""docs/architecture.md speaks of what there is: every path in it exists, and every room of the code is in it."""

import re

import pytest

from tests.conftest import PROJECT

_TEXT = (PROJECT / "docs/architecture.md").read_text()
_SOURCE = PROJECT / "src/kind_echo"


def _paths() -> list[str]:
    return sorted(set(re.findall(r"`([\w.-]+(?:/[\w.-]+)*/(?:[\w-]+\.\w+)?)`", _TEXT)))


def test_every_path_in_it_exists() -> None:
    assert len(_paths()) > 60
    missing = [path for path in _paths() if not ((_SOURCE / path).exists() or (PROJECT / path).exists())]
    assert missing == []


@pytest.mark.parametrize("layer", ["", "core", "bench"])
def test_every_room_is_in_it(layer: str) -> None:
    rooms = [found.parent for found in (_SOURCE / layer).glob("*/__init__.py")]
    assert rooms
    assert [room.name for room in rooms if f"`{room.relative_to(_SOURCE)}/`" not in _TEXT] == []
