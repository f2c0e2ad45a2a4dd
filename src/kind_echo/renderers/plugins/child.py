"""The program in which a plug-in is hosted: python -m kind_echo.renderers.plugins.child ASKED.json TOLD.json

It does what the first file asks for and writes what came of it into the second; what goes wrong ends it with status 1
and one line. Where the system can hold it to that, it writes nowhere but beside the second file and where it is told
to. It leaves without unloading the plug-in: some crash over that, and their audio is as good.
"""

import json
import os
import sys
import time
from dataclasses import asdict
from pathlib import Path

import soundfile

from kind_echo.renderers.contract import Values
from kind_echo.renderers.plugins.confined import confine_writes
from kind_echo.renderers.plugins.model import Block, Change, HostFailed, Instance, Library, Setup, open_named
from kind_echo.renderers.plugins.motion import motions
from kind_echo.renderers.plugins.protocol import RenderAsked
from kind_echo.renderers.plugins.running import Blocks, Course, run_file
from kind_echo.renderers.plugins.standards import standard_named


def main(asked: str, told: str) -> int:
    """Describe all plug-ins of a file, or render with one; the status to leave with."""
    request = json.loads(Path(asked).read_text("utf-8"))
    written = [Path(request[name]) for name in ("output", "save") if request.get(name)]
    confine_writes(Path(told).parent, written)
    try:
        begun = time.perf_counter()
        path = Path(request["path"])
        library = standard_named(request["standard"]).load(path)
        answer = _render(library, path, request, begun) if "input" in request else _describe(library)
    except HostFailed as error:
        print(error, file=sys.stderr, flush=True)
        return 1
    Path(told).write_text(json.dumps(answer), "utf-8")
    return 0


def _describe(library: Library) -> dict[str, object]:
    return {"plugins": [asdict(library.open(plugin_id).about()) for plugin_id in library.ids()]}


def _render(library: Library, path: Path, request: RenderAsked, begun: float) -> dict[str, object]:
    info = soundfile.info(request["input"])
    blocks = Blocks(request["block"], request["seed"])
    setup = Setup(info.samplerate, blocks.size, info.channels, request["offline"], request["double"])
    instance = open_named(library, path, request["id"])
    if request["state"]:
        instance.load_state(Path(request["state"]).read_bytes())
    courses = tuple(motions(instance, request["values"], setup.rate))
    beside = None
    if request["beside"] is not None:
        beside = _Beside(library.open(instance.id), setup, request["beside"])
    course = Course(
        blocks, courses, request["tail"], request["compensate"], request["paced"], request["twice"],
        None if beside is None else beside.take,
    )  # fmt: skip
    instance.start(setup)
    loaded = time.perf_counter() - begun
    outcome = run_file(instance, Path(request["input"]), Path(request["output"]), setup, course)
    if request["save"]:
        Path(request["save"]).write_bytes(instance.save_state())
    return {**asdict(outcome), "loaded": loaded}


class _Beside:
    """Another instance in the same process, set otherwise, that is run along: it must change nothing of the first."""

    def __init__(self, instance: Instance, setup: Setup, values: Values) -> None:
        self._instance = instance
        instance.start(setup)
        self._changes = [(course.key, course.value(0)) for course in motions(instance, values, setup.rate)]

    def take(self, block: Block) -> None:
        """Run a block through it."""
        self._instance.process(block.copy(), [Change(0, key, value) for key, value in self._changes])
        self._changes = []


if __name__ == "__main__":
    status = main(*sys.argv[1:])
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(status)
