"""From a set of files to a plan: its input becomes the signal, each file the reference of a case, in a host by hand."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import PurePosixPath

from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.bench.decisions import approve, judge_now
from kind_echo.bench.documents import limit_from
from kind_echo.bench.machines import BY_HAND, add_effect, add_host_by_hand
from kind_echo.bench.plans import (
    MOST_CELLS,
    Exclusion,
    Mode,
    PlanCase,
    PlanCondition,
    PlanDocument,
    PlanLimit,
    save_plan,
)
from kind_echo.bench.queue import references_from_files
from kind_echo.bench.rendering import keep_render
from kind_echo.bench.runs import find_cell, start_run, tell_change
from kind_echo.bench.sets.options import options_from
from kind_echo.bench.signals import UploadNotFound, keep_signal, make_stimulus
from kind_echo.core.registry.documents import LimitDocument
from kind_echo.core.registry.errors import BadParameter, Conflict
from kind_echo.core.registry.offer_documents import ParameterDocument
from kind_echo.core.signals import OwnFile
from kind_echo.database.blobs import BlobSource
from kind_echo.database.locks import hold_references
from kind_echo.database.models import Build, Case, Cell, Condition, FileSet, Host, Run, SetFile, Signal, Upload
from kind_echo.renderers.contract import OfferedEffect, RenderResult
from kind_echo.renderers.takes import Rendered
from kind_echo.wording.conditions import rate_text

_MOST_SAMPLES = 60_000_000  # of a file that becomes a reference: a render is held in memory while it is measured
_PARAMETER = "file"


class NoSignal(Conflict):
    """A set says nothing of what went in, so nobody could render it again."""

    def __init__(self) -> None:
        super().__init__(
            "A plan needs the signal that went in: name one file as the input, or choose a signal of the library "
            "under what the files are measured for."
        )


@dataclass(frozen=True)
class PlanNames:
    """What the plan, and what it makes anew, is called.

    Attributes:
        host: a host that people render in; it is added where it is new.
    """

    plan: str
    effect: str
    version: str
    host: str
    host_version: str


@dataclass(frozen=True)
class LeftOut:
    """A file that the plan does without, and why."""

    name: str
    why: str


@dataclass(frozen=True)
class Planned:
    """The run whose cells have the files as renders, and what was left out of it."""

    run: Run
    left_out: list[LeftOut]


def plan_of_set(session: Session, found: FileSet, names: PlanNames, *, who: str, now: datetime) -> Planned:
    """Make a plan of a set, with a run in which each file is the render of its case, and becomes its reference.

    Files and limits are those of the set. All of it is there at once but the references, which workers measure first.

    Raises:
        NoSignal: the set names neither an input nor a signal.
        EffectExists: the effect is there; its settings are its own.
        Conflict: no file fits, or the host is rendered in by a machine.
        SignalExists, BadPlan, StorageFull: as where signals and plans are kept.
    """
    signal, channels = _signal(session, found)
    files, left_out = _usable(found, channels)
    if not files:
        why = f"; {left_out[0].name}: {left_out[0].why}" if left_out else ""
        raise Conflict(f"No file of this set can be a reference{why}.")
    settings = _names(files)
    listed = list(settings.values())
    parameter: ParameterDocument = {"name": _PARAMETER, "default": listed[0], "choices": [*listed]}
    note = f"Made of the files “{found.name}”."
    effect = add_effect(session, OfferedEffect(names.effect, "", note, (parameter,), (names.version,)), note)
    mode = _host(session, names)
    width = channels or files[0].upload.content.channels
    rates = sorted({file.upload.content.rate for file in files})
    limits = {key: _limit(document) for key, document in found.limits.items()}
    document = PlanDocument(
        plan=names.plan,
        effect=names.effect,
        note=note,
        settings={name: {_PARAMETER: name} for name in listed},
        cases=[PlanCase(signal=signal.name, setting=name, limits=limits) for name in listed],
        conditions=[
            PlanCondition(host=names.host, version=names.host_version, modes=[mode], rates=rates, channels=width)
        ],
        exclude=[
            Exclusion(setting=settings[file.id], rate=rate)
            for file in files
            for rate in rates
            if rate != file.upload.content.rate
        ],
    )
    revision = save_plan(session, document, who=who, now=now)
    build = session.scalars(select(Build).where(Build.effect_id == effect.id, Build.version == names.version)).one()
    run = start_run(session, revision.plan_id, build.id, who=who, now=now)
    _give(session, run, {settings[file.id]: file for file in files})
    return Planned(run, left_out)


def keep_given(session: Session, cell_id: int, upload_id: int, now: datetime) -> None:
    """Measure the file that is a cell's render, and judge it; nothing where that is done.

    Raises UploadNotFound where it was deleted meanwhile.
    """
    hold_references(session, change=False)
    cell = find_cell(session, cell_id, lock=True)
    if cell.state != "rendering":
        return
    condition = cell.condition
    stimulus = make_stimulus(session, cell.case.signal.stimulus, condition.channels, condition.rate)
    upload = session.get(Upload, upload_id)
    if upload is None:
        raise UploadNotFound(upload_id)
    source = BlobSource(session, upload.content)
    samples = source.read(0, min(source.frames, len(stimulus)))
    cut = f" It is taken as far as its signal goes, {len(stimulus)} frames." if source.frames > len(stimulus) else ""
    result = RenderResult(samples, None, False, f"The file {upload.name}, given with a set.{cut}")
    keep_render(session, cell, stimulus, Rendered((result,), None, 0.0), now)
    judge_now(session, cell)
    tell_change(session, cell.run_id)


def approve_given(session: Session, cell_id: int, now: datetime) -> None:
    """When all files of a run are measured, those that are fit become references, in one act of who made the plan."""
    hold_references(session, change=True)
    cell = find_cell(session, cell_id)
    # Two files may be done at once: whoever holds the run last finds nothing under way.
    session.execute(select(Run.id).where(Run.id == cell.run_id).with_for_update())
    cells = list(session.scalars(select(Cell).where(Cell.run_id == cell.run_id)))
    fit = [one.id for one in cells if one.fit_for_first_reference]
    if fit and all(one.finished for one in cells):
        approve(session, fit, who=cell.run.requested_by, why=cell.run.revision.note, now=now)


def _signal(session: Session, found: FileSet) -> tuple[Signal, int | None]:
    """The signal that went in, kept where it is a file; and the channels that it demands, None for any."""
    given = next((file for file in found.files if file.role == "input"), None)
    if given is not None:
        content = given.upload.content
        kept = session.scalar(select(Signal).where(Signal.request["sha256"].astext == content.sha256).limit(1))
        if kept is None:
            upload = given.upload
            digest = f"{upload.name}, SHA-256 {upload.file_sha256}"
            request = OwnFile(content.sha256, digest).document()
            kept = keep_signal(session, PurePosixPath(upload.name).stem[:120], request)
        return kept, None if content.channels == 1 else content.channels
    options = options_from(found.options)
    signal_kept = session.get(Signal, options.signal_id) if options.also == "signal" else None
    if signal_kept is None:
        raise NoSignal
    return signal_kept, None


def _usable(found: FileSet, channels: int | None) -> tuple[list[SetFile], list[LeftOut]]:
    """The files that can be references side by side, and the others with the reason."""
    plain = [file for file in found.files if file.role != "input"]
    widths = Counter(file.upload.content.channels for file in plain if file.upload.content.channels <= 2)
    width = channels or (widths.most_common(1)[0][0] if widths else 1)
    usable, left_out = [], []
    for file in plain:
        content = file.upload.content
        if file.state == "failed":
            why = file.why or "it could not be measured"
        elif content.dropped_at is not None:
            why = "its audio has been dropped"
        elif content.channels != width:
            why = f"it has {content.channels} channels, and the plan {width}"
        elif content.frames * content.channels > _MOST_SAMPLES:
            why = f"it lasts {content.frames / content.rate / 60:.1f} minutes, which is more than a render may"
        elif not 8000 <= content.rate <= 384_000:
            why = f"plans render at 8 to 384 kHz, and it is at {rate_text(content.rate)}"
        else:
            usable.append(file)
            continue
        left_out.append(LeftOut(file.upload.name, why))
    if len(usable) * len({file.upload.content.rate for file in usable}) > MOST_CELLS:
        raise BadParameter("files", len(usable), f"at most {MOST_CELLS} cells of files and rates")
    return usable, left_out


def _names(files: Sequence[SetFile]) -> dict[int, str]:
    """A setting's name for each file, by its number: what it is called, with its folder or a number where two agree."""
    stems = {file.id: PurePosixPath(file.upload.name).stem[:100] or "file" for file in files}
    several = {name for name, count in Counter(stems.values()).items() if count > 1}
    named: dict[int, str] = {}
    for file in files:
        name = stems[file.id]
        if name in several and file.folder:
            name = f"{PurePosixPath(file.folder).name[:15]}, {name}"
        number = 2
        free = name
        while free in named.values():
            free, number = f"{name} {number}", number + 1
        named[file.id] = free
    return named


def _host(session: Session, names: PlanNames) -> Mode:
    """The mode of the host by hand; it is added where it is new."""
    host = session.scalar(select(Host).where(Host.name == names.host, Host.version == names.host_version))
    if host is None:
        host = add_host_by_hand(session, names.host, names.host_version, "Rendered in by hand", ["offline"])
    if host.renderer != BY_HAND:
        raise Conflict(f"{host.name} {host.version} is rendered in by a machine; name a host in which people render.")
    return "offline" if "offline" in host.modes else "real time"


def _limit(document: LimitDocument) -> PlanLimit:
    limit = limit_from(document)
    return PlanLimit(at_least=limit.at_least, at_most=limit.at_most)


def _give(session: Session, run: Run, files: dict[str, SetFile]) -> None:
    """Each file to the cell of its setting at its rate."""
    query = select(Cell).join(Case).join(Condition, Condition.id == Cell.condition_id).where(Cell.run_id == run.id)
    given = []
    for cell in session.scalars(query):
        file = files[cell.case.setting.name]
        cell.state = "rendering"
        given.append((cell.id, file.upload_id))
    session.flush()
    references_from_files(session, given)
