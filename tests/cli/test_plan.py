"""Plans on the command line: templates, files that are checked and kept, and text that comes back the same."""

import subprocess
from pathlib import Path

import pytest

from kind_echo.database.sessions import URL_VARIABLE
from tests.conftest import kind_echo


def _plan(demo: str, *arguments: str | Path) -> subprocess.CompletedProcess[str]:
    return kind_echo("plan", *arguments, **{URL_VARIABLE: demo})  # type: ignore[arg-type]


def test_a_template_is_written_kept_changed_and_written_out_again(demo: str, tmp_path: Path) -> None:
    file = tmp_path / "plan.yaml"
    made = _plan(demo, "template", "latency", "Holdfast")
    assert made.returncode == 0, made.stderr
    file.write_text(made.stdout)
    assert "cells" in _plan(demo, "check", file).stdout
    assert _plan(demo, "keep", file, "--who", "Nora F.").stdout.endswith("revision 1\n")
    assert _plan(demo, "keep", file).stdout.endswith("revision 1\n")
    title = "Latency claimed against measured"
    assert _plan(demo, "write", "Holdfast", title).stdout == made.stdout
    file.write_text(made.stdout.replace("48000", "88200", 1))
    assert "condition added" in _plan(demo, "check", file).stdout
    assert _plan(demo, "keep", file).stdout.endswith("revision 2\n")


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("write", "Holdfast", "Nothing"), "There is no plan Nothing of Holdfast"),
        (("template", "null", "Nothing"), "There is no effect Nothing"),
        (("template", "hum", "Skerry"), "is not one of"),
        (("check", "missing.yaml"), "does not exist"),
    ],
)
def test_what_is_not_there_is_said_in_a_line(seen: str, arguments: tuple[str, ...], words: str) -> None:
    done = _plan(seen, *arguments)
    assert (done.returncode, done.stdout) == (2, "")
    assert words in done.stderr
    assert len(done.stderr.splitlines()) == 1


def test_a_file_that_is_no_plan_is_refused_with_its_place(seen: str, tmp_path: Path) -> None:
    (tmp_path / "plan.yaml").write_text("plan: [")
    done = _plan(seen, "keep", tmp_path / "plan.yaml")
    assert (done.returncode, done.stdout) == (2, "")
    assert "The plan cannot be used: line 1" in done.stderr
