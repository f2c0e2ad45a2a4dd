"""The web server, as an installed package starts it."""

import os
import re
import sys
from importlib.util import find_spec

import click


@click.command("serve")
@click.option("--bind", default="127.0.0.1:8765", show_default=True, help="Address and port to listen on.")
@click.option("--threads", default=24, show_default=True, type=click.IntRange(1, 500), help="Answered at once.")
def serve_command(bind: str, threads: int) -> None:
    """Serve the page and the API. KIND_ECHO_DATABASE_URL names the database; `kind-echo migrate` comes first."""
    if find_spec("uvicorn") is None:
        raise click.ClickException("'serve' needs more than the package by itself: pip install 'kind-echo[server]'")
    if not os.environ.get("KIND_ECHO_DATABASE_URL"):
        raise click.ClickException("KIND_ECHO_DATABASE_URL is not set: it names the PostgreSQL database")
    if not re.fullmatch(r"unix:.+|\[?[\w.:-]+\]?:\d{1,5}", bind):
        raise click.ClickException(
            f"--bind {bind} is invalid: it must be ADDRESS:PORT, or unix: and the path of a socket"
        )
    sys.stdout.flush()
    # In place of this process, so that signals reach the server and its status is this command's.
    os.execv(sys.executable, [sys.executable, "-m", "kind_echo.web.serving", bind, str(threads)])
