"""Processes of the project's, forked off one that has loaded it: loading takes longer than many a test.

It imports nothing of the tests': each process imports this module once more.
"""

import gc
import multiprocessing
import os
from collections.abc import Callable
from multiprocessing.process import BaseProcess
from pathlib import Path

_FORKS = multiprocessing.get_context("forkserver")
_FORKS.set_forkserver_preload([
    "tests.forking", "kind_echo.web.app", "kind_echo.web.serving.server", "kind_echo.standins.catalogue",
    "scipy.signal", *(f"kind_echo.cli.{name}" for name in (
        "measuring.files", "measuring.pairs", "measuring.matching", "server.tables", "server.submit", "server.plans",
        "server.people", "server.keeping", "server.migration", "workers.command", "workers.local",
    )),
])  # fmt: skip


def start(
    program: Callable[..., None], arguments: tuple[str, ...], environment: dict[str, str], out: Path, err: Path,
    folder: Path,
) -> BaseProcess:  # fmt: skip
    """A program in a process of its own, with its output appended to two files, which may be one."""
    started = _FORKS.Process(target=_become, args=(program, arguments, environment, out, err, folder))
    started.start()
    return started


def serve(bind: str, threads: str) -> None:
    """The web server."""
    from kind_echo.web.serving.server import serve

    serve(bind, int(threads))


def command(*words: str) -> None:
    """A command of the command line."""
    from kind_echo.cli.main import main

    main(list(words))


def _become(
    program: Callable[..., None], arguments: tuple[str, ...], environment: dict[str, str], out: Path, err: Path,
    folder: Path,
) -> None:  # fmt: skip
    gc.freeze()  # what all share is not walked over by each
    os.environ.clear()
    os.environ.update(environment)
    os.chdir(folder)
    for descriptor, path in ((1, out), (2, err)):
        with path.open("ab") as output:
            os.dup2(output.fileno(), descriptor)
    program(*arguments)
