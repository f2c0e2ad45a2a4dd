"""Plug-ins of one's own without a server: what one is, and sound through it."""

import json
import re
import tempfile
from dataclasses import asdict
from pathlib import Path
from typing import Any

import click

from kind_echo.audio_io.digests import file_digest
from kind_echo.audio_io.files import AudioFile
from kind_echo.cli.exits import LimitBroken
from kind_echo.core.registry.errors import BadParameter
from kind_echo.renderers.contract import RenderFailed
from kind_echo.renderers.plugins.fitness import check_fitness
from kind_echo.renderers.plugins.hosting import MOST_BLOCK, PluginOutcome, PluginRun, describe, run_plugin
from kind_echo.renderers.plugins.model import PluginAbout

_MOST_TAIL_SECONDS = 600.0
_POINT = r"\d+(?:\.\d+)?:[^,:]+"
_COURSE = re.compile(rf"(ramp:)?({_POINT}(?:,{_POINT})+)")
"""A parameter's course: two points at least, so that a text such as 4:1 is a text."""

_PLUGIN = click.argument("plugin", type=click.Path(exists=True, path_type=Path))
_ID = click.option("--id", "plugin_id", default="", metavar="ID", help="Which one, where the file holds several.")
_JSON = click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")


@click.command("plugin")
@_PLUGIN
@_ID
@click.option("--fitness", is_flag=True, help="Check whether it is fit to be used; exits with 1 where it is not.")
@_JSON
def plugin_command(plugin: Path, plugin_id: str, fitness: bool, as_json: bool) -> None:
    """What the plug-in in the file PLUGIN says of itself: its parameters, its channels, whether it keeps a state.

    With --fitness it is rendered with as well: saved and restored, in other blocks, beside another instance, at the
    ends of its parameters, at all rates.
    """
    found = [one for one in describe(plugin) if plugin_id in ("", one.id)]
    if not found:
        raise BadParameter("id", plugin_id, f"the identifier of a plug-in in {plugin.name}")
    if fitness:
        _check_fitness(plugin, found, as_json)
        return
    if as_json:
        told = {"command": "plugin", "path": str(plugin), "plugins": [asdict(one) for one in found]}
        click.echo(json.dumps(told))
        return
    for one in found:
        click.echo("\n".join(_lines(one)))


def _check_fitness(plugin: Path, found: list[PluginAbout], as_json: bool) -> None:
    told: list[dict[str, object]] = []
    failed = False
    for about in found:
        if not about.channels:
            raise BadParameter("plugin", about.id, "one with as many channels out as in")
        if not as_json:
            click.echo(f"{about.name} ({about.id})")
        for one in check_fitness(plugin, about):
            failed |= one.passed is False
            told.append({"id": about.id, "check": one.key, "passed": one.passed, "title": one.title, "told": one.told})
            if not as_json:
                click.echo(f"  {_WORDS[one.passed]}  {one.title}: {one.told}")
    if as_json:
        click.echo(json.dumps({"command": "plugin", "path": str(plugin), "passed": not failed, "checks": told}))
    if failed:
        raise LimitBroken


_WORDS = {True: "pass", False: "FAIL", None: "  – "}


