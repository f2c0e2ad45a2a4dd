"""The program in which a plug-in is hosted: python -m kind_echo.renderers.clap.child ASKED.json TOLD.json

It does what the first file asks for and writes what came of it into the second; what goes wrong ends it with status 1
and one line. It leaves without unloading the plug-in: some crash over that, and their audio is as good.
"""

import itertools
import json
import os
import sys
import time
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from kind_echo.renderers.clap.hosting import HostFailed, Library, Plugin


def main(asked: str, told: str) -> int:
    """Describe all plug-ins of a file, or render with one; the status to leave with."""
    request = json.loads(Path(asked).read_text("utf-8"))
    try:
        library = Library(Path(request["path"]))
        answer = _render(library, request) if "input" in request else _describe(library)
    except HostFailed as error:
        print(error, file=sys.stderr, flush=True)
        return 1
    Path(told).write_text(json.dumps(answer), "utf-8")
    return 0


def _describe(library: Library) -> dict[str, Any]:
    return {"plugins": [asdict(library.open(plugin_id).about()) for plugin_id in library.ids()]}


def _render(library: Library, request: dict[str, Any]) -> dict[str, Any]:
    samples, rate = soundfile.read(request["input"], dtype="float32", always_2d=True)
    plugin = library.open(request["id"])
    if request["state"]:
        plugin.load_state(Path(request["state"]).read_bytes())
    begun = time.perf_counter()
    out, latency = plugin.process(
        samples, rate, _blocks(request["blocks"], len(samples)), request["values"], offline=request["offline"]
    )
    seconds = time.perf_counter() - begun
    soundfile.write(request["output"], out, rate, subtype="FLOAT")
    return {"latency": latency, "seconds": seconds, "state": _kept(plugin, request["save"])}


def _blocks(asked: dict[str, int], frames: int) -> list[int]:
    """Sizes of blocks: all alike, or drawn from 1 to the greatest by a seed, as many as the signal takes at most."""
    if not asked.get("seed"):
        return [asked["size"]]
    drawn = np.random.default_rng(asked["seed"]).integers(1, asked["size"] + 1, max(1, frames))
    needed = int(np.searchsorted(np.cumsum(drawn), frames)) + 1
    return list(itertools.islice((int(size) for size in drawn), needed))


def _kept(plugin: Plugin, path: str) -> bool:
    if path:
        Path(path).write_bytes(plugin.save_state())
    return bool(path)


if __name__ == "__main__":
    status = main(*sys.argv[1:])
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(status)
