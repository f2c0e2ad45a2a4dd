"""Random kills while a run is rendered: of workers, web server and PostgreSQL, with a disk that fills and empties.

`python -m benchmarks.chaos [--cells 1000] [--kills 200] [--seed 1] [--disk] [--supervisors 10]` makes an installation
of its own, lets it render a plan undisturbed and then again under kills, and compares: every cell once, and the same
readings. `--disk` puts the database on a file system in memory, which it fills twice; that needs the rights to mount
one. `--supervisors` kills the supervisor so many times among the others, and starts the installation again each time;
at the end nothing of it may be left.
"""

import argparse
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from tests.support.chaos import DISK_BYTES, disturb


@contextmanager
def _small_disk(folder: Path, wanted: bool) -> Iterator[None]:
    if not wanted:
        yield
        return
    subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={DISK_BYTES}", "kind-echo-chaos", str(folder)], check=True)
    try:
        yield
    finally:
        subprocess.run(["umount", "-l", str(folder)], check=False)


def main() -> None:
    """Disturb, and print what came of it."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--cells", type=int, default=1000)
    parser.add_argument("--kills", type=int, default=200)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--disk", action="store_true")
    parser.add_argument("--supervisors", type=int, default=0)
    asked = parser.parse_args()
    folder = Path(tempfile.mkdtemp(prefix="kind-echo-chaos-"))
    try:
        with _small_disk(folder, asked.disk):
            folder.chmod(0o755)  # PostgreSQL's own account must reach it
            found = disturb(
                folder, cells=asked.cells, kills=asked.kills, seed=asked.seed, disk=asked.disk,
                supervisors=asked.supervisors,
            )  # fmt: skip
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    killed = ", ".join(f"{count} {kind}s" for kind, count in found.kills.items())
    calm, rough = found.seconds
    said = "; ".join(found.wrong) or "every cell once, with the same readings"
    print(f"{asked.cells} cells under {sum(found.kills.values())} kills ({killed}): {rough:.0f} s, {calm:.0f} s "
          f"undisturbed; {said}")  # fmt: skip
    if asked.supervisors:
        print(f"Without a supervisor its children lived on for {found.alone:.1f} s at the most.")
    if found.wrong:
        raise SystemExit(1)


if __name__ == "__main__":
    main()
