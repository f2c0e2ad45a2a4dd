"""A hundred files of 30 s in one table: by the command line, and as a set on a server, beside the bare computation.

`python -m benchmarks.sets [FILES]`: bare are two processes that read each file and compare it with the reference, and
do nothing else. A server shows more of each pair than the comparison: its spectra and waveforms, the levels of what is
left, and the places to look at first. Bare with these, two processes compute them too; what is left over is the
server's own part.
"""

import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from functools import partial
from multiprocessing import Pool
from pathlib import Path

import numpy as np
import soundfile
from ops.stack import PROJECT

from benchmarks.runs import own_database, workers

FILES = 100
SECONDS = 30
_RATE = 48_000
_BIN = PROJECT / ".venv" / "bin"


def report(files: int = FILES) -> list[str]:
    """The figures, a line each."""
    with tempfile.TemporaryDirectory(prefix="kind-echo-sets-") as folder:
        paths = _write(Path(folder), files)
        bare, whole = _bare(paths, _compare), _bare(paths, _compare_and_describe)
        begun = time.perf_counter()
        command = [str(_BIN / "kind-echo"), "compare", str(paths[0]), *map(str, paths), "--each", "--json"]
        subprocess.run(command, check=True, capture_output=True)
        table = time.perf_counter() - begun
        with own_database(), workers():
            kept, measured = _as_set(paths)
    what = f"{files} files of {SECONDS} s, stereo, against one of them"
    return [
        f"{what}, compare --each: {table / bare:.2f} × the bare computation ({bare:.1f} s)",
        f"the same as a set on a server, two workers: {measured / whole:.2f} × the bare computation of all it keeps "
        f"({whole:.1f} s), {measured / bare:.2f} × that of the comparison alone; {kept / files:.2f} s to keep a file",
    ]


def _write(folder: Path, files: int) -> list[Path]:
    """Noise as the reference, and renders that are each a little softer, later and noisier."""
    rng = np.random.default_rng(1)
    given = rng.standard_normal((SECONDS * _RATE, 2)) * 0.1
    paths = []
    for number in range(files):
        path = folder / f"{number:03}.wav"
        late = np.concatenate([np.zeros((number, 2)), given])[: len(given)]
        soundfile.write(path, late * (1 - 0.002 * number), _RATE, subtype="PCM_24")
        paths.append(path)
    return paths


def _bare(paths: Sequence[Path], compute: Callable[[Path, Path], object]) -> float:
    """Seconds that two processes take which are there already."""
    with Pool(2) as pool:
        pool.map(partial(compute, paths[0]), paths[:2], chunksize=1)  # all is loaded
        begun = time.perf_counter()
        pool.map(partial(compute, paths[0]), paths, chunksize=1)
        return time.perf_counter() - begun


def _compare(reference: Path, path: Path) -> None:
    from kind_echo.audio_io.files import AudioFile
    from kind_echo.core.comparison.compare import compare

    with AudioFile(reference) as first, AudioFile(path) as render:
        compare(first, render)


def _compare_and_describe(reference: Path, path: Path) -> None:
    """What a server keeps of a pair; of the reference by itself it is found once, and left out here."""
    from kind_echo.audio_io.files import AudioFile
    from kind_echo.core.audio.align import AlignedSource, DifferenceSource
    from kind_echo.core.audio.peaks import build_levels
    from kind_echo.core.audio.source import in_memory
    from kind_echo.core.audio.spectrum import level_spectrum
    from kind_echo.core.comparison.compare import compare
    from kind_echo.core.comparison.places import find_places
    from kind_echo.core.levels.analysis import measure

    with AudioFile(reference) as first, AudioFile(path) as second:
        given, render = in_memory(first), in_memory(second)
        found = compare(given, render)
        aligned = AlignedSource(render, given.frames, found.alignment)
        left = in_memory(DifferenceSource(given, aligned))
        for side in (aligned, left):
            level_spectrum(side, 0, side.frames)
            build_levels(side)
        measure(left)
        find_places(given, render, found, 100)


def _as_set(paths: Sequence[Path]) -> tuple[float, float]:
    """Seconds to keep the files, and then from naming the reference until all are compared."""
    from kind_echo.bench.sets import NewFile, SetOptions, add_files, change_options, find_set, new_set
    from kind_echo.bench.signals import keep_upload
    from kind_echo.database.sessions import transaction

    now = datetime.now(UTC)
    begun = time.perf_counter()
    with transaction() as session:
        number = new_set(session, "Many", SetOptions(), who="Benchmark", now=now).id
    uploads = []
    for path in paths:
        with transaction() as session:
            uploads.append(keep_upload(session, path, path.name, who="Benchmark", now=now).id)
    kept = time.perf_counter() - begun
    with transaction() as session:
        add_files(session, find_set(session, number), [NewFile(upload) for upload in uploads])
    _wait(number)
    begun = time.perf_counter()
    with transaction() as session:
        found = find_set(session, number)
        change_options(session, found, SetOptions(), {found.files[0].id: "reference"})
    _wait(number)
    return kept, time.perf_counter() - begun


def _wait(number: int) -> None:
    from kind_echo.bench.sets import find_set
    from kind_echo.database.sessions import transaction

    while True:
        with transaction() as session:
            states = {file.state for file in find_set(session, number).files}
        if "failed" in states:
            raise SystemExit("A file could not be measured.")
        if states == {"done"}:
            return
        time.sleep(0.2)


if __name__ == "__main__":
    for line in report(int(sys.argv[1]) if len(sys.argv) > 1 else FILES):
        print(line, flush=True)
