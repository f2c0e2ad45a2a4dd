"""What hosting a plug-in costs beside the plug-in's own processing: a minute of sound in blocks of 512 frames.

python -m benchmarks.hosting [PLUGIN ...]; without one, plug-ins of Debian's that were fetched, in three standards.

The plug-in's own processing is the time that each call of it takes, added up within its process. Beside it stands the
whole render, as a worker makes it: a process is begun, the plug-in loaded, the sound read, run through, and written.
The time to start is that of the same render of a tenth of a second.
"""

import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile
from ops.stack import PROJECT

from kind_echo.renderers.plugins.hosting import PluginOutcome, PluginRun, describe, run_plugin

_RATE, _SECONDS, _BLOCK = 48_000, 60.0, 512
_TURNS = 3


def report(paths: list[Path]) -> list[str]:
    """The figures, a line each."""
    lines = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for path in paths:
            about = next(one for one in describe(path) if one.channels)
            for seconds, file in ((0.1, "short.wav"), (_SECONDS, "long.wav")):
                noise = np.random.default_rng(0).uniform(-0.3, 0.3, (round(seconds * _RATE), about.channels[0]))
                soundfile.write(folder / file, noise.astype(np.float32), _RATE, subtype="FLOAT")
            start = min(_timed(path, folder / "short.wav", about.id)[0] for _ in range(_TURNS))
            whole, ran = min((_timed(path, folder / "long.wav", about.id) for _ in range(_TURNS)), key=lambda t: t[0])
            beside = whole - start - ran.seconds
            lines.append(
                f"{path.name}: {(whole - start) / ran.seconds:.2f} x its own processing for {_SECONDS:g} s "
                f"({ran.seconds:.2f} s of its own, {beside:.2f} s beside), {start:.2f} s to start"
            )
    return lines


def _timed(path: Path, source: Path, plugin_id: str) -> tuple[float, PluginOutcome]:
    with tempfile.TemporaryDirectory() as folder:
        begun = time.perf_counter()
        ran = run_plugin(path, source, Path(folder) / "out.wav", PluginRun(plugin_id, {}, _BLOCK), Path(folder))
        return time.perf_counter() - begun, ran


if __name__ == "__main__":
    fetched = PROJECT / ".plug-ins"
    usual = [
        fetched / key / f"{stem}.{key}" for stem in ("ZamTube", "ZaMultiCompX2") for key in ("clap", "vst3", "lv2")
    ]
    print("\n".join(report([Path(one) for one in sys.argv[1:]] or usual)))
