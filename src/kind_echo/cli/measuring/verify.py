"""The command that computes a bundle of evidence again."""

import json
import tempfile
from dataclasses import asdict
from pathlib import Path

import click

from kind_echo import __version__
from kind_echo.checks.evidence import verify_evidence
from kind_echo.cli.exits import LimitBroken
from kind_echo.cli.progress import progress
from kind_echo.wording.figures import counted

_MOST = 20  # differences that are listed


@click.command("verify")
@click.argument("bundle", type=click.Path(dir_okay=False, path_type=Path))
@click.option(
    "--key",
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="FILE",
    help="A PEM file with the public key that the bundle has to be signed with.",
)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def verify_command(bundle: Path, key: Path | None, as_json: bool) -> None:
    """Check the digests of BUNDLE and compute every reading again; exits with 1 where one comes out otherwise."""
    with tempfile.TemporaryDirectory(prefix="kind-echo-verify-") as folder, progress("Verifying", "pairs", 0) as shown:
        found = verify_evidence(bundle, Path(folder), shown.tell, key)
    if as_json:
        click.echo(json.dumps({"command": "verify", "bundle": str(bundle), **asdict(found)}))
    else:
        by = "" if found.version == __version__ else f"; it was made by {found.version}, and this is {__version__}"
        click.echo(f"{found.files} files are as they were, {found.readings} readings came out the same{by}.")
        if found.signed is None:
            click.echo("It is not signed.")
        else:
            whose = "as asked for" if found.signed.is_known else "which says whose it is only where --key names one"
            click.echo(f"It is signed with the key {found.signed.fingerprint}, {whose}.")
        if found.without_audio:
            click.echo(f"Of {counted(found.without_audio, 'pair')} it has no audio: these were not computed again.")
        for one in found.differences[:_MOST]:
            where = f" {one.measure} of {one.channel}" if one.measure else ""
            click.echo(f"{one.pair}{where}: {one.kept}, and now {one.again}")
        if len(found.differences) > _MOST:
            click.echo(f"{len(found.differences) - _MOST} more differ.")
    if found.differences:
        raise LimitBroken
