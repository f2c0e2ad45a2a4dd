"""The entry of the command line: one clear line on standard error for whatever goes wrong, and the exit status."""

import gc
import importlib
import json
import os
import sys
from typing import NoReturn

import click

from kind_echo import __version__
from kind_echo.cli.exits import LimitBroken, NoAnswer, TimeOut
from kind_echo.cli.measuring import hashing
from kind_echo.core.registry.errors import KindEchoError

# Commands share the cores among threads of their own; those of the linear algebra would only wait, and wait busily.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
# A command makes much that it keeps, modules above all: looking for garbage among it takes 3 % of its time.
gc.set_threshold(100_000)

_COMMANDS = {
    "measure": "measuring.files",
    "compare": "measuring.pairs",
    "tone": "measuring.tones",
    "imd": "measuring.tones",
    "alias-sweep": "measuring.tones",
    "response": "measuring.systems",
    "latency": "measuring.systems",
    "curve": "measuring.systems",
    "dynamics": "measuring.systems",
    "lossy": "measuring.files",
    "match": "measuring.files",
    "fold": "measuring.arithmetic",
    "abx": "measuring.arithmetic",
    "signal": "measuring.stimulus",
    "run": "server.tables",
    "submit": "server.submit",
    "plan": "server.plans",
    "serve": "server.serve",
    "worker": "workers.command",
    "migrate": "server.migration",
    "load-demo": "server.tables",
    "people": "server.people",
    "token": "server.people",
    "backup": "server.keeping",
    "restore": "server.keeping",
    "grant": "server.keeping",
}


_MEASURING = ("measuring.files", "measuring.pairs", "measuring.tones", "measuring.systems")
"""Modules whose commands say which bytes they measured."""


_WAITING = ("run", "submit")
"""Commands that wait for a server: their refusals are JSON where it was asked for, and 3 says that none came."""


class _Lazy(click.Group):
    """Knows its commands by name and imports their modules only when they are wanted."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return sorted(_COMMANDS)

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if _COMMANDS.get(args[0]) in _MEASURING:
            hashing.begin(args[1:])
        return super().resolve_command(ctx, args)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in _COMMANDS:
            return None
        try:
            module = importlib.import_module(f"kind_echo.cli.{_COMMANDS[cmd_name]}")
        except ModuleNotFoundError as error:
            if (error.name or "").startswith("kind_echo"):
                raise
            return _lacking(cmd_name, _COMMANDS[cmd_name])
        command: click.Command = getattr(module, f"{cmd_name.replace('-', '_')}_command")
        return command


def _lacking(name: str, module: str) -> click.Command:
    """What stands for a command whose packages are not installed: it is listed, and says what to install."""
    extra = "render" if module.startswith("workers.") else "server"
    line = f"'{name}' needs more than the package by itself: pip install 'kind-echo[{extra}]'"

    def refuse(**_: object) -> None:
        raise click.ClickException(line)

    lenient = {"ignore_unknown_options": True, "allow_extra_args": True, "help_option_names": []}
    words = f"Needs [{extra}], which is not installed."
    given = click.Argument(["given"], nargs=-1, type=click.UNPROCESSED)
    return click.Command(name, callback=refuse, params=[given], help=words, context_settings=lenient)


@click.command(cls=_Lazy)
@click.version_option(__version__, prog_name="kind-echo")
def cli() -> None:
    """Regression testing for audio effects: render, null, measure, decide."""


def _refuse(text: str, arguments: list[str] | None) -> str:
    """One line on standard error, and for a script that waits for a run an object of JSON; the command's name."""
    line = " ".join(text.split())
    given = sys.argv[1:] if arguments is None else arguments
    command = given[0] if given else ""
    if "--json" in given and command in _WAITING:
        click.echo(json.dumps({"command": command, "error": line}))
    click.echo(f"kind-echo: {line}", err=True)
    return command


def main(arguments: list[str] | None = None) -> NoReturn:
    """Run a command and leave with its status.

    0: it measured, or all is well. 1: a limit is broken, or a person is needed. 2: bad use or an unreadable file.
    3: of `run` and `submit`, a server does not answer, or the time ran out.
    """
    # Numpy's threads take the interpreter's lock for microseconds; the usual 5 ms between turns would starve them.
    sys.setswitchinterval(2e-4)
    try:
        cli.main(args=arguments, prog_name="kind-echo", standalone_mode=False)
    except LimitBroken:
        sys.exit(1)
    except click.exceptions.NoArgsIsHelpError as error:
        click.echo(error.ctx.get_help() if error.ctx else str(error), err=True)
        sys.exit(2)
    except (NoAnswer, TimeOut) as error:
        command = _refuse(str(error), arguments)
        sys.exit(3 if command in _WAITING else 2)
    except (click.ClickException, KindEchoError) as error:
        text = error.format_message() if isinstance(error, click.ClickException) else str(error)
        _refuse(text, arguments)
        sys.exit(2)
    except (click.Abort, KeyboardInterrupt):
        click.echo("kind-echo: stopped", err=True)
        sys.exit(130)
    except (MemoryError, OSError) as error:
        click.echo(f"kind-echo: {error}", err=True)
        sys.exit(2)
    sys.exit(0)