@click.command("render")
@_PLUGIN
@click.argument("source", metavar="SIGNAL", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.argument("out", type=click.Path(dir_okay=False, path_type=Path))
@_ID
@click.option(
    "--set",
    "given",
    multiple=True,
    metavar="NAME=VALUE",
    help="A parameter by its name: a number, or a text that the plug-in reads; may be repeated.",
)
@click.option(
    "--preset",
    type=click.Path(exists=True, dir_okay=False, path_type=Path),
    metavar="FILE",
    help="A state to begin from.",
)
@click.option(
    "--save-state",
    "save",
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="FILE",
    help="Keep the plug-in's state afterwards.",
)
@click.option(
    "--block",
    type=click.IntRange(1, MOST_BLOCK),
    default=512,
    show_default=True,
    metavar="FRAMES",
    help="Frames that it is given at a time.",
)
@click.option(
    "--seed",
    type=click.IntRange(0),
    default=0,
    metavar="NUMBER",
    help="Draw the size of each block, from 1 to --block, by this seed; 0 for blocks that are all alike.",
)
@click.option("--real-time", is_flag=True, help="Tell it that it is run in real time, not offline.")
@click.option("--paced", is_flag=True, help="Run it by the clock, in real time, and count blocks that come late.")
@click.option("--double", is_flag=True, help="Give it samples of 64 bits.")
@click.option(
    "--tail",
    type=click.FloatRange(0, _MOST_TAIL_SECONDS),
    default=0.0,
    metavar="SECONDS",
    help="Go on for so long after the end of the signal.",
)
@click.option("--compensate", is_flag=True, help="Take the latency that it tells off what comes out.")
@_JSON
def render_command(
    plugin: Path, source: Path, out: Path, plugin_id: str, given: tuple[str, ...], preset: Path | None,
    save: Path | None, block: int, seed: int, real_time: bool, paced: bool, double: bool, tail: float, compensate: bool,
    as_json: bool,
) -> None:  # fmt: skip
    """Run the sound file SIGNAL through the plug-in in the file PLUGIN, block by block, into the file OUT.

    What comes out is of 32-bit float, as long as SIGNAL and as late as the plug-in makes it; its latency is told, and
    not taken off unless asked. A parameter moves by `--set "NAME=0:0.2,1.5:0.8"`: at each time in seconds a value;
    with `ramp:` before it, on a line from each to the next.
    """
    with AudioFile(source) as audio:
        frames = round(tail * audio.rate)
    asked = PluginRun(
        plugin_id, dict(map(_value, given)), block, seed, offline=not (real_time or paced), double=double, state=preset,
        save=save, tail=frames, compensate=compensate, paced=paced,
    )  # fmt: skip
    with tempfile.TemporaryDirectory(prefix="kind-echo-render-", dir=out.absolute().parent) as folder:
        made = Path(folder) / "output.wav"
        try:
            ran = run_plugin(plugin, source, made, asked, Path(folder))
        except RenderFailed as error:
            if error.log.strip():
                click.echo(error.log.strip(), err=True)
            raise
        made.replace(out)
    if as_json:
        click.echo(json.dumps(_told(out, ran)))
        return
    off = ", taken off" if ran.taken_off and ran.latency else ""
    click.echo(f"{out}: latency {ran.latency} frames{off}, {ran.seconds:.2f} s in the plug-in")
    if ran.times.missed is not None:
        click.echo(f"{ran.times.missed} of {ran.times.count} blocks came late")


def _told(out: Path, ran: PluginOutcome) -> dict[str, object]:
    times = asdict(ran.times)
    return {
        "command": "render", "path": str(out), "sha256": file_digest(str(out)), "latency": ran.latency,
        "latency_taken_off": ran.taken_off, "tail": ran.tail, "seconds": ran.seconds, "loaded": ran.loaded,
        "blocks": {key: times[key] for key in ("count", "first", "median", "most", "worst", "missed")},
        "wrote_input": ran.wrote_input, "cpu_seconds": ran.finished.cpu_seconds, "memory": ran.finished.memory,
        "log": ran.finished.log,
    }  # fmt: skip


def _value(text: str) -> tuple[str, Any]:
    """A parameter's name and value. Raises BadParameter."""
    name, mark, value = text.partition("=")
    if not mark or not name:
        raise BadParameter("set", repr(text), "NAME=VALUE")
    course = _COURSE.fullmatch(value)
    if course is not None:
        points = [point.partition(":") for point in course[2].split(",")]
        at, values = [float(time) for time, _, _ in points], [_plain(one) for _, _, one in points]
        return name, {"at": at, "values": values, "ramp": bool(course[1])}
    return name, _plain(value)


def _plain(text: str) -> float | str:
    try:
        return float(text)
    except ValueError:
        return text


def _lines(one: PluginAbout) -> list[str]:
    ports = (
        f"{' and '.join(map(str, one.inputs)) or 'no'} channels in, {' and '.join(map(str, one.outputs)) or 'no'} out"
    )
    head = f"{one.name} {one.version}".strip()
    lines = [f"{head} ({one.id}): {ports}; {'keeps' if one.keeps_state else 'keeps no'} state"]
    for p in one.parameters:
        title = f" ({p.title})" if p.title and p.title != p.name else ""
        if p.choices:
            lines.append(f"  {p.name}{title}: {', '.join(p.choices)}; {p.choices[round(p.default)]} unless set")
            continue
        shown = f", {p.text}" if p.text else ""
        steps = ", in steps" if p.stepped else ""
        unit = f" {p.unit}" if p.unit else ""
        bypass = ", bypass" if p.bypass is not None else ""
        lines.append(
            f"  {p.name}{title}: {p.least:g} to {p.greatest:g}{unit}{steps}{bypass}; {p.default:g} unless set{shown}"
        )
    return lines
