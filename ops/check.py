"""All checks and tests; every one runs, and the end says which failed.

The checks run beside the tests, in the time that these wait for something.
"""

import os
import re
import subprocess
import sys
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from ops.stack import PROJECT

_BIN = PROJECT / ".venv" / "bin"
_NODE = PROJECT / ".node" / "bin"
_GENERATED = re.compile(r"openapi\.json$|package-lock\.json$|migrations/versions/")
_SAYING = threading.Lock()
_PARALLEL = ("-n", "auto", "--dist", "worksteal")  # a process a core: more of them took longer
_LOW_PRIORITY = ("nice", "-n", "10")
_PORTABLE = ("-p", "kind_echo.cli", "-p", "kind_echo.renderers")  # with all that these import
_TEST = re.compile(r"^tests/|\.test\.tsx?$")
_CODE = re.compile(r"\.(py|pyx|pyi|pxi|ts|tsx|css|sh)$|^Makefile$|^\.ci/run$")


def _say(name: str, text: str) -> None:
    """All that a check has to say, at once: others run beside it."""
    with _SAYING:
        print(f"— {name}\n{text.strip()}", flush=True)


_SETTINGS = {
    # Threads of the linear algebra wait busily for each other: beside a process a core they took half of the time.
    "OPENBLAS_NUM_THREADS": "1",
    # glibc keeps the memory of freed arrays: giving it back and taking it again took 6 to 10 % of the core's tests.
    "MALLOC_ARENA_MAX": "1", "MALLOC_MMAP_THRESHOLD_": str(32 << 20), "MALLOC_TRIM_THRESHOLD_": str(256 << 20),
}  # fmt: skip


def _environment() -> dict[str, str]:
    return os.environ | _SETTINGS | {"PATH": f"{_BIN}:{_NODE}:{os.environ['PATH']}"}


def _run(name: str, *command: str | Path) -> bool:
    done = subprocess.run(
        [*_LOW_PRIORITY, *map(str, command)], cwd=PROJECT, env=_environment(), check=False,
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
    )  # fmt: skip
    _say(name, done.stdout)
    return done.returncode == 0


def _pytest(*options: str) -> bool:
    """It takes minutes, and says how far it is while it runs."""
    print("— pytest", flush=True)
    return subprocess.run([_BIN / "pytest", *options], cwd=PROJECT, env=_environment(), check=False).returncode == 0


def _same(name: str, kept: Path, made: str) -> bool:
    same = kept.read_text() == made
    _say(name, "" if same else f"{kept.relative_to(PROJECT)} is stale: run 'make types'.")
    return same


def _made_by(name: str, kept: str, module: str) -> bool:
    return _same(name, PROJECT / kept, _output(_BIN / "python", "-m", module))


def _mypy(platform: str, *options: str) -> bool:
    """Each platform with a cache of its own, for several look at once."""
    cache = f".mypy_cache/{platform}"
    return _run(f"mypy for {platform}", _BIN / "mypy", "--platform", platform, "--cache-dir", cache, *options)


def _output(*command: str | Path) -> str:
    whole = [*_LOW_PRIORITY, *map(str, command)]
    return subprocess.run(whole, cwd=PROJECT, capture_output=True, text=True, check=True).stdout


def lines_of(files: list[Path]) -> int:
    """Lines that are not blank."""
    return sum(1 for file in files for line in file.read_text().splitlines() if line.strip())


def ratio() -> str:
    """How many lines of tests there are to lines of code, generated files left out of both."""
    listed = _output("git", "ls-files", "--cached", "--others", "--exclude-standard").splitlines()
    files = [
        name for name in listed if _CODE.search(name) and not _GENERATED.search(name) and (PROJECT / name).exists()
    ]
    tests = lines_of([PROJECT / name for name in files if _TEST.search(name)])
    code = lines_of([PROJECT / name for name in files if not _TEST.search(name)])
    return f"Lines without blanks: code {code}, tests {tests}, tests to code {100 * tests / code:.0f} %."


def main() -> None:
    """Run everything; leave with 1 when anything failed."""
    checks: dict[str, Callable[[], bool]] = {
        "ruff": lambda: _run("ruff", _BIN / "ruff", "check", "."),
        "ruff format": lambda: _run("ruff format", _BIN / "ruff", "format", "--check", "."),
        "mypy": lambda: _mypy("linux"),
        "mypy for macOS": lambda: _mypy("darwin", *_PORTABLE),
        "mypy for Windows": lambda: _mypy("win32", *_PORTABLE),
        "import contract": lambda: _run("import contract", _BIN / "lint-imports", "--no-logo"),
        "OpenAPI document": lambda: _made_by("OpenAPI document is fresh", "docs/openapi.json", "ops.openapi"),
        "table of measures": lambda: _made_by("Table of measures is fresh", "docs/measures.md", "ops.measures"),
        "table of access": lambda: _made_by("Table of access is fresh", "docs/access.md", "ops.access"),
        "front end": lambda: _run("front end: biome, tsc, vitest", "npm", "--prefix", "frontend", "run", "-s", "check"),
    }
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        running = {name: pool.submit(check) for name, check in checks.items()}
        results = {"pytest": _pytest(*(sys.argv[1:] or _PARALLEL))}
        results |= {name: future.result() for name, future in running.items()}
    print(ratio())
    failed = [name for name, passed in results.items() if not passed]
    if failed:
        raise SystemExit(f"Failed: {', '.join(failed)}.")
    print("All checks passed.")


if __name__ == "__main__":
    main()
