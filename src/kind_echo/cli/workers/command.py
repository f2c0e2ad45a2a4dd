"""The command of the workers: one beside the database, or one on a render machine, which reaches the server alone."""

import os
import signal
import socket
import threading

import click

from kind_echo.cli.workers.http import SERVER_VARIABLE, Server, read_token
from kind_echo.cli.workers.remote import RemoteWorker
from kind_echo.logs import set_up_logs
from kind_echo.renderers.plugins.artefacts import ACCEPT_VARIABLE
from kind_echo.renderers.takes import installed


@click.command("worker")
@click.option("--renderer", "renderers", multiple=True, metavar="NAME",
              help="Take this renderer's queue; may be repeated. All of this machine's unless given.")  # fmt: skip
@click.option(
    "--machine", default=socket.gethostname, help="What the page calls this machine; its own name if not given."
)
@click.option("--no-analysis", is_flag=True, help="Render only; leave measuring and comparing to other machines.")
@click.option("--memory-gb", envvar="KIND_ECHO_WORKER_MEMORY_GB", type=click.FloatRange(min=0.1), default=8.0,
              show_default=True, help="Memory that one job may take; one that needs more fails.")  # fmt: skip
@click.option("--accept-artefacts", is_flag=True,
              help="Run plug-ins that build servers upload to the server.")  # fmt: skip
@click.option("--server", envvar=SERVER_VARIABLE, default=None, metavar="ADDRESS",
              help="Take renders from this server over HTTP, with a token, instead of from the database.")  # fmt: skip
def worker_command(
    renderers: tuple[str, ...], machine: str, no_analysis: bool, memory_gb: float, accept_artefacts: bool,
    server: str | None,
) -> None:  # fmt: skip
    """Take jobs until it is stopped. KIND_ECHO_RENDERERS names the file that declares this machine's renderers.

    With --server it needs no database: a token to render does, in KIND_ECHO_TOKEN or in the file that
    KIND_ECHO_TOKEN_FILE names.
    """
    set_up_logs()
    if accept_artefacts:
        os.environ[ACCEPT_VARIABLE] = "1"
    unknown = [name for name in renderers if name not in installed()]
    if unknown:
        raise click.BadParameter(
            f"this machine has no renderer {', '.join(unknown)}; it has {', '.join(installed())}",
            param_hint="--renderer",
        )
    if server is not None:
        _work_for(RemoteWorker(Server(server, read_token()), machine, renderers))
        return
    # A render machine has no database, nor what it takes to speak to one.
    try:
        from kind_echo.cli.workers.local import work_beside_database
    except ModuleNotFoundError:
        raise click.ClickException("without --server it needs more: pip install 'kind-echo[server]'") from None
    work_beside_database(machine, renderers, analysis=not no_analysis, memory=1000 * memory_gb)


def _work_for(worker: RemoteWorker) -> None:
    stop = threading.Event()
    for kind in (signal.SIGTERM, signal.SIGINT):
        signal.signal(kind, lambda *_: stop.set())
    try:
        worker.work(stop)
    finally:
        worker.deregister()
