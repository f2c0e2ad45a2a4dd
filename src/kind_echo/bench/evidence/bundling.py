"""The bundle of a run: what was said of each cell, and the audio that it was said of."""

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Literal

from sqlalchemy.orm import Session

from kind_echo.audio_io.bundles import READINGS, SCHEMA, Bundle, writing
from kind_echo.audio_io.digests import file_digest
from kind_echo.audio_io.encoding import fits_flac, subtype_of
from kind_echo.audio_io.files import copy_audio
from kind_echo.audio_io.temporary import temporary_folder
from kind_echo.bench.comparisons import law_signal, sides
from kind_echo.bench.decisions import standings
from kind_echo.bench.documents import ComparedDocument, PairDocument
from kind_echo.bench.evidence.outcomes import outcomes_of
from kind_echo.bench.plans import document_of, write_yaml
from kind_echo.bench.reports import html_text, run_report
from kind_echo.bench.runs import cells_of
from kind_echo.bench.signals import make_stimulus
from kind_echo.bench.tables import cells_table, readings_table
from kind_echo.core.audio.source import ArraySource, Source
from kind_echo.core.registry.documents import FileDocument
from kind_echo.core.registry.errors import KindEchoError
from kind_echo.database.blobs import BlobSource, find_content
from kind_echo.database.models import Analysis, Cell, Content, Run
from kind_echo.wording.junit import junit_text
from kind_echo.wording.names import slug
from kind_echo.wording.outcomes import FAILING, Outcome
from kind_echo.wording.summary import summary_text

Kept = Literal["trouble", "all", "none"]
"""Of which cells the audio is in the bundle: of those that did not pass, of all, of none."""


def evidence_name(run: Run) -> str:
    """What the bundle is called."""
    return f"evidence-run-{run.id}-{slug(run.build.effect.name)}-{slug(run.build.version)}.zip"


def write_evidence(session: Session, run: Run, path: Path, now: datetime, audio: Kept = "trouble") -> None:
    """Write the bundle of a run; whole or not at all."""
    cells, today = cells_of(session, run.id), now.date()
    outcomes = outcomes_of(session, run, cells, today)
    title = f"{run.revision.plan.name} on {run.build.effect.name} {run.build.version}"
    with writing(path, now) as bundle, temporary_folder() as folder:
        sounds = _Sounds(session, bundle, Path(folder))
        pairs = []
        for cell, outcome in zip(cells, outcomes, strict=True):
            wanted = audio == "all" or (audio == "trouble" and outcome.status != "pass")
            pairs.append(_pair(cell, outcome, sounds if wanted else None))
            log = cell.log or (cell.render.log if cell.render is not None else "")
            if log:
                bundle.add_text(f"logs/{cell.id}.txt", log)
        bundle.add_json(READINGS, {"schema": SCHEMA, "pairs": pairs})
        bundle.add_text("tables/cells.csv", "".join(cells_table(session, run, today).csv()))
        bundle.add_text("tables/readings.csv", "".join(readings_table(session, run).csv()))
        bundle.add_text("junit.xml", junit_text(outcomes, FAILING.values(), title))
        bundle.add_text("summary.md", summary_text(outcomes, title, "cell"))
        bundle.add_text("report.html", html_text(run_report(session, run, now)))
        bundle.add_text("plan.yaml", write_yaml(document_of(session, run.revision)))
        bundle.add_json("run.json", _told(run))
        bundle.add_json("decisions.json", _decisions(session, run, cells, now))


def _told(run: Run) -> dict[str, object]:
    return {
        "run": run.id, "effect": run.build.effect.name, "build": run.build.version, "note": run.build.note,
        "artefact": run.artefact, "plan": run.revision.plan.name, "revision": run.revision.number,
        "requested_by": run.requested_by, "requested_at": run.requested_at.isoformat(timespec="seconds"),
        "stopped_by": run.stopped_by,
    }  # fmt: skip


def _decisions(session: Session, run: Run, cells: Sequence[Cell], now: datetime) -> list[dict[str, object]]:
    found = standings(session, run, now.date(), [cell.id for cell in cells])
    return [
        {
            "cell": number, "kind": one.kind, "who": one.who, "at": one.at.isoformat(timespec="seconds"),
            "why": one.why, "ticket": one.ticket, "until": None if one.until is None else one.until.isoformat(),
            "build": one.version, "holds": one.holds,
        }
        for number, one in sorted(found.items())
    ]  # fmt: skip


