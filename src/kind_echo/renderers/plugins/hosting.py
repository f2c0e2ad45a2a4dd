"""Plug-ins described and run, each in a process of its own, with limits of time and memory."""

import json
import os
import sys
import tempfile
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import soundfile

from kind_echo.renderers.contract import RenderFailed
from kind_echo.renderers.plugins.model import HostFailed, PluginAbout, PluginParameter
from kind_echo.renderers.plugins.protocol import DescribeAsked, RenderAsked
from kind_echo.renderers.plugins.running import BlockTimes
from kind_echo.renderers.plugins.standards import Standard, standard_of
from kind_echo.renderers.process import Finished, Limits, run_limited

MOST_BLOCK = 1 << 16
_TIMES_ITS_LENGTH = 3.0
_DESCRIBING = Limits(seconds=30.0, memory=4096)
_RENDERING = Limits(seconds=300.0, memory=4096)


@dataclass(frozen=True)
class PluginRun:
    """How a plug-in is to be run.

    Attributes:
        id: of the plug-in, where its file holds several.
        values: of parameters by name: a number, a text that the plug-in reads, or a course: times in seconds
            `at` which it takes `values`, and whether it is a `ramp` between them.
        block: frames that it is given at a time; with a seed, as many at most, from 1 on, drawn by it.
        double: with samples of 64 bits.
        state: a file with a state to begin from; None for the plug-in's own.
        save: a file to keep its state in afterwards; None for nowhere.
        tail: frames to render beyond the end of the signal.
        compensate: take its latency off what comes out.
        paced: run by the clock.
        twice: run all once before, and reset it.
        beside: values of another instance that is run along; None for none.
    """

    id: str
    values: Mapping[str, Any]
    block: int
    seed: int = 0
    offline: bool = True
    double: bool = False
    state: Path | None = None
    save: Path | None = None
    tail: int = 0
    compensate: bool = False
    paced: bool = False
    twice: bool = False
    beside: Mapping[str, Any] | None = None


@dataclass(frozen=True)
class PluginOutcome:
    """What came of that.

    Attributes:
        latency, tail: as the plug-in tells them, in frames; of the tail None where it does not.
        taken_off: the latency was, from what came out.
        wrote_input: it changed samples that it was only to read; None where that cannot be told.
        seconds: in the plug-in.
        loaded: seconds until it was there.
        finished: what its process took and printed.
    """

    latency: int
    taken_off: bool
    tail: int | None
    wrote_input: bool | None
    seconds: float
    loaded: float
    times: BlockTimes
    finished: Finished = field(repr=False)


def describe(path: Path) -> list[PluginAbout]:
    """The plug-ins in a file. Raises RenderFailed."""
    standard = _standard(path)
    with tempfile.TemporaryDirectory(prefix="kind-echo-plugin-") as folder:
        asked: DescribeAsked = {"path": str(path.absolute()), "standard": standard.key}
        told, _ = _child(asked, Path(folder), _DESCRIBING)
    return [about_from(one) for one in told["plugins"]]


def run_plugin(path: Path, source: Path, target: Path, asked: PluginRun, folder: Path) -> PluginOutcome:
    """Run a sound file through a plug-in into another file, a WAV of 32-bit float or of 64. Raises RenderFailed."""
    standard = _standard(path)
    with _written(target, *(() if asked.save is None else (asked.save,))):
        told, finished = _child(
            {
                "path": str(path.absolute()), "standard": standard.key, "id": asked.id, "values": dict(asked.values),
                "input": str(source.absolute()), "output": str(target.absolute()),
                "block": asked.block, "seed": asked.seed, "offline": asked.offline, "double": asked.double,
                "state": "" if asked.state is None else str(asked.state.absolute()),
                "save": "" if asked.save is None else str(asked.save.absolute()),
                "tail": asked.tail, "compensate": asked.compensate, "paced": asked.paced, "twice": asked.twice,
                "beside": None if asked.beside is None else dict(asked.beside),
            },
            folder, _limits(source, asked),
        )  # fmt: skip
    return PluginOutcome(
        told["latency"], told["taken_off"], told["tail"], told["wrote_input"], told["seconds"], told["loaded"],
        BlockTimes(**told["times"]), finished,
    )  # fmt: skip


@contextmanager
def _written(*files: Path) -> Iterator[None]:
    """Files that are to be written, there before: who may write into a file alone cannot make it. Gone if that fails.

    Raises RenderFailed for one that cannot be written.
    """
    new = [file for file in files if not file.exists()]
    try:
        for file in files:
            file.touch()
        yield
    except OSError as error:
        raise RenderFailed(f"{error.filename} cannot be written ({error.strerror})") from error
    except RenderFailed:
        for file in new:
            file.unlink(missing_ok=True)
        raise


def _limits(source: Path, asked: PluginRun) -> Limits:
    """What a render may take: more where the sound is long."""
    info = soundfile.info(source)
    frames = info.frames + asked.tail
    written = frames * info.channels * (8 if asked.double else 4) / 1e6
    return replace(
        _RENDERING,
        seconds=max(_RENDERING.seconds, _TIMES_ITS_LENGTH * frames / info.samplerate),
        file_size=max(_RENDERING.file_size, round(1.05 * written) + 1),
    )


def _standard(path: Path) -> Standard:
    try:
        return standard_of(path)
    except HostFailed as error:
        raise RenderFailed(str(error)) from error


def _child(asked: DescribeAsked | RenderAsked, folder: Path, limits: Limits) -> tuple[dict[str, Any], Finished]:
    """What the hosting program said, and what it took. Raises RenderFailed."""
    question, answer = folder / "asked.json", folder / "told.json"
    question.write_text(json.dumps(asked), "utf-8")
    # Where the package and its like are: the program gets no other environment.
    own = {"PYTHONPATH": os.pathsep.join(filter(None, sys.path)), "OPENBLAS_NUM_THREADS": "1", "HOME": str(folder)}
    own |= {"TMPDIR": str(folder), "XDG_RUNTIME_DIR": str(folder)}
    own |= {name: os.environ[name] for name in ("SYSTEMROOT", "TEMP") if name in os.environ}
    command = [sys.executable, "-m", "kind_echo.renderers.plugins.child", str(question), str(answer)]
    try:
        finished = run_limited(command, limits, folder, own)
    except RenderFailed as error:
        name = Path(asked["path"]).name
        raise RenderFailed(error.reason.replace(Path(sys.executable).name, name, 1), error.log) from error
    try:
        told: dict[str, Any] = json.loads(answer.read_text("utf-8"))
    except (OSError, ValueError) as error:
        raise RenderFailed("the plug-in ended its process before anything was told", finished.log) from error
    return told, finished


def about_from(told: dict[str, Any]) -> PluginAbout:
    """What a plug-in says of itself, from JSON. Raises KeyError, TypeError."""
    parameters = tuple(PluginParameter(**{**one, "choices": tuple(one["choices"])}) for one in told["parameters"])
    lists = {key: tuple(told[key]) for key in ("features", "inputs", "outputs", "channels")}
    return PluginAbout(**{**told, **lists, "parameters": parameters})
