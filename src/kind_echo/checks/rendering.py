"""Renders that a check makes itself, with a plug-in that the file of limits names, in place of a folder of them."""

import shutil
import tempfile
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from kind_echo.audio_io.files import ENDINGS
from kind_echo.core.registry.errors import BadParameter, KindEchoError
from kind_echo.core.signals import make_request, synthesise
from kind_echo.renderers.contract import RenderFailed
from kind_echo.renderers.plugins.hosting import PluginRun, run_plugin

_INPUT = ".input"
_RATE = 48_000


@dataclass(frozen=True)
class PluginRender:
    """A render that is asked for.

    Attributes:
        name: its path in the folder, without an ending.
        signal: a file beside the file of limits, or what is asked of the generator, with `rate` and `channels`; None
            for the input that lies beside the reference.
        values: of the plug-in's parameters.
        preset: a file beside the file of limits; empty for none.
    """

    name: str
    signal: str | Mapping[str, Any] | None = None
    values: Mapping[str, Any] = field(default_factory=dict)
    preset: str = ""


@dataclass(frozen=True)
class PluginRenders:
    """The plug-in of a check, and what is rendered with it; where nothing is asked for, every input of a reference.

    Attributes:
        file: beside the file of limits; empty where the command line names it.
    """

    file: str = ""
    id: str = ""
    block: int = 512
    offline: bool = True
    compensate: bool = False
    tail: float = 0.0
    renders: tuple[PluginRender, ...] = ()


def make_renders(
    asked: PluginRenders, plugin: Path, base: Path, references: Path, into: Path, jobs: int,
    tell: Callable[[int, int], None],
) -> dict[str, str]:  # fmt: skip
    """Render into a folder; why, by name, where a render failed.

    Args:
        base: the folder that files of signals and presets are named from.
        jobs: renders at once.
        tell: called with how many are done, and of how many.
    Raises:
        BadParameter: there is nothing to render, or a signal or preset is not there.
    """
    inputs = dict(_inputs(references)) if references.is_dir() else {}
    wanted = asked.renders or tuple(PluginRender(name) for name in sorted(inputs))
    if not wanted:
        raise BadParameter(
            "plugin", str(plugin), "given [[plugin.render]] or references with NAME.input.wav beside them"
        )
    failed: dict[str, str] = {}
    with tempfile.TemporaryDirectory(prefix="kind-echo-signals-") as folder, ThreadPoolExecutor(jobs) as pool:
        sources = [_source(one, base, inputs, Path(folder) / f"{place}.wav") for place, one in enumerate(wanted)]
        presets = [_preset(one, base) for one in wanted]

        def work(place: int) -> tuple[str, str]:
            one = wanted[place]
            return one.name, _render(asked, plugin, one, sources[place], presets[place], into)

        for done, (name, why) in enumerate(pool.map(work, range(len(wanted))), start=1):
            if why:
                failed[name] = why
            tell(done, len(wanted))
    return failed


def _render(
    asked: PluginRenders, plugin: Path, one: PluginRender, source: Path, preset: Path | None, into: Path
) -> str:
    """Make a render, and lay what went in beside it; why it failed, empty where it did not."""
    target = into / f"{one.name}.wav"
    target.parent.mkdir(parents=True, exist_ok=True)
    frames = round(asked.tail * soundfile.info(source).samplerate)
    how = PluginRun(
        asked.id, one.values, asked.block, offline=asked.offline, state=preset, tail=frames, compensate=asked.compensate
    )
    with tempfile.TemporaryDirectory(prefix="kind-echo-render-") as folder:
        try:
            run_plugin(plugin, source, target, how, Path(folder))
        except RenderFailed as error:
            target.unlink(missing_ok=True)
            return error.reason
    shutil.copyfile(source, into / f"{one.name}{_INPUT}.wav")
    return ""


def _source(one: PluginRender, base: Path, inputs: Mapping[str, Path], made: Path) -> Path:
    """The file of a render's signal. Raises BadParameter."""
    if isinstance(one.signal, Mapping):
        request = dict(one.signal)
        rate, channels = int(request.pop("rate", _RATE)), int(request.pop("channels", 1))
        try:
            samples = synthesise(make_request(**request), rate)
        except (KindEchoError, TypeError) as error:
            raise BadParameter(f"plugin.render {one.name}", str(one.signal), f"a signal: {error}") from error
        soundfile.write(made, np.repeat(samples[:, :1], channels, axis=1), rate, subtype="FLOAT")
        return made
    found = inputs.get(one.name) if one.signal is None else base / one.signal
    if found is None or not found.is_file():
        wanted = f"a file beside the limits, or {one.name}{_INPUT}.wav beside the reference"
        raise BadParameter(f"plugin.render {one.name}", one.signal or "no signal", wanted)
    if found.suffix.lower() == ".wav":
        return found
    samples, rate = soundfile.read(found, dtype="float64", always_2d=True)
    soundfile.write(made, samples, rate, subtype="DOUBLE")
    return made


def _preset(one: PluginRender, base: Path) -> Path | None:
    if not one.preset:
        return None
    path = base / one.preset
    if not path.is_file():
        raise BadParameter(f"plugin.render {one.name}", one.preset, "a preset's file beside the limits")
    return path


def _inputs(references: Path) -> Iterator[tuple[str, Path]]:
    """What lies beside references as their input, by the name of what it is the input of."""
    for file in sorted(references.rglob("*")):
        if file.suffix.lower() in ENDINGS and file.stem.endswith(_INPUT):
            inside = file.relative_to(references)
            yield inside.with_name(file.stem.removesuffix(_INPUT)).as_posix(), file