class _Sounds:
    """The audio in a bundle; what several cells share is in it once."""

    def __init__(self, session: Session, bundle: Bundle, folder: Path) -> None:
        self._session, self._bundle, self._folder = session, bundle, folder
        self._known: dict[str, tuple[str, FileDocument]] = {}

    def content(self, sha256: str, name: str) -> tuple[str, FileDocument] | None:
        """The name in the bundle of audio that is kept, and what it is; None where it was dropped."""
        content: Content = find_content(self._session, sha256)
        if content.dropped_at is not None:
            return None
        return self.source(sha256, BlobSource(self._session, content), name)

    def source(self, key: str, source: Source, name: str) -> tuple[str, FileDocument]:
        """The same of a source. Args: key: what no other audio has."""
        if key not in self._known:
            subtype = subtype_of(source)
            packs = fits_flac(subtype, source.channels, source.rate)
            file = self._folder / f"sound.{'flac' if packs else 'wav'}"
            copy_audio(file, source, subtype)
            named = f"audio/{name}{file.suffix}"
            with file.open("rb") as opened:
                self._bundle.add(named, opened)
            self._known[key] = named, {
                "rate": source.rate, "channels": source.channels, "frames": source.frames, "subtype": subtype,
                "sha256": file_digest(str(file)),
            }  # fmt: skip
            file.unlink()
        return self._known[key]

    def difference(self, analysis: Analysis, name: str) -> None:
        """What is left between both."""
        _, _, difference = sides(self._session, analysis)
        self.source(f"{analysis.key}.difference", difference, f"{name}-difference")

    def signal(self, cell: Cell) -> tuple[str, FileDocument] | None:
        """The name in the bundle of what went in; None where it cannot be had any more."""
        condition = cell.condition
        try:
            made = make_stimulus(self._session, cell.case.signal.stimulus, condition.channels, condition.rate)
        except KindEchoError:
            return None
        key = f"{cell.case.signal_id} {condition.rate} {condition.channels}"
        name = f"{slug(cell.case.signal.name)}-{condition.rate}-{condition.channels}-signal"
        return self.source(key, ArraySource(made, condition.rate), name)


def _pair(cell: Cell, outcome: Outcome, sounds: _Sounds | None) -> PairDocument:
    """A cell as `readings.json` keeps it; its audio goes into the bundle where there is a place for it."""
    analysis, render = cell.analysis, cell.render
    document: PairDocument = {
        "name": outcome.title, "cell": cell.id, "status": outcome.status, "why": outcome.message,
        "causes": [] if analysis is None else analysis.causes,
        "beside_signal": [] if render is None else render.readings,
    }  # fmt: skip
    name = f"{cell.id:05d}-{slug(cell.case.signal.name)}-{slug(cell.case.setting.name)}"
    if analysis is None:
        if sounds is not None and render is not None:
            # Compared with nothing, as what failed integrity is: what there is to hear of it all the same.
            given = (sounds.content(render.content_sha256, f"{name}-render"), sounds.signal(cell))
            document["alone"] = [sound[0] for sound in given if sound is not None]
        return document
    document["measured"] = {
        "signal": "other", "inputs": [], "own": analysis.side_readings.get("render", []),
        "comparison": analysis.readings, "causes": analysis.causes, "curves": {},
    }  # fmt: skip
    if sounds is None:
        return document
    one = sounds.content(analysis.reference_sha256, f"{name}-reference")
    other = sounds.content(analysis.render_sha256, f"{name}-render")
    if one is None or other is None:
        return document
    if analysis.reference_sha256 != analysis.render_sha256:
        sounds.difference(analysis, name)
    signal = sounds.signal(cell)
    audio = [one, other, *([] if signal is None else [signal])]
    document["measured"]["inputs"] = [told for _, told in audio]
    document["audio"] = [name for name, _ in audio]
    document["takes"], document["resample"] = (1, 1, signal is not None), False
    compared: ComparedDocument = {"options": analysis.options, "law": law_signal(cell.case.signal.request)}
    if signal is not None and render is not None and render.measured_as_kept:
        compared["signal"] = {"request": cell.case.signal.request, "law": cell.case.expected}
    document["compared"] = compared
    return document
