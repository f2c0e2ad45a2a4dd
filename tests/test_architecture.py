"""docs/architecture.md speaks of what there is: every path in it exists, and every room of the code is in it."""

import inspect
import re
import tomllib

import pytest

from kind_echo.web.app import create_app
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


_CONTRACTS = tomllib.loads((PROJECT / "pyproject.toml").read_text())["tool"]["importlinter"]["contracts"]


@pytest.mark.parametrize(("container", "prefix"), [("kind_echo", ""), ("kind_echo.core", "core/"),
                                                   ("kind_echo.bench", "bench/")])  # fmt: skip
def test_its_tables_stand_in_the_order_of_the_contract(container: str, prefix: str) -> None:
    (layers,) = (c["layers"] for c in _CONTRACTS if c["type"] == "layers" and c["containers"] == [container])
    ordered = [room.strip() for layer in layers for room in layer.split("|")]
    told = re.findall(rf"(?:^\| |, )`{prefix}(\w+)(?:/|\.py)`(?= \||, `\w+/` \|)", _TEXT, re.MULTILINE)
    assert [room for room in told if room in ordered] == ordered


_ROOM_OF = {"me": "people", "sign-in": "people", "sign-out": "people", "links": "people", "tokens": "people",
            "acts": "decisions", "builds": "effects", "renders": "cells", "kit": "kits",
            "kit-files": "kits"}  # fmt: skip


def test_a_route_is_found_by_its_address() -> None:
    """What an address of the API begins with is the room its code stands in, or one that it is a part of."""
    app = create_app()
    misplaced = []
    for rule in app.url_map.iter_rules():
        if not rule.rule.startswith("/api/"):
            continue
        parts = [part for part in rule.rule.split("/")[2:] if not part.startswith("<")]
        names = [part.partition(".")[0] for part in parts]
        rooms = {_ROOM_OF.get(name, name) for name in names}
        module = inspect.unwrap(app.view_functions[rule.endpoint]).__module__
        if module != "kind_echo.web.app" and module.split(".")[2] not in rooms:
            misplaced.append((rule.rule, module))
    assert misplaced == []


def test_no_module_is_longer_than_400_lines() -> None:
    """What is longer has more than one job (this project's choice)."""
    code = [*_SOURCE.rglob("*.py"), *(p for p in (PROJECT / "frontend/src").rglob("*.ts*") if ".gen." not in p.name)]
    assert len(code) > 700
    assert [path.name for path in code if len(path.read_text().splitlines()) > 400] == []


def test_one_file_alone_knows_the_schema_of_the_queue() -> None:
    """But for the migration that makes it, and the grants on it."""
    knows = [
        str(path.relative_to(_SOURCE))
        for path in _SOURCE.rglob("*.py")
        if re.search(r"procrastinate_\w+", path.read_text()) and "database" not in path.parts
    ]
    assert knows == ["bench/queue/adapter.py"]


def test_a_room_of_the_bench_is_entered_by_its_front_door() -> None:
    """The core has none but for signals: a command loads the few modules that it needs, and so starts at once."""
    through_the_wall = []
    for path in _SOURCE.rglob("*.py"):
        room = path.relative_to(_SOURCE).parts[:2]
        for found in re.findall(r"^\s*from kind_echo\.bench\.(\w+)\.\w+ import", path.read_text(), re.MULTILINE):
            if room != ("bench", found) and found != "jobs":
                through_the_wall.append((str(path.relative_to(_SOURCE)), found))
    assert through_the_wall == []
