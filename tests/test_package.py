"""The package as pip installs it: a wheel alone, with what its metadata name and no more, measures and compares."""

import json
import re
import subprocess
import sys
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
    folder = tmp_path_factory.mktemp("wheel")
    told = ["-q", "--no-deps", "--no-build-isolation", "--disable-pip-version-check"]
    subprocess.run([sys.executable, "-m", "pip", "wheel", PROJECT, *told, "-w", folder], check=True)
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
    needed = _needed(re.findall(r"^Requires-Dist: (.*)$", metadata, re.MULTILINE))
    assert {"numpy", "soundfile"} <= needed
    assert not {"flask", "sqlalchemy", "numba", "psycopg"} & needed
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
        [*run, "compare", "reference.wav", "render.wav", "--json"],
        cwd=tmp_path, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    (cause,) = json.loads(done.stdout)["causes"]
    assert cause["cause"] == "gain"
    assert cause["amount"] == pytest.approx(-6.02, abs=0.01)


_ON_A_RENDER_MACHINE = """
import sys
class Lacking:
    def find_spec(self, name, path=None, target=None):
        if name.partition(".")[0] in {"sqlalchemy", "flask", "procrastinate", "psycopg", "alembic", "gunicorn"}:
            raise ModuleNotFoundError(name)
sys.meta_path.insert(0, Lacking())
from kind_echo.cli.main import main
sys.argv = ["kind-echo", "worker", "--server", "http://127.0.0.1:9", "--renderer", "none such"]
main()
"""


def test_a_render_machine_needs_no_database_and_no_web_server(tmp_path: Path) -> None:
    """Everything is loaded up to where it says that it has no such renderer."""
    done = subprocess.run(
        [sys.executable, "-c", _ON_A_RENDER_MACHINE], cwd=tmp_path, capture_output=True, text=True, check=False,
        env={"KIND_ECHO_TOKEN": "kindecho_none"},
    )  # fmt: skip
    assert done.returncode == 2, done.stderr
    assert "this machine has no renderer none such; it has " in done.stderr
