"""`kind-echo check` on two folders beside the bare computation, and again where nothing changed.

By itself: python -m benchmarks.check_folders [PAIRS]
"""

import compileall
import multiprocessing
import os
import sys
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np
import soundfile
from ops.stack import PROJECT

from benchmarks.compare_files import seconds_of
from kind_echo.checks.measuring import measure_pair
from kind_echo.checks.pairing import Pair, pair_folders

_BIN = PROJECT / ".venv" / "bin"
_RATE, _SECONDS, _USUAL_PAIRS = 48_000, 10, 40


def write_folders(folder: Path, pairs: int) -> tuple[Path, Path]:
    """Pairs of stereo float files: noise, and the same up to 6 samples late, 0 to 0.5 dB down, noise 80 dB down."""
    sides = folder / "references", folder / "renders"
    for side in sides:
        side.mkdir()
    rng = np.random.default_rng(1)
    for i in range(pairs):
        sound = 0.1 * rng.standard_normal((_RATE * _SECONDS, 2))
        late = np.concatenate([np.zeros((i % 7, 2)), sound[: len(sound) - i % 7]])
        render = late * 10 ** (-0.1 * (i % 6) / 20) + 1e-5 * rng.standard_normal(sound.shape)
        for side, samples in zip(sides, (sound, render), strict=True):
            soundfile.write(side / f"{i:04d}.wav", samples, _RATE, subtype="FLOAT")
    return sides


def measure(pair: Pair) -> None:
    """The computation by itself."""
    measure_pair(pair, ["one", "other"], resample=False)


def _bare(pairs: list[Pair]) -> float:
    begin = time.perf_counter()
    cores = os.cpu_count() or 1
    with ProcessPoolExecutor(cores, mp_context=multiprocessing.get_context("spawn")) as pool:
        list(pool.map(measure, pairs))
    return time.perf_counter() - begin


def report(folder: Path, pairs: int = _USUAL_PAIRS) -> list[str]:
    """The figures, a line each."""
    compileall.compile_dir(PROJECT / "src", quiet=1)
    references, renders = write_folders(folder, pairs)
    command: list[str | Path] = [_BIN / "kind-echo", "check", references, renders, "--json", "--fail-on", "waiting"]
    bare = min(_bare(pair_folders(references, renders).pairs) for _ in range(2))
    whole = seconds_of([*command, "--fresh"])
    known: list[str | Path] = [*command, "--known", folder / "known.sqlite"]
    seconds_of(known)
    again = seconds_of(known)
    return [
        f"check of {pairs} pairs of {_SECONDS} s: {whole / bare:.2f} × the bare computation on as many cores",
        f"the same again, nothing changed: {whole / again:.0f} times as fast",
    ]


if __name__ == "__main__":
    with tempfile.TemporaryDirectory(prefix="kind-echo-") as kept:
        for line in report(Path(kept), *(int(given) for given in sys.argv[1:2])):
            print(line, flush=True)
