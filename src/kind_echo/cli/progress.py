"""How far a command is: a bar on a terminal, a line now and then elsewhere; nothing of what is over in two seconds."""

import sys
import threading
import time
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from typing import TypeVar

import click

_BAR_AFTER = 2.0  # seconds
_LINE_EVERY = 10.0
T = TypeVar("T")


class Progress:
    """What is being done, and how much of it is done; `total` is None where that cannot be told."""

    def __init__(self, what: str, unit: str, total: int | None) -> None:
        self.what, self.unit, self.total, self.done = what, unit, total, 0

    def tell(self, done: int, total: int | None = None) -> None:
        """So much of it is done."""
        self.done, self.total = done, self.total if total is None else total

    @property
    def words(self) -> str:
        """How far it is, in words."""
        return self.what if self.total is None else f"{self.what}: {self.done} of {self.total} {self.unit}"


@contextmanager
def progress(what: str, unit: str = "", total: int | None = None) -> Iterator[Progress]:
    """Show on standard error how far something is, until the block ends.

    Args:
        what: what is being done, as "Comparing".
        unit: what is counted, as "files".
        total: how many there are; None where there is nothing to count.
    """
    made, over = Progress(what, unit, total), threading.Event()
    show = _show_bar if sys.stderr.isatty() else _print_lines
    showing = threading.Thread(target=show, args=(made, over), daemon=True)
    showing.start()
    try:
        yield made
    finally:
        over.set()
        showing.join()


def counted(many: Iterable[T], what: str, unit: str, total: int) -> Iterator[T]:
    """The same, with how many have come shown meanwhile."""
    with progress(what, unit, total) as shown:
        for number, one in enumerate(many, start=1):
            shown.tell(number)
            yield one


def _show_bar(made: Progress, over: threading.Event) -> None:
    if over.wait(_BAR_AFTER):
        return
    from rich.console import Console
    from rich.progress import BarColumn, TextColumn, TimeElapsedColumn
    from rich.progress import Progress as Bar

    columns = TextColumn("{task.description}"), BarColumn(), TimeElapsedColumn()
    with Bar(*columns, console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task(made.words, total=made.total)
        while not over.wait(0.1):
            bar.update(task, description=made.words, completed=made.done, total=made.total)


def _print_lines(made: Progress, over: threading.Event) -> None:
    begun = time.monotonic()
    while not over.wait(_LINE_EVERY):
        click.echo(f"{made.words}, {time.monotonic() - begun:.0f} s so far", err=True)
