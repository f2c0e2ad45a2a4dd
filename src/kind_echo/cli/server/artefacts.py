"""A build that goes to a server as a plug-in: packed, told about where it can be looked at here, and sent."""

import tempfile
from collections.abc import Callable
from pathlib import Path
from urllib.parse import urlencode

import click

from kind_echo.cli.workers.http import SERVER_VARIABLE, Server, read_token
from kind_echo.core.registry.errors import BadParameter
from kind_echo.renderers.contract import RenderFailed
from kind_echo.renderers.plugins.hosting import describe
from kind_echo.renderers.plugins.offering import offered_parameters
from kind_echo.renderers.plugins.packing import pack
from kind_echo.renderers.plugins.standards import SYSTEMS, is_plugin, own_system

_Command = Callable[..., None]


def plugin_options(command: _Command) -> _Command:
    """The options of what is uploaded."""
    for option in (
        click.option("--signature", type=click.Path(exists=True, dir_okay=False, path_type=Path), metavar="FILE",
                     help="The signature of the plug-in's file, in base64, where the server asks for one."),
        click.option("--system", type=click.Choice(SYSTEMS), default=own_system(), show_default=True,
                     help="What an uploaded plug-in is for."),
    ):  # fmt: skip
        command = option(command)
    return command


def send_artefact(server: Server, build_id: int, path: Path, system: str, signature: Path | None) -> str:
    """Send the plug-in that a build is; its digest. Raises NoAnswer, Refused."""
    with tempfile.TemporaryDirectory(prefix="kind-echo-artefact-") as folder:
        packed = Path(folder) / "plug-in"
        pack(path, packed)
        asked = {"name": path.name, "system": system}
        if signature is not None:
            asked["signature"] = signature.read_text("ascii").strip()
        kept = server.post(f"/api/builds/{build_id}/artefacts?{urlencode(asked)}", packed.read_bytes())
    about = _about(path) if system == own_system() else None
    if about is not None:
        server.post(f"/api/builds/{build_id}/about", about)
    return f"sha256:{kept['sha256']}"


def _about(path: Path) -> dict[str, object] | None:
    """What the plug-in says of itself; None where it cannot be looked at here, which the server can do without."""
    try:
        found = describe(path)
    except RenderFailed:
        return None
    if len(found) != 1:
        return None
    parameters = offered_parameters(found[0].parameters)
    return {"parameters": parameters, "channels": list(found[0].channels)}


@click.command("upload")
@click.argument("effect")
@click.argument("version", metavar="BUILD")
@click.argument("plugin", type=click.Path(exists=True, path_type=Path))
@click.option("--server", envvar=SERVER_VARIABLE, required=True, metavar="ADDRESS",
              help=f"Where the page is; {SERVER_VARIABLE} unless given.")  # fmt: skip
@click.option("--note", default="", help="What the build is, if the server does not know it yet.")
@plugin_options
def upload_command(
    effect: str, version: str, plugin: Path, server: str, note: str, system: str, signature: Path | None
) -> None:
    """Send the plug-in PLUGIN to a server as BUILD of EFFECT, for machines that run such; nothing is run yet.

    Needs a token to upload, in KIND_ECHO_TOKEN or in the file that KIND_ECHO_TOKEN_FILE names.
    """
    if not is_plugin(plugin):
        raise BadParameter("plugin", str(plugin), "a file or folder that is named as a plug-in is")
    there = Server(server, read_token())
    build = there.post("/api/builds", {"effect": effect, "version": version, "note": note})
    click.echo(send_artefact(there, int(build["id"]), plugin, system, signature))
