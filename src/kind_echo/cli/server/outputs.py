"""What came of a run, for build servers: JUnit's XML, Markdown, and which statuses end the command with 1."""

from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import Any, NamedTuple

import click

from kind_echo.cli.server.waiting import Progress
from kind_echo.core.registry.errors import BadParameter
from kind_echo.wording.junit import junit_text
from kind_echo.wording.outcomes import FAILING, Outcome, Status
from kind_echo.wording.summary import summary_text

REPORT_ENDINGS = (".html", ".pdf")
"""Of files that a report can be kept in."""

_FILE = click.Path(dir_okay=False, path_type=Path)


class Outputs(NamedTuple):
    """Where to write what came of a run, and what fails."""

    junit: Path | None
    summary: Path | None
    failing: tuple[Status, ...]
    evidence: Path | None = None
    report: Path | None = None
    plots: Path | None = None
    all_audio: bool = False

    def write(self, outcomes: Sequence[Outcome], title: str, address: str = "") -> None:
        """Write what was asked for. Args: address: where the run is shown."""
        if self.junit is not None:
            _write(self.junit, junit_text(outcomes, self.failing, title))
        if self.summary is not None:
            _write(self.summary, summary_text(outcomes, title, "cell", address))

    def fails(self, outcomes: Iterable[Outcome]) -> bool:
        """Whether any has a status that fails."""
        return any(one.status in self.failing for one in outcomes)

    def holds_up(self, progress: Progress) -> bool:
        """Whether what was not rendered fails; of a run that somebody stopped it always does."""
        return progress.stopped_by is not None or (progress.held_up > 0 and "waiting" in self.failing)


def run_outputs(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options of commands that wait for a run; the command is called with `outputs`."""

    def with_outputs(
        *,
        junit: Path | None,
        summary: Path | None,
        failing: tuple[str, ...],
        evidence: Path | None,
        report: Path | None,
        plots: Path | None,
        all_audio: bool,
        **rest: Any,
    ) -> None:
        if report is not None and report.suffix.lower() not in REPORT_ENDINGS:
            raise BadParameter("report", str(report), f"a file that ends in {' or '.join(REPORT_ENDINGS)}")
        statuses = tuple(FAILING[one] for one in failing or FAILING)
        command(outputs=Outputs(junit, summary, statuses, evidence, report, plots, all_audio), **rest)

    with_outputs.__doc__, with_outputs.__name__ = command.__doc__, command.__name__
    with_outputs.__click_params__ = getattr(command, "__click_params__", [])  # type: ignore[attr-defined]
    made: Callable[..., Any] = with_outputs
    for option in (
        click.option("--fail-on", "failing", type=click.Choice(list(FAILING)), multiple=True,
                     help="What ends it with 1 while no decision holds; may be repeated. All of them unless given."),
        click.option("--plots", type=click.Path(file_okay=False, path_type=Path), metavar="FOLDER",
                     help="Draw what did not pass as SVG files."),
        click.option("--all-audio", is_flag=True, help="With --evidence: the audio of what passed as well."),
        click.option("--evidence", type=_FILE, metavar="FILE",
                     help="Write a ZIP with readings, decisions and the audio of what did not pass."),
        click.option("--report", type=_FILE, metavar="FILE",
                     help="Write a report to print and to send: HTML, or PDF where it ends in .pdf."),
        click.option("--summary", type=_FILE, metavar="FILE", help="Write a summary as Markdown."),
        click.option("--junit", type=_FILE, metavar="FILE", help="Write JUnit's XML: a suite a case, a test a cell."),
    ):  # fmt: skip
        made = option(made)
    return made


def _write(path: Path, text: str) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text, "utf-8")
