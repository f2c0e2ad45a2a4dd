"""Plug-ins of one's own without a server: what one is, and sound through it."""

import json
import tempfile
from dataclasses import asdict
from pathlib import Path

import click

from kind_echo.audio_io.digests import file_digest
from kind_echo.core.registry.errors import BadParameter
from kind_echo.renderers.clap.hosting import PluginAbout
from kind_echo.renderers.clap.offering import Asked, describe, run_plugin
from kind_echo.renderers.contract import RenderFailed

_MOST_BLOCK = 1 << 16
_PLUGIN = click.argument("plugin", type=click.Path(exists=True, path_type=Path))
_ID = click.option("--id", "plugin_id", default="", metavar="ID", help="Which one, where the file holds several.")
_JSON = click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")


@click.command("plugin")
@_PLUGIN
@_JSON
def plugin_command(plugin: Path, as_json: bool) -> None:
    """What the plug-in in the file PLUGIN says of itself: its parameters, its channels, whether it keeps a state."""
    found = describe(plugin)
    if as_json:
        told = {"command": "plugin", "path": str(plugin), "plugins": [asdict(one) for one in found]}
        click.echo(json.dumps(told))
        return
    for one in found:
        click.echo("\n".join(_lines(one)))


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
    type=click.IntRange(1, _MOST_BLOCK),
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
@_JSON
def render_command(
    plugin: Path, source: Path, out: Path, plugin_id: str, given: tuple[str, ...], preset: Path | None,
    save: Path | None, block: int, seed: int, real_time: bool, as_json: bool,
) -> None:  # fmt: skip
    """Run the sound file SIGNAL through the plug-in in the file PLUGIN, block by block, into the file OUT.

    What comes out is of 32-bit float, as long as SIGNAL and as late as the plug-in makes it; its latency is told, and
    not taken off.
    """
    values = dict(_value(one) for one in given)
    asked = Asked(plugin_id, values, block, seed, offline=not real_time, state=preset, save=save)
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
        told = {
            "command": "render", "path": str(out), "sha256": file_digest(str(out)), "latency": ran.latency,
            "seconds": ran.seconds, "cpu_seconds": ran.finished.cpu_seconds, "memory": ran.finished.memory,
            "log": ran.finished.log,
        }  # fmt: skip
        click.echo(json.dumps(told))
    else:
        click.echo(f"{out}: latency {ran.latency} frames, {ran.seconds:.2f} s in the plug-in")


def _value(text: str) -> tuple[str, float | str]:
    name, mark, value = text.partition("=")
    if not mark or not name:
        raise BadParameter("set", repr(text), "NAME=VALUE")
    try:
        return name, float(value)
    except ValueError:
        return name, value


def _lines(one: PluginAbout) -> list[str]:
    ports = (
        f"{' and '.join(map(str, one.inputs)) or 'no'} channels in, {' and '.join(map(str, one.outputs)) or 'no'} out"
    )
    head = f"{one.name} {one.version}".strip()
    lines = [f"{head} ({one.id}): {ports}; {'keeps' if one.keeps_state else 'keeps no'} state"]
    for p in one.parameters:
        shown = f", {p.text}" if p.text else ""
        steps = ", in steps" if p.stepped else ""
        lines.append(f"  {p.name}: {p.least:g} to {p.greatest:g}{steps}; {p.default:g} unless set{shown}")
    return lines
