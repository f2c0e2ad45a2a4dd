"""Render kits: the signals of a run, to be carried to a host that no script can drive, and what is to come back."""

import hashlib
import html
import json
import zipfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from sqlalchemy.orm import Session

from kind_echo.audio_io.files import write_audio
from kind_echo.audio_io.temporary import temporary_folder
from kind_echo.bench.machines import BY_HAND, renderers_of
from kind_echo.bench.runs import cells_of, conditions_of, find_run
from kind_echo.bench.signals import make_stimulus
from kind_echo.core.audio.source import Samples
from kind_echo.core.levels.marks import MARK_SECONDS, Mono, sync_mark
from kind_echo.core.registry.errors import KindEchoError, NotFound
from kind_echo.database.models import Cell, Run
from kind_echo.wording.conditions import condition_text
from kind_echo.wording.names import slug
from kind_echo.wording.tables import csv_text

MANIFEST = "manifest.csv"
BEFORE_SECONDS, GAP_SECONDS, AFTER_SECONDS = 0.25, 1.0, 1.0
"""Silence before the mark, between mark and signal, and after the signal."""

_COLUMNS = (
    "returned_as", "cell", "take", "signal_file", "setting", "parameters", "host", "version", "mode", "rate",
    "block_size", "channels",
)  # fmt: skip


class NothingByHand(NotFound):
    """A kit is asked for of a run that needs none."""

    def __init__(self, run_id: int) -> None:
        self.run_id = run_id
        super().__init__(f"Run {run_id} has no cell whose host is rendered in by hand.")


@dataclass(frozen=True)
class Place:
    """One file that is to come back: a take of a cell.

    Attributes:
        returned_as: the name that the kit asks for.
        sound: which signal at which rate with how many channels; places that share it share a file of the kit.
    """

    cell: Cell
    take: int
    returned_as: str
    sound: str

    @property
    def rate(self) -> int:
        """Frames a second."""
        return self.cell.condition.rate


def places_of(session: Session, run_id: int) -> list[Place]:
    """All that is to come back for a run, in the order of its sheet. Raises RunNotFound, NothingByHand."""
    run = find_run(session, run_id)
    renderers = renderers_of(session, conditions_of(session, run))
    places = [
        Place(cell, take, _name(cell, take), sound_key(cell))
        for cell in cells_of(session, run_id)
        if renderers[cell.condition_id] == BY_HAND
        for take in range(1, cell.case.takes + 1)
    ]
    if not places:
        raise NothingByHand(run_id)
    return places


def sound_key(cell: Cell) -> str:
    """What two cells share that are fed the same samples."""
    condition = cell.condition
    parts = [cell.case.signal.request, condition.rate, condition.channels]
    return hashlib.sha256(json.dumps(parts, sort_keys=True).encode()).hexdigest()


def mark_of(sound: str, rate: int) -> Mono:
    """The mark before a signal, shape (frames,)."""
    return sync_mark(int(sound[:8], 16), rate)


def mark_start(rate: int) -> int:
    """Frame of a kit's file at which its mark begins."""
    return round(BEFORE_SECONDS * rate)


def signal_start(rate: int) -> int:
    """Frame of a kit's file at which its signal begins."""
    return mark_start(rate) + round(MARK_SECONDS * rate) + round(GAP_SECONDS * rate)


def kit_samples(session: Session, cell: Cell) -> Samples:
    """What a kit's file holds: silence, mark, silence, signal, silence; shape (frames, channels)."""
    rate, channels = cell.condition.rate, cell.condition.channels
    stimulus = make_stimulus(session, cell.case.signal.stimulus, channels, rate)
    mark = np.repeat(mark_of(sound_key(cell), rate)[:, None], channels, axis=1)
    start = signal_start(rate)
    samples = np.zeros((start + len(stimulus) + round(AFTER_SECONDS * rate), channels))
    samples[mark_start(rate) : mark_start(rate) + len(mark)] = mark
    samples[start : start + len(stimulus)] = stimulus
    return samples


def can_be_had(session: Session, cell: Cell) -> bool:
    """Whether a cell's signal can be made at its rate; where it cannot, its cell says so and the kit goes without."""
    return why_not(session, cell) is None


def why_not(session: Session, cell: Cell) -> str | None:
    """Why a cell's signal cannot be made under its condition, or its render not by hand; None where it can."""
    if cell.case.setting.parts:
        return "A sum of renders is made by a machine, and not by hand"
    try:
        make_stimulus(session, cell.case.signal.stimulus, cell.condition.channels, cell.condition.rate)
    except KindEchoError as error:
        return str(error)
    return None


