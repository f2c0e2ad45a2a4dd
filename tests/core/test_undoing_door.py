"""What looks for a change is loaded when it is first looked for."""

import subprocess
import sys

import pytest

from kind_echo.core import undoing


@pytest.mark.parametrize("name", undoing.__all__)
def test_all_that_is_offered_is_there(name: str) -> None:
    assert callable(getattr(undoing, name))


def test_nothing_else_is_offered() -> None:
    with pytest.raises(AttributeError, match="has no attribute find_nothing"):
        undoing.find_nothing  # noqa: B018


def test_no_finder_is_loaded_before_it_is_asked_for() -> None:
    code = (
        "import sys; import kind_echo.core.comparison.further; "
        "print([name for name in sys.modules if name.startswith('kind_echo.core.undoing.')])"
    )
    said = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    assert said.strip() == "['kind_echo.core.undoing.undone']"
