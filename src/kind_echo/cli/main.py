"""The entry of the command line: one clear line on standard error for whatever goes wrong, and the exit status."""

import gc
import importlib
import json
import os
import sys
from typing import NamedTuple, NoReturn

import click

from kind_echo import __version__
from kind_echo.cli.exits import LimitBroken, NoAnswer, TimeOut
from kind_echo.cli.measuring import hashing
from kind_echo.core.registry.errors import KindEchoError
from kind_echo.core.registry.extensions import load_extensions

# Commands share the cores among threads of their own; those of the linear algebra would only wait, and wait busily.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
# A command makes much that it keeps, modules above all: looking for garbage among it takes 3 % of its time.
gc.set_threshold(100_000)


class _Entry(NamedTuple):
    module: str
    line: str


_COMMANDS = {
    "measure": _Entry("measuring.files", "Integrity, levels and loudness of FILE; of several, a table."),
    "compare": _Entry(
        "measuring.pairs",
        "Null test of RENDER against REFERENCE: delay, polarity, gain, what is left and what explains it.",
    ),
    "check": _Entry(
        "measuring.check",
        "Compare all files in RENDERS with those of the same path in REFERENCES, each by its limits.",
    ),
    "verify": _Entry(
        "measuring.verify",
        "Check the digests of BUNDLE and compute every reading again; exits with 1 where one comes out otherwise.",
    ),
    "tone": _Entry("measuring.tones", "Harmonics, aliases and noise of a steady tone in FILE; of several, a table."),
    "imd": _Entry("measuring.tones", "What two tones in FILE make of each other; of several, a table."),
    "alias-sweep": _Entry(
        "measuring.tones",
        "Worst alias of each of the stepped tones of INPUT in OUTPUT, and the map of where they land.",
    ),
    "response": _Entry(
        "measuring.systems", "Magnitude, phase and group delay from INPUT to OUTPUT; of several, a table."
    ),
    "latency": _Entry(
        "measuring.systems", "How late OUTPUT is, click by click, or on any broadband signal; of several, a table."
    ),
    "curve": _Entry(
        "measuring.systems",
        "Levels out for the staircase of levels in INPUT, against what is expected where it is given.",
    ),
    "dynamics": _Entry(
        "measuring.systems", "Attack, release, overshoot and look-ahead on a burst of tone; of several, a table."
    ),
    "lossy": _Entry("measuring.files", "What encoding FILE and decoding it does to its peaks; of several, a table."),
    "match": _Entry(
        "measuring.matching", "The gain that brings FILE to a level, and how well it does; of several, a table."
    ),
    "fold": _Entry("measuring.arithmetic", "Where FREQUENCY, in Hz, appears once it is sampled."),
    "abx": _Entry(
        "measuring.arithmetic",
        "How likely CORRECT right answers in TRIALS are by guessing; several sittings pool.",
    ),
    "signal": _Entry("measuring.stimulus", "Write the stimulus KIND to the file OUT, its format by its ending."),
    "plugin": _Entry(
        "measuring.plugins",
        "What the plug-in in the file PLUGIN says of itself: its parameters, its channels, whether it keeps a state.",
    ),
    "render": _Entry(
        "measuring.plugins",
        "Run the sound file SIGNAL through the plug-in in the file PLUGIN, block by block, into the file OUT.",
    ),
    "run": _Entry(
        "server.tables",
        "Run PLAN on BUILD and wait for the verdicts; exits with 1 unless every cell passes or is decided on.",
    ),
    "upload": _Entry(
        "server.artefacts",
        "Send the plug-in PLUGIN to a server as BUILD of EFFECT, for machines that run such; nothing is run yet.",
    ),
    "submit": _Entry(
        "server.submit",
        "Run PLAN of EFFECT on BUILD on a server; exits with 1 unless every cell passes or is decided on.",
    ),
    "trend": _Entry(
        "server.drawing", "A measure of PLAN over its builds, condition by condition, and where it changed."
    ),
    "overlay": _Entry("server.drawing", "Draw cells, the builds of a cell, or files of a set over each other."),
    "plan": _Entry("server.plans", "Plans as YAML files, for version control."),
    "serve": _Entry("server.serve", "Serve the page and the API."),
    "worker": _Entry("workers.command", "Take jobs until it is stopped."),
    "migrate": _Entry(
        "server.migration",
        "Bring the database to the shape that this version needs; the first time, make an account and print its link.",
    ),
    "load-demo": _Entry("server.tables", "Load the demo's effect, plan and runs, unless they are there."),
    "people": _Entry("server.people", "Accounts: who may come in, and how far."),
    "token": _Entry(
        "server.people",
        "Make a token called NAME for a build server or a render machine, and print it; it is not kept.",
    ),
    "backup": _Entry(
        "server.keeping",
        "Write all that Kind Echo keeps to FILE, as pg_dump's custom format; services may go on meanwhile.",
    ),
    "restore": _Entry(
        "server.keeping", "Bring an empty database to what the backup in FILE holds, and then to this version's shape."
    ),
    "storage": _Entry("server.storage", "What takes the space, how long audio is kept, and where."),
    "grant": _Entry(
        "server.keeping",
        "Give database roles exactly the rights that each service must have; needs the owner's address.",
    ),
}
"""All commands: where each is, and what it does."""