def write_kit(session: Session, run_id: int, path: Path) -> None:
    """Write the ZIP of a run's kit: signals, manifest and instructions. Raises RunNotFound, NothingByHand."""
    places = places_of(session, run_id)
    files: dict[str, str] = {}
    with zipfile.ZipFile(path, "w") as kit, temporary_folder() as folder:
        for place in places:
            if place.sound in files or not can_be_had(session, place.cell):
                continue
            name = f"{len(files) + 1:02d}-{slug(place.cell.case.signal.name)}-{place.rate}.wav"
            files[place.sound] = f"signals/{name}"
            written = Path(folder) / "signal.wav"
            write_audio(written, kit_samples(session, place.cell), place.rate, "FLOAT")
            kit.write(written, files[place.sound], zipfile.ZIP_DEFLATED)
        places = [place for place in places if place.sound in files]
        kit.writestr(MANIFEST, _manifest(places, files), zipfile.ZIP_DEFLATED)
        run = find_run(session, run_id)
        kit.writestr("instructions.html", _instructions(run, places, files), zipfile.ZIP_DEFLATED)


def kit_name(run: Run) -> str:
    """What the ZIP is called."""
    return f"kit-run-{run.id}-{slug(run.build.effect.name)}-{slug(run.build.version)}.zip"


def _manifest(places: Sequence[Place], files: dict[str, str]) -> str:
    rows: list[Sequence[object]] = [_COLUMNS]
    for place in places:
        case, condition = place.cell.case, place.cell.condition
        rows.append((
            place.returned_as, place.cell.id, place.take, files[place.sound], case.setting.name,
            _values(place.cell), condition.host, condition.host_version, condition.mode,
            condition.rate, condition.block_size, condition.channels,
        ))  # fmt: skip
    return "\ufeff" + csv_text(rows)  # the mark by which spreadsheets know UTF-8


def _instructions(run: Run, places: Sequence[Place], files: dict[str, str]) -> str:
    build = run.build
    rows = "\n".join(
        "<tr>" + "".join(f"<td>{html.escape(str(value))}</td>" for value in (
            files[p.sound], p.cell.case.setting.name, _values(p.cell),
            f"{condition_text(p.cell.condition)}, blocks of {p.cell.condition.block_size}",
            p.returned_as,
        )) + "</tr>"
        for p in places
    )  # fmt: skip
    what = html.escape(f"{build.effect.name} {build.version}")
    return f"""<!doctype html>
<html lang="en">
<meta charset="utf-8">
<title>Render kit of run {run.id}: {what}</title>
<style>
body {{ font: 16px/1.5 sans-serif; max-width: 72rem; margin: 2rem auto; padding: 0 1rem; }}
table {{ border-collapse: collapse; }} th, td {{ text-align: left; padding: .3rem .8rem .3rem 0; vertical-align: top; }}
th, td {{ border-bottom: 1px solid #bbb; }} td:last-child {{ font-family: monospace; }}
</style>
<h1>Render kit of run {run.id}: {what}</h1>
<p>Each line of the table below is one render. For each line:</p>
<ol>
<li>Set the host to the rate and the block size of the line, and put {what} on an empty channel with the values of the
line; everything else in the path at unity, with nothing else loaded.</li>
<li>Place the signal file at the very start and render from the very start to the end of the file, in the mode of the
line. The short burst near the start is a mark: leave it in, it tells which signal this is.</li>
<li>Write as WAV, 32 bits float if the host has it, without normalising and without dither, and name it as the last
column says. Another name does no harm: write it into the column returned_as of {MANIFEST}, and send that along.</li>
</ol>
<p>Then drop the renders on the kit's page of run {run.id}, one by one or as a ZIP. What is missing or doubtful is shown
there, and nothing is taken for anything without saying why.</p>
<table>
<thead><tr><th>Signal file</th><th>Setting</th><th>Values</th><th>Where</th><th>Name it</th></tr></thead>
<tbody>
{rows}
</tbody>
</table>
</html>
"""


def _values(cell: Cell) -> str:
    units = {p["name"]: p.get("unit", "") for p in cell.run.build.effect.parameters}
    values = cell.case.setting.parameters
    words = [f"{name} {value} {units.get(name, '')}".rstrip() for name, value in sorted(values.items())]
    return ", ".join(words) or "as it comes"


def _name(cell: Cell, take: int) -> str:
    several = f"-take{take}" if cell.case.takes > 1 else ""
    return (
        f"{cell.id:05d}-{slug(cell.case.signal.name)}--{slug(cell.case.setting.name)}--{cell.condition.rate}"
        f"{several}.wav"
    )
