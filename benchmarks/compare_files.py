"""`kind-echo compare` as a whole process: beside ffmpeg, beside a plain script, over length, and its memory.

As installed by pip, which compiles the modules to bytecode.
"""

import compileall
import resource
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import soundfile
from ops.stack import PROJECT

_BIN = PROJECT / ".venv" / "bin"
_RATE = 96_000
_REPEATS = 3


def write_pair(folder: Path, seconds: int) -> tuple[Path, Path]:
    """A pair of stereo float files: noise, and the same 17 samples late, 0.2 dB down, with noise 60 dB down."""
    paths = folder / f"reference-{seconds}.wav", folder / f"render-{seconds}.wav"
    rng = np.random.default_rng(1)
    files = [soundfile.SoundFile(path, "w", _RATE, 2, "FLOAT") for path in paths]
    late = np.zeros((17, 2))
    for _ in range(seconds):
        block = rng.standard_normal((_RATE, 2)) * 0.1
        delayed = np.concatenate([late, block])
        late = delayed[_RATE:]
        files[0].write(block)
        files[1].write(delayed[:_RATE] * 0.977 + rng.standard_normal((_RATE, 2)) * 1e-4)
    for file in files:
        file.close()
    return paths


def seconds_of(*commands: list[str | Path]) -> float:
    """Least wall time, of three, of commands one after the other."""
    best = float("inf")
    for _ in range(_REPEATS):
        begin = time.perf_counter()
        for command in commands:
            subprocess.run([str(part) for part in command], check=True, capture_output=True)
        best = min(best, time.perf_counter() - begin)
    return best


def memory_of(command: list[str | Path]) -> float:
    """Greatest resident memory of a command, in MB."""
    script = (
        "import resource, subprocess, sys; subprocess.run(sys.argv[1:], check=True, stdout=subprocess.DEVNULL);"
        "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
    )
    done = subprocess.run(
        [sys.executable, "-c", script, *map(str, command)], check=True, capture_output=True, text=True
    )
    return int(done.stdout) * resource.getpagesize() / 4096 / 1000


def report(folder: Path, *, hour: bool) -> list[str]:
    """The figures, a line each."""
    compileall.compile_dir(PROJECT / "src", quiet=1)
    pair = write_pair(folder, 60)
    ours: list[str | Path] = [_BIN / "kind-echo", "compare", *pair, "--json"]
    meter = [["ffmpeg", "-nostats", "-i", path, "-af", "ebur128=peak=true", "-f", "null", "-"] for path in pair]
    script: list[str | Path] = [_BIN / "python", PROJECT / "benchmarks/plain_compare.py", *pair]
    whole, yardstick, plain = seconds_of(ours), seconds_of(*meter), seconds_of(script)  # type: ignore[arg-type]
    half = write_pair(folder, 30)
    shorter = seconds_of([_BIN / "kind-echo", "compare", *half, "--json"])
    fold = seconds_of([_BIN / "kind-echo", "fold", "1000", "--rate", "48000"])
    brief = write_pair(folder, 1)
    second = seconds_of([_BIN / "kind-echo", "compare", *brief, "--json"])
    lines = [
        f"compare of a 60 s, 96 kHz, stereo float pair: {whole / yardstick:.2f} × the time of ffmpeg ebur128 for both",
        f"the same beside the plain script: {plain / whole:.1f} times as fast",
        f"60 s beside 30 s: {whole / shorter:.2f} × the time",
        f"a command that needs no samples, beside compare of 60 s: {fold / whole:.2f} × the time ({fold:.2f} s)",
        f"compare of one second, beside 60 s: {second / whole:.2f} × the time ({second:.2f} s)",
        f"memory of compare, 60 s pair: {memory_of(ours):.0f} MB",
    ]
    if hour:
        long = write_pair(folder, 3600)
        lines.append(f"memory of measure, one hour: {memory_of([_BIN / 'kind-echo', 'measure', long[0]]):.0f} MB")
        lines.append(f"memory of compare, one-hour pair: {memory_of([_BIN / 'kind-echo', 'compare', *long]):.0f} MB")
    return lines
