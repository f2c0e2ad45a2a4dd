"""Builds the compiled loops; all else about the package is in pyproject.toml.

Each module is compiled twice where this is an x86-64 machine: for every processor of its kind, and for those of 2013
and later. Which of the two is used is decided where they run.
"""

import os
import platform
from pathlib import Path

from Cython.Build import cythonize
from setuptools import Extension, setup

_SOURCES = Path("src/kind_echo/core/compiled")
_COPIES = Path("build/wide")
_LEVEL = "-O0" if os.environ.get("KIND_ECHO_QUICK_BUILD") else "-O3"  # quick: for a look at what a package holds
_FLAGS = [_LEVEL, "-g0", "-fno-math-errno", "-fno-trapping-math", "-fno-signed-zeros"]
_NO_NAN = "-ffinite-math-only"
_MODULES = {
    "processor": ["-O1"],
    "gate": [*_FLAGS, "-fassociative-math"],
    "loops": [*_FLAGS, _NO_NAN, "-fassociative-math"],
    "recursions": [*_FLAGS, _NO_NAN],
}
"""The gate stands before all others: it alone must be right where samples are not finite."""


def _extension(name: str, source: Path, flags: list[str]) -> Extension:
    return Extension(f"kind_echo.core.compiled._{name}", [str(source)], extra_compile_args=flags)


def _wide(name: str, flags: list[str]) -> Extension:
    """The same source under a name of its own, for a module is known by the name of its file."""
    _COPIES.mkdir(parents=True, exist_ok=True)
    source, copy = _SOURCES / f"_{name}.pyx", _COPIES / f"_{name}_wide.pyx"
    if not copy.exists() or copy.read_text() != source.read_text():
        copy.write_text(source.read_text())
    return _extension(f"{name}_wide", copy, [*flags, "-march=x86-64-v3"])


_extensions = [_extension(name, _SOURCES / f"_{name}.pyx", flags) for name, flags in _MODULES.items()]
if platform.machine() in ("x86_64", "AMD64"):
    _extensions += [_wide(name, flags) for name, flags in _MODULES.items() if name != "processor"]
# Of the stand-ins one form: whatever machine renders them, their samples are the same.
_extensions.append(
    Extension("kind_echo.standins._loops", ["src/kind_echo/standins/_loops.pyx"], extra_compile_args=_FLAGS)
)
_cores = os.cpu_count() or 1
setup(
    ext_modules=cythonize(_extensions, build_dir="build", include_path=[str(_SOURCES)]),
    options={"build_ext": {"parallel": _cores}},
)
