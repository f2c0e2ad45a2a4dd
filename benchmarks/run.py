"""Run all benchmarks and print their ratios: python -m benchmarks.run [--hour]."""

import sys
import tempfile
from pathlib import Path

from benchmarks import check_folders, compare_files, hostile, pages, runs, runs_list, sets


def main() -> None:
    """Print a line for each figure."""
    with tempfile.TemporaryDirectory(prefix="kind-echo-") as folder:
        for line in compare_files.report(Path(folder), hour="--hour" in sys.argv):
            print(line, flush=True)
    with tempfile.TemporaryDirectory(prefix="kind-echo-") as folder:
        for line in check_folders.report(Path(folder)):
            print(line, flush=True)
    for line in [*pages.report(), *runs.report(), *runs_list.report(), *sets.report(), *hostile.report()]:
        print(line, flush=True)


if __name__ == "__main__":
    main()