_MEASURING = ("measuring.files", "measuring.matching", "measuring.pairs", "measuring.tones", "measuring.systems")
"""Modules whose commands say which bytes they measured."""


_WAITING = ("run", "submit")
"""Commands that wait for a server: their refusals are JSON where it was asked for, and 3 says that none came."""


class _Lazy(click.Group):
    """Knows its commands by name and imports their modules only when they are wanted."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return sorted(_COMMANDS)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The list of commands, without importing what they need."""
        with formatter.section("Commands"):
            formatter.write_dl([(name, _COMMANDS[name].line) for name in self.list_commands(ctx)])

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args[0] in _COMMANDS and _COMMANDS[args[0]].module in _MEASURING:
            hashing.begin(args[1:])
        return super().resolve_command(ctx, args)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in _COMMANDS:
            return None
        try:
            module = importlib.import_module(f"kind_echo.cli.{_COMMANDS[cmd_name].module}")
        except ModuleNotFoundError as error:
            if (error.name or "").startswith("kind_echo"):
                raise
            return _lacking(cmd_name, _COMMANDS[cmd_name].module)
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


def _refuse(error: Exception, arguments: list[str] | None) -> str:
    """One line on standard error; the command's name.

    A script that wants JSON has an object too where a file could not be read, or no server answered.
    """
    text = error.format_message() if isinstance(error, click.ClickException) else str(error)
    line = " ".join(text.split())
    given = sys.argv[1:] if arguments is None else arguments
    command = given[0] if given else ""
    if "--json" in given and command in _COMMANDS:
        from kind_echo.audio_io.files import UnreadableAudio  # slow to load, and few commands are refused

        if isinstance(error, UnreadableAudio):
            click.echo(json.dumps({"command": command, "inputs": [{"path": error.name}], "error": line}))
        elif command in _WAITING:
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
        load_extensions()
        cli.main(args=arguments, prog_name="kind-echo", standalone_mode=False)
    except LimitBroken:
        sys.exit(1)
    except click.exceptions.NoArgsIsHelpError as error:
        click.echo(error.ctx.get_help() if error.ctx else str(error), err=True)
        sys.exit(2)
    except (NoAnswer, TimeOut) as error:
        command = _refuse(error, arguments)
        sys.exit(3 if command in _WAITING else 2)
    except (click.ClickException, KindEchoError) as error:
        _refuse(error, arguments)
        sys.exit(2)
    except (click.Abort, KeyboardInterrupt):
        click.echo("kind-echo: stopped", err=True)
        sys.exit(130)
    except (MemoryError, OSError) as error:
        _refuse(error, arguments)
        sys.exit(2)
    sys.exit(0)
