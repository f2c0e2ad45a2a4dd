"""The report of a run of 2,000 cells as HTML and as PDF, beside the sheet of the same run as the API sends it.

python -m benchmarks.reports
"""

import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

from ops.stack import PROJECT, Stack


def report() -> list[str]:
    """The figures, a line each; on a copy of the demo."""
    from benchmarks.large_run import large_run
    from kind_echo.bench.reports import run_report, write_report
    from kind_echo.bench.runs import find_run
    from kind_echo.database.sessions import snapshot
    from kind_echo.web.runs.sheet_views import sheet_answer

    stack = Stack(PROJECT / "var")
    stack.start(demo=True)
    with large_run(stack) as number, tempfile.TemporaryDirectory() as folder, snapshot() as session:
        run, now = find_run(session, number), datetime.now(UTC)
        sheet = _seconds(lambda: sheet_answer(session, run, "").json())
        made = run_report(session, run, now)
        lines = []
        for form in ("html", "pdf"):
            target = Path(folder) / f"report.{form}"

            def write(target: Path = target) -> None:
                write_report(run_report(session, run, now), target)

            seconds = _seconds(write)
            size = target.stat().st_size / 1e6
            lines.append(
                f"report of 2,000 cells as {form.upper()}: {seconds / sheet:.0f} x the sheet as JSON "
                f"({seconds:.1f} s here), {size:.1f} MB"
            )
    return [*lines, f"its sections: {', '.join(section.title for section in made.sections)}"]


def _seconds(work: Callable[[], object]) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


if __name__ == "__main__":
    for line in report():
        print(line, flush=True)
