"""Plug-ins to test with: those of our own in C, and real ones of Debian's that were fetched but not installed."""

import subprocess
from functools import cache
from pathlib import Path

import numpy as np
import pytest
import soundfile

from kind_echo.renderers.plugins.formats import clap_abi
from kind_echo.renderers.plugins.hosting import PluginOutcome, PluginRun, run_plugin
from tests.conftest import PROJECT

FETCHED = PROJECT / ".plug-ins"
STANDARDS = ("clap", "vst3", "lv2")
R = 48_000
NOISE = np.random.default_rng(1).uniform(-0.5, 0.5, (R // 2, 2)).astype(np.float32)

needs_fetched = pytest.mark.skipif(
    not (FETCHED / "stamp").exists(),
    reason="no plug-ins of Debian's packages could be fetched",
)


def build_clap(folder: Path, *options: str) -> Path:
    """The plug-ins of `plugin.c`, built into a folder; with -DALONE the first of them."""
    (folder / "abi.h").write_text(clap_abi.DECLARATIONS)
    source = PROJECT / "tests" / "renderers" / "plugin.c"
    made = ["-o", str(folder / "gain.clap"), str(source), "-lm"]
    command = ["gcc", "-shared", "-fPIC", "-O1", f"-I{folder}", *options, *made]
    subprocess.run(command, check=True, capture_output=True)
    return folder / "gain.clap"


@cache
def fetched_stems() -> tuple[str, ...]:
    """The plug-ins that were fetched in all three standards, by name."""
    stems = [{path.stem for path in (FETCHED / key).glob(f"*.{key}")} for key in STANDARDS]
    return tuple(sorted(set.intersection(*stems)))


def run(path: Path, sound: Path, asked: PluginRun) -> tuple[np.ndarray, PluginOutcome]:
    """What comes out of a plug-in for a sound."""
    target = sound.with_name("out.wav")
    ran = run_plugin(path, sound, target, asked, sound.parent)
    return soundfile.read(target, dtype="float32", always_2d=True)[0], ran
