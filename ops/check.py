"""All checks and tests, one after the other; every one runs, and the end says which failed."""

import os
import re
import subprocess
import sys
import tempfile
from pathlib import Path

from ops import versions
from ops.stack import PROJECT

_BIN = PROJECT / ".venv" / "bin"
_NODE = PROJECT / ".node" / "bin"
_GENERATED = re.compile(r"schema\.gen\.ts$|openapi\.json$|package-lock\.json$|migrations/versions/")
_PARALLEL = ("-n", "auto", "--dist", "worksteal")  # the tests wait for servers and browsers more than they compute
_TEST = re.compile(r"^tests/|\.test\.tsx?$")
_CODE = re.compile(r"\.(py|pyx|pyi|pxi|ts|tsx|css|sh)$|^Makefile$|^\.ci/run$")


def _run(name: str, *command: str | Path) -> bool:
    print(f"— {name}", flush=True)
    environment = os.environ | {"PATH": f"{_BIN}:{_NODE}:{os.environ['PATH']}"}
    return subprocess.run([str(part) for part in command], cwd=PROJECT, env=environment, check=False).returncode == 0


def _same(name: str, kept: Path, made: str) -> bool:
    print(f"— {name}", flush=True)
    if kept.read_text() == made:
        return True
    print(f"{kept.relative_to(PROJECT)} is stale: run 'make types'.")
    return False


def _output(*command: str | Path) -> str:
    done = subprocess.run([str(part) for part in command], cwd=PROJECT, capture_output=True, text=True, check=True)
    return done.stdout


def _typescript_is_fresh() -> bool:
    kept = PROJECT / "frontend/src/api/schema.gen.ts"
    with tempfile.TemporaryDirectory() as folder:
        made = Path(folder) / "schema.gen.ts"
        tool = PROJECT / "frontend/node_modules/.bin/openapi-typescript"
        if not _run("TypeScript types are made", tool, "docs/openapi.json", "-o", made):
            return False
        return _same("TypeScript types are fresh", kept, made.read_text())


def _versions_are_fresh() -> bool:
    print("— results of measures changed only with their versions", flush=True)
    said = versions.stale(versions.read())
    print("\n".join(said) or "All of them are as kept.")
    return not said


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
    results = {
        "ruff": _run("ruff", _BIN / "ruff", "check", "."),
        "ruff format": _run("ruff format", _BIN / "ruff", "format", "--check", "."),
        "mypy": _run("mypy", _BIN / "mypy"),
        "mypy for macOS": _run("mypy for macOS", _BIN / "mypy", "--platform", "darwin"),
        "mypy for Windows": _run("mypy for Windows", _BIN / "mypy", "--platform", "win32", "-p", "kind_echo"),
        "import contract": _run("import contract", _BIN / "lint-imports", "--no-logo"),
        "OpenAPI document": _same(
            "OpenAPI document is fresh",
            PROJECT / "docs/openapi.json",
            _output(_BIN / "python", "-m", "ops.openapi"),
        ),
        "table of measures": _same(
            "Table of measures is fresh",
            PROJECT / "docs/measures.md",
            _output(_BIN / "python", "-m", "ops.measures"),
        ),
        "table of access": _same(
            "Table of access is fresh",
            PROJECT / "docs/access.md",
            _output(_BIN / "python", "-m", "ops.access"),
        ),
        "versions of measures": _versions_are_fresh(),
        "TypeScript types": _typescript_is_fresh(),
        "front end": _run("front end: biome, tsc, vitest", "npm", "--prefix", "frontend", "run", "--silent", "check"),
        "pytest": _run("pytest", _BIN / "pytest", *(sys.argv[1:] or _PARALLEL)),
    }
    print(ratio())
    failed = [name for name, passed in results.items() if not passed]
    if failed:
        raise SystemExit(f"Failed: {', '.join(failed)}.")
    print("All checks passed.")


if __name__ == "__main__":
    main()
