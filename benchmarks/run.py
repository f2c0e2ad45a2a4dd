"""Run all benchmarks and print their ratios: python -m benchmarks.run [--hour]."""

import sys
import tempfile
from pathlib import Path

from benchmarks import check_folders, compare_files, hostile, runs, runs_page, sets, sheet


def main() -> None:
    """Print a line for each figure."""
    with tempfile.TemporaryDirectory(prefix="kind-echo-") as folder:
        for line in compare_files.report(Path(folder), hour="--hour" in sys.argv):
            print(line, flush=True)
    with tempfile.TemporaryDirectory(prefix="kind-echo-") as folder:
        for line in check_folders.report(Path(folder)):
            print(line, flush=True)
    for line in [*sheet.report(), *runs.report(), *runs_page.report(), *sets.report(), *hostile.report()]:
        print(line, flush=True)


if __name__ == "__main__":
    main()
