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


_IN_STEPS = {
    "notices/sending.py",
    "rendering/remote.py",
    "rendering/requests.py",
    "rendering/steps.py",
    "sensitivity/finding.py",
    "storage/moving.py",
    "storage/retention.py",
}


def test_the_caller_owns_the_clock_and_the_transaction() -> None:
    """Jobs are callers too. Work that keeps each of its steps opens a transaction for each, and is named here."""
    bench = PROJECT / "src/kind_echo/bench"
    rules = {str(path.relative_to(bench)): path.read_text() for path in bench.rglob("*.py")}
    rules = {name: text for name, text in rules.items() if not name.startswith("jobs/")}
    assert [name for name, text in rules.items() if "datetime.now(" in text or "time.time(" in text] == []
    assert {name for name, text in rules.items() if "transaction()" in text} == _IN_STEPS
