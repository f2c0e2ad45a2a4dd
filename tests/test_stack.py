"""A supervisor that is killed takes its children along, and a start ends what it finds of the one before."""

import os
import signal
import subprocess
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest
from ops import stack as stacks
from ops.stack import Stack, orphans

from kind_echo.database.sessions import URL_VARIABLE
from tests.conftest import wait_until


@pytest.fixture
def installation(empty: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Stack]:
    """One of its own, beside the database of the test."""
    monkeypatch.setenv(URL_VARIABLE, empty)
    stack = Stack(tmp_path / "var")
    yield stack
    stack.stop()
    assert orphans(stack.var) == []


def _kill_supervisor(stack: Stack) -> None:
    os.kill(int((stack.var / "supervisord.pid").read_text()), signal.SIGKILL)


def test_a_supervisor_that_is_killed_takes_its_children_along_and_another_start_goes_on(installation: Stack) -> None:
    address = installation.start(demo=False)
    services = orphans(installation.var)
    assert len(services) >= 3  # supervisor, web server, a worker
    _kill_supervisor(installation)
    wait_until(lambda: orphans(installation.var) == [], 40, "the end of its children")
    assert installation.start(demo=False) == address  # at the same place, for nothing holds its port
    assert len(orphans(installation.var)) <= len(services)


def test_a_start_ends_what_does_not_end_by_itself(installation: Stack, monkeypatch: pytest.MonkeyPatch) -> None:
    """A program that takes no notice of its parent's death, nor of a request to end."""
    monkeypatch.setattr(stacks, "_ORPHAN_SECONDS", 3.0)
    mark = os.environ | {"KIND_ECHO_STACK": str(installation.var)}
    deaf = subprocess.Popen(["sh", "-c", "trap '' TERM; while :; do sleep 0.2; done"], env=mark, process_group=0)
    other = subprocess.Popen(["sleep", "60"], env=mark | {"KIND_ECHO_STACK": f"{installation.var}2"})
    try:
        assert deaf.pid in orphans(installation.var)
        installation.start(demo=False)
        assert deaf.wait(10) == -signal.SIGKILL
        assert other.poll() is None  # another installation's is left alone
    finally:
        other.kill()
        with suppress(ProcessLookupError):
            os.killpg(deaf.pid, signal.SIGKILL)


def test_the_link_is_printed_once_the_page_answers(
    installation: Stack, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    before: list[str] = []
    wait = Stack._wait_for_page

    def waiting(stack: Stack, address: str) -> None:
        before.append(capsys.readouterr().out)
        wait(stack, address)

    monkeypatch.setattr(Stack, "_wait_for_page", waiting)
    installation.start(demo=False)
    assert "sign-in#" not in before[0]
    assert "sign-in#" in capsys.readouterr().out
