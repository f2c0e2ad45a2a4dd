"""Renders that become references: copied over them, each whole or not at all."""

import os
import shutil
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from kind_echo.checks.judging import Checked
from kind_echo.checks.pairing import Paired


class Copy(NamedTuple):
    """A render that becomes a reference; `instead_of` is the reference of another format that it takes the place of."""

    source: Path
    target: Path
    instead_of: Path | None = None


def copies(checked: Sequence[Checked], paired: Paired, references: Path, renders: Path) -> list[Copy]:
    """What is to be copied: of pairs that are not the same, and renders that have no reference yet.

    An unfit render is left out, and so is one that could not be read.
    """
    found: list[Copy] = []
    for one in checked:
        if one.pair is None or one.verdict is None or one.verdict.unfit or one.verdict.ground == "identical":
            continue
        for i, render in enumerate(one.pair.renders):
            before = one.pair.references[i] if i < len(one.pair.references) else None
            target = references / render.relative_to(renders)
            found.append(Copy(render, target, before if before != target else None))
    for files in paired.surplus.values():
        found += [Copy(file, references / file.relative_to(renders)) for file in files]
    return found


def approve(wanted: Sequence[Copy]) -> Iterator[Path]:
    """Copy each file, and yield where it is now. Raises OSError; what was there before then stands."""
    for source, target, instead_of in wanted:
        target.parent.mkdir(parents=True, exist_ok=True)
        beside = target.with_name(f".{target.name}.part")
        try:
            shutil.copyfile(source, beside)
            os.replace(beside, target)  # noqa: PTH105 - it says that it replaces
        finally:
            beside.unlink(missing_ok=True)
        if instead_of is not None:
            instead_of.unlink(missing_ok=True)
        yield target
