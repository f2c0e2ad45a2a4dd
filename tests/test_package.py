"""The package as pip installs it: a wheel alone, with what its metadata name and no more, measures and compares."""

import json
import os
import re
import subprocess
import sys
import tomllib
import venv
import zipfile
from importlib.metadata import distribution
from pathlib import Path

import numpy as np
import pytest
import soundfile

from tests.conftest import PROJECT


@pytest.fixture(scope="module")
def wheel(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Built from the source distribution, which so must hold all that a wheel is made of."""
    folder = tmp_path_factory.mktemp("wheel")
    build = [sys.executable, "-m", "build", "--no-isolation", "--outdir", folder, PROJECT]
    subprocess.run(
        [str(part) for part in build], check=True, capture_output=True, env=os.environ | {"KIND_ECHO_QUICK_BUILD": "1"}
    )
    return next(folder.glob("*.whl"))


def _needed(requirements: list[str]) -> set[str]:
    """The distributions that requirements without an extra name, and all that those need in turn."""
    found: set[str] = set()
    waiting = [one for one in requirements if "extra ==" not in one]
    while waiting:
        name = re.split(r"[^\w.-]", waiting.pop())[0].lower().replace("_", "-")
        if name not in found:
            found.add(name)
            waiting += [one for one in distribution(name).requires or [] if ";" not in one]
    return found


def test_the_wheel_alone_compares_two_files(wheel: Path, tmp_path: Path) -> None:
    venv.create(tmp_path / "empty", with_pip=False)
    (packages,) = (tmp_path / "empty").glob("lib/python*/site-packages")
    with zipfile.ZipFile(wheel) as archive:
        names = archive.namelist()
        archive.extractall(packages)
        metadata = archive.read(next(name for name in names if name.endswith("/METADATA"))).decode()
    assert any(name.startswith("kind_echo/web/static/assets/") for name in names)  # a server needs no Node.js
    # The reference of the Python interface, and what reports are laid out with.
    assert {"kind_echo/reference/index.html", "kind_echo/bench/reports/report.html.jinja"} <= set(names)
    needed = _needed(re.findall(r"^Requires-Dist: (.*)$", metadata, re.MULTILINE))
    assert {"numpy", "soundfile"} <= needed
    assert not {"flask", "sqlalchemy", "psycopg"} & needed
    for name in needed:
        for file in distribution(name).files or []:
            top, source = packages / file.parts[0], Path(str(distribution(name).locate_file(file.parts[0])))
            if file.parts[0] != ".." and not top.exists():
                top.symlink_to(source)
    tone = 0.25 * np.sin(2 * np.pi * 997 * np.arange(48_000) / 48_000)
    noise = 0.05 * np.random.default_rng(3).standard_normal(48_000)
    soundfile.write(tmp_path / "reference.wav", tone + noise, 48_000, "FLOAT")
    soundfile.write(tmp_path / "render.wav", 0.5 * (tone + noise), 48_000, "FLOAT")
    run = [tmp_path / "empty/bin/python", "-I", "-c", "from kind_echo.cli.main import main; main()"]
    done = subprocess.run(
        [*run, "compare", "reference.wav", "render.wav", "--json"],  # type: ignore[list-item]
        cwd=tmp_path, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    (cause,) = json.loads(done.stdout)["causes"]
    assert cause["cause"] == "gain"
    assert cause["amount"] == pytest.approx(-6.02, abs=0.01)
    for words, status, told in (
        (["--help"], 0, "compare"),
        (["run", "--json", "plan", "1.0"], 2, "kind-echo[server]"),
        (["serve"], 2, "kind-echo[server]"),
        (["worker"], 2, "kind-echo[render]"),
    ):
        done = subprocess.run([*run, *words], cwd=tmp_path, capture_output=True, text=True, check=False)  # type: ignore[list-item]
        assert done.returncode == status, (words, done.stderr)
        assert told in done.stdout + done.stderr
        assert "Traceback" not in done.stderr


def test_the_lock_files_hold_all_that_the_metadata_name() -> None:
    metadata = tomllib.loads((PROJECT / "pyproject.toml").read_text())
    project = metadata["project"]
    extras = project["optional-dependencies"]
    for lock, kinds in (("runtime", ("render", "server", "demo")), ("dev", ("render", "server", "demo", "dev"))):
        pinned = set(re.findall(r"^([\w.-]+)==", (PROJECT / f"requirements/{lock}.txt").read_text(), re.MULTILINE))
        wanted = [
            *project["dependencies"],
            *metadata["build-system"]["requires"],
            *(one for k in kinds for one in extras[k]),
        ]
        names = {re.split(r"[^\w.-]", one)[0] for one in wanted} - {"kind-echo"}
        assert names <= pinned


_LACKING = """
import sys
class Lacking:
    def find_spec(self, name, path=None, target=None):
        if name.partition(".")[0] in LACKING:
            raise ModuleNotFoundError(name)
sys.meta_path.insert(0, Lacking())
from kind_echo.cli.main import main
sys.argv = ["kind-echo", *sys.argv[1:]]
main()
"""


def _without(lacking: set[str], *words: object, folder: Path) -> "subprocess.CompletedProcess[str]":
    """Run the command line in a process that cannot import some modules."""
    code = f"LACKING = {sorted(lacking)}\n{_LACKING}"
    return subprocess.run(
        [sys.executable, "-c", code, *map(str, words)], cwd=folder, capture_output=True, text=True, check=False,
        env={"KIND_ECHO_TOKEN": "kindecho_none"},
    )  # fmt: skip


def test_a_render_machine_needs_no_database_and_no_web_server(tmp_path: Path) -> None:
    """Everything is loaded up to where it says that it has no such renderer; without a server it says what it lacks."""
    for words, told in (
        (["--server", "http://127.0.0.1:9", "--renderer", "none such"], "has no renderer none such; it has "),
        ([], "kind-echo[server]"),
    ):
        done = _without(
            {"sqlalchemy", "flask", "procrastinate", "psycopg", "alembic", "uvicorn"},
            "worker",
            *words,
            folder=tmp_path,
        )
        assert done.returncode == 2, done.stderr
        assert told in done.stderr
        assert "Traceback" not in done.stderr


def test_files_are_measured_and_a_render_machine_starts_without_what_only_posix_has(tmp_path: Path) -> None:
    only_posix = {"resource", "fcntl", "pwd", "grp", "termios", "pty", "tty"}
    rng = np.random.default_rng(1)
    samples = rng.standard_normal((48_000, 2)) * 0.1
    for name, gain in (("a", 1.0), ("b", 0.5)):
        soundfile.write(tmp_path / f"{name}.wav", gain * samples, 48_000, subtype="FLOAT")
    done = _without(only_posix, "compare", tmp_path / "a.wav", tmp_path / "b.wav", "--json", folder=tmp_path)
    assert done.returncode == 0, done.stderr
    (cause,) = json.loads(done.stdout)["causes"]
    assert cause["amount"] == pytest.approx(-6.02, abs=0.01)
    done = _without(only_posix, "worker", "--server", "http://127.0.0.1:9", "--renderer", "none such", folder=tmp_path)
    assert done.returncode == 2, done.stderr
    assert "has no renderer none such; it has " in done.stderr
