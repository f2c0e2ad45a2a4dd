"""A plug-in writes nowhere but into the folder of its own render, where the system can hold it to that."""

import subprocess
import sys
from pathlib import Path

import pytest
import soundfile

from kind_echo.renderers.contract import RenderFailed
from kind_echo.renderers.plugins.hosting import PluginRun, describe, run_plugin
from tests.renderers.plugins import NOISE, R, build_clap

_ASKED = "from pathlib import Path; from kind_echo.renderers.plugins.confined import confine_writes as c"
_CAN = subprocess.run([sys.executable, "-c", f"{_ASKED}; raise SystemExit(not c(Path('/tmp')))"], check=False)
pytestmark = pytest.mark.skipif(_CAN.returncode != 0, reason="this system has no Landlock")


def _rendered(tmp_path: Path, writes_to: Path | str) -> tuple[str, Path]:
    """What a plug-in that writes a file prints, and the folder of its render."""
    for name in ("build", "work"):
        (tmp_path / name).mkdir()
    path = build_clap(tmp_path / "build", f'-DWRITES_TO="{writes_to}"')
    sound = tmp_path / "in.wav"
    soundfile.write(sound, NOISE, R, subtype="FLOAT")
    ran = run_plugin(path, sound, tmp_path / "out.wav", PluginRun("test.gain", {}, 256), tmp_path / "work")
    assert soundfile.info(tmp_path / "out.wav").frames == len(NOISE)  # where it was told to, it can write
    return ran.finished.log, tmp_path / "work"


@pytest.mark.parametrize("present", [False, True])
def test_it_cannot_write_elsewhere(present: bool, tmp_path: Path) -> None:
    other = tmp_path / "of somebody else.txt"
    if present:
        other.write_text("all of it")
    log, _ = _rendered(tmp_path, other)
    assert "it was refused" in log
    assert (other.read_text() == "all of it") if present else not other.exists()


def test_it_can_write_into_its_own_folder(tmp_path: Path) -> None:
    log, work = _rendered(tmp_path, "a file of its own.txt")
    assert "it was written" in log
    assert (work / "a file of its own.txt").exists()


def test_it_is_held_where_it_is_only_described(tmp_path: Path) -> None:
    other = tmp_path / "other.txt"
    (tmp_path / "build").mkdir()
    path = build_clap(tmp_path / "build", f'-DWRITES_TO="{other}"')
    assert describe(path)
    assert not other.exists()


def test_a_render_that_fails_leaves_no_file_where_none_was(tmp_path: Path) -> None:
    (tmp_path / "build").mkdir()
    path, sound = build_clap(tmp_path / "build"), tmp_path / "in.wav"
    soundfile.write(sound, NOISE, R, subtype="FLOAT")
    with pytest.raises(RenderFailed):
        run_plugin(path, sound, tmp_path / "out.wav", PluginRun("test.gain", {"Gain": 99.0}, 256), tmp_path / "build")
    assert not (tmp_path / "out.wav").exists()
    with pytest.raises(RenderFailed, match="cannot be written"):
        run_plugin(path, sound, tmp_path / "no" / "out.wav", PluginRun("test.gain", {}, 256), tmp_path / "build")
