"""An import goes only downwards."""

import subprocess

from tests.conftest import BIN, PROJECT


def test_the_import_contract_holds() -> None:
    done = subprocess.run([BIN / "lint-imports", "--no-logo"], cwd=PROJECT, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout
