"""Waiting for a run: until it is finished, until only people can bring it on, or until the time runs out."""

import time
from collections.abc import Callable
from dataclasses import dataclass, field

import click

from kind_echo.cli.exits import TimeOut
from kind_echo.cli.progress import Progress as ShownProgress
from kind_echo.cli.progress import progress as shown_progress


@dataclass(frozen=True)
class Progress:
    """How a run stands.

    Attributes:
        for_kit: cells that wait for files of a render kit.
        lacking: waiting cells by the host in which no known machine has the build.
        stopped_by: who stopped it; None while it goes on.
    """

    cells: int
    finished: int
    for_kit: int = 0
    lacking: dict[str, int] = field(default_factory=dict)
    stopped_by: str | None = None

    @property
    def held_up(self) -> int:
        """Cells that no worker will bring on."""
        return self.for_kit + sum(self.lacking.values())

    @property
    def is_over(self) -> bool:
        """Whether waiting any longer is of use only once a person has done something."""
        return self.stopped_by is not None or self.finished + self.held_up >= self.cells

    def needs(self, build: str) -> list[str]:
        """What people have to do before the rest is rendered, a line each."""
        lines = []
        if self.stopped_by is not None:
            lines.append(f"It was stopped by {self.stopped_by}: {_cells(self.cells - self.finished)} not rendered.")
        if self.for_kit:
            lines.append(f"{_cells(self.for_kit)} rendered by hand: bring the files of its render kit back.")
        lines += [
            f"{_cells(count)} in {host}: no known machine has {build} there." for host, count in self.lacking.items()
        ]
        return lines


def wait_for(look: Callable[[], Progress], poll: float, timeout: float | None) -> Progress:
    """Look again and again until a run is over.

    Args:
        poll: seconds between two looks.
        timeout: seconds to wait at most; as long as it takes where None.
    Raises:
        TimeOut: it is not over by then.
    """
    begun = time.monotonic()
    with shown_progress("Rendering and judging", "cells", 0) as shown:
        return _wait(look, poll, timeout, begun, shown)


def _wait(
    look: Callable[[], Progress], poll: float, timeout: float | None, begun: float, shown: ShownProgress
) -> Progress:
    while True:
        progress = look()
        if progress.is_over:
            return progress
        shown.tell(progress.finished, progress.cells)
        if timeout is not None and time.monotonic() - begun + poll > timeout:
            left = progress.cells - progress.finished
            verb = "is" if left == 1 else "are"
            raise TimeOut(f"{left} of {progress.cells} cells {verb} not finished after {timeout:g} s; the run goes on.")
        time.sleep(poll)


TIMEOUT = click.option("--timeout", type=click.FloatRange(min=0), metavar="SECONDS",
                       help="Leave with 3 when it is not finished by then; the run goes on.")  # fmt: skip


def _cells(count: int) -> str:
    return "1 cell is" if count == 1 else f"{count} cells are"
