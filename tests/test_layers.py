"""An import goes only downwards."""

import re
import subprocess

from tests.conftest import BIN, PROJECT

_QUERIES = re.compile(r"^from sqlalchemy(?!\.orm import Session$|\.exc import).*$", re.MULTILINE)


def test_the_import_contract_holds() -> None:
    done = subprocess.run([BIN / "lint-imports", "--no-logo"], cwd=PROJECT, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout


def test_no_query_is_made_in_the_web() -> None:
    """What it knows of SQLAlchemy is the session that it hands on, and what may go wrong."""
    web = (PROJECT / "src/kind_echo/web").rglob("*.py")
    found = {str(path): _QUERIES.findall(path.read_text()) for path in web}
    assert {path: lines for path, lines in found.items() if lines} == {}
