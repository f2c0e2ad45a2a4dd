"""Builds the compiled loops; all else about the package is in pyproject.toml."""

import platform
from pathlib import Path

from Cython.Build import cythonize
from setuptools import Extension, setup

_FLAGS = ["-O3", "-fno-math-errno", "-fno-trapping-math", "-fno-signed-zeros", "-ffinite-math-only"]


def _wide() -> list[str]:
    """Use the instructions of an x86-64 processor of 2013 and later, where this is one."""
    about = Path("/proc/cpuinfo")
    known = about.read_text() if platform.machine() == "x86_64" and about.exists() else ""
    return ["-march=x86-64-v3"] if {"avx2", "fma", "bmi2"} <= set(known.split()) else []


def _extension(name: str, *more: str) -> Extension:
    flags = [*_FLAGS, *_wide(), *more]
    return Extension(f"kind_echo.core.{name}", [f"src/kind_echo/core/{name}.pyx"], extra_compile_args=flags)


setup(ext_modules=cythonize([_extension("loops", "-fassociative-math"), _extension("recursions")], build_dir="build"))
