"""From what the bench knows to the bodies that the API sends."""

import math
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Literal

from sqlalchemy.orm import Session

from kind_echo.audio_io.encoding import fits_flac
from kind_echo.bench.audio import signal_address
from kind_echo.bench.comparisons import Analysis, Pair, kept_analysis, options_for
from kind_echo.bench.decisions import last_act_number, limits_of, standings, undecided_cells, version_of
from kind_echo.bench.documents import reading_from, verdict_from
from kind_echo.bench.queue import compare_once
from kind_echo.bench.runs import Cell, Render, RunSummary
from kind_echo.bench.sets import SetFile
from kind_echo.bench.signals import Content, Upload
from kind_echo.core.causes.cause import Cause
from kind_echo.core.registry.documents import CurveDocument, ReadingDocument
from kind_echo.core.registry.limits import judge
from kind_echo.core.registry.measure import Limit
from kind_echo.core.verdicts.verdict import JudgedReading
from kind_echo.database.blobs import AudioDropped, find_content
from kind_echo.web.http.pair_schemas import (
    AlignmentBody,
    CauseBody,
    JudgedReadingBody,
    PairBody,
    PairCellBody,
    ReadingBody,
    SideBody,
    SpectraBody,
    StandingBody,
    UploadBody,
    VerdictBody,
)
from kind_echo.web.http.schemas import BuildBody, ConditionBody, LimitBody
from kind_echo.web.runs.schemas import RunBody, SinceBody, VerdictCounts
from kind_echo.wording.causes import cause_text
from kind_echo.wording.conditions import condition_text

_COUNTS = {"Pass": "passed", "Changed": "changed", "Fail": "failed", "No reading": "no_reading", "Waiting": "waiting"}


def run_body(summary: RunSummary, needs_you: int, earlier: RunSummary | None = None) -> RunBody:
    """A run and its counts, with how many of its cells need a person, and what changed since an earlier run."""
    run = summary.run
    since = None
    if earlier is not None and summary.finished == summary.cells:
        now, then = summary.verdicts, earlier.verdicts
        more = {_COUNTS[verdict]: now.get(verdict, 0) - then.get(verdict, 0) for verdict in _COUNTS}
        since = SinceBody(run_id=earlier.run.id, version=earlier.run.build.version, more=VerdictCounts(**more))
    return RunBody(
        id=run.id,
        effect=run.build.effect.name,
        plan=run.revision.plan.name,
        plan_id=run.revision.plan_id,
        revision=run.revision.number,
        build=BuildBody.model_validate(run.build),
        requested_by=run.requested_by,
        requested_at=run.requested_at,
        priority=run.priority,
        forced=run.forced,
        stopped_by=run.stopped_by,
        archived=run.archived_at is not None,
        cells=summary.cells,
        finished=summary.finished,
        needs_you=needs_you,
        seconds_left=summary.seconds_left,
        verdicts=verdict_counts(summary),
        since=since,
    )


def verdict_counts(summary: RunSummary) -> VerdictCounts:
    """How many cells of a run have each verdict."""
    return VerdictCounts(**{_COUNTS[verdict]: count for verdict, count in summary.verdicts.items()})


def judged_body(one: JudgedReading) -> JudgedReadingBody:
    """A reading that a verdict rests on."""
    reading = one.reading
    limit = None if one.limit is None else LimitBody(at_least=one.limit.at_least, at_most=one.limit.at_most)
    return JudgedReadingBody(
        measure=reading.measure, value=reading.value, unit=reading.unit, why=reading.why, reason=reading.reason,
        limit=limit,
    )  # fmt: skip


def verdict_body(cell: Cell) -> VerdictBody:
    """What the verdict of a cell rests on."""
    verdict = verdict_from(cell.verdict, cell.ink, cell.facts)
    return VerdictBody(ground=verdict.ground, other=verdict.other, found=[judged_body(one) for one in verdict.found])


def finite(bound: float | None) -> float | None:
    """A bound as JSON can hold it: an infinite one is told by the reading's reason."""
    return bound if bound is not None and math.isfinite(bound) else None


def reading_bodies(documents: Sequence[ReadingDocument], limits: Mapping[str, Limit]) -> list[ReadingBody]:
    """Readings as kept, with the limits that hold for them and how they stand to these."""
    bodies = []
    for document in documents:
        reading = reading_from(document)
        sent = {key: value for key, value in document.items() if key != "at_least"}
        body = ReadingBody.model_validate({**sent, "at_most": finite(reading.at_most)})
        limit = limits.get(body.measure)
        if limit is not None and body.channel == "all":
            body.limit = LimitBody(at_least=limit.at_least, at_most=limit.at_most)
            body.judgement = judge(reading, limit)
        bodies.append(body)
    return bodies


def cell_pair_body(session: Session, cell: Cell, other: Cell | None = None) -> PairBody:
    """The pair page of a cell: beside its reference, or beside another cell, with which it is compared in a while.

    Raises:
        RateMismatch, ChannelMismatch: the other cell cannot be compared with it.
    """
    limits = limits_of(cell)
    build, render, reference = cell.run.build, cell.render, cell.reference
    analysis, side, why, state = cell.analysis, None, cell.why, cell.state
    if other is not None and other.render is not None and render is not None:
        options = options_for(cell.case.signal.stimulus, cell.condition.rate)
        analysis = kept_analysis(session, other.render.content, render.content, options, cell.case.signal.request)
        name = f"{other.run.build.effect.name} {other.run.build.version}"
        side = _content_side(
            other.render.content,
            name,
            condition_text(other.condition),
        )
        why = f"Beside {name}, {condition_text(other.condition)}"
        if analysis is None and state == "done":
            state, said_so = _compare_beside(session, cell, other)
            why += said_so
    elif reference is not None:
        name = f"{build.effect.name} {version_of(session, reference)}"
        side = _content_side(reference.render.content, name, "approved reference")
    elif analysis is not None and cell.case.against == "signal":
        side = _content_side(
            find_content(session, analysis.reference_sha256), cell.case.signal.name, "the signal itself"
        )
    ordered = undecided_cells(session, cell.run, datetime.now(UTC).date())
    render_readings = render.readings if render is not None else []
    known = {r["measure"] for r in analysis.readings} if analysis else set()
    documents = [*(analysis.readings if analysis else []),
                 *(r for r in render_readings if r["measure"] not in known)]  # fmt: skip
    where = PairCellBody(
        cell_id=cell.id,
        run_id=cell.run_id,
        effect=build.effect.name,
        version=build.version,
        signal=cell.case.signal.name,
        setting=cell.case.setting.name,
        condition=ConditionBody.model_validate(cell.condition),
        reference_version=version_of(session, reference) if reference is not None else None,
        beside=f"{side.name} in {side.detail}" if other is not None and side is not None else None,
        unfit=cell.unfit,
        claimed_latency=render.claimed_latency if render is not None else None,
        log=cell.log or (render.log if render is not None else ""),
        decision=_standing(session, cell),
        latest_act=last_act_number(session),
        previous_cell=max((c for c in ordered if c < cell.id), default=None),
        next_cell=min((c for c in ordered if c > cell.id), default=None),
    )
    sides = _sides(
        analysis,
        side,
        _content_side(
            render.content,
            f"{build.effect.name} {build.version}",
            condition_text(cell.condition),
        )
        if render is not None
        else None,
    )
    return PairBody.model_validate(
        dict(
            kind="cell",
            signal=_signal_side(cell),
            state=state,
            verdict=cell.verdict if other is None else None,
            facts=verdict_body(cell) if other is None else None,
            why=why,
            cell=where,
            readings=reading_bodies(documents, limits),
            explanation=analysis.explanation if analysis else "",
            causes=_causes(analysis),
            reference_readings=_own_readings(analysis, "reference"),
            difference_readings=_own_readings(analysis, "difference"),
            places=analysis.places if analysis else [],
            curves=_cell_curves(render, other.render if other else reference.render if reference else None, analysis),
            **sides,
        )
    )


def _compare_beside(session: Session, cell: Cell, other: Cell) -> tuple[Literal["analysing", "failed"], str]:
    """Have two cells compared that nobody has compared yet; the state of the pair, and why it is to stay so."""
    assert cell.render is not None
    assert other.render is not None
    for side in (cell.render.content, other.render.content):
        if side.dropped_at is not None:
            return "failed", f"; they cannot be compared: {AudioDropped(side.dropped_at)}"
    if compare_once(session, cell.id, other.id):
        return "analysing", ""
    return "failed", "; comparing them was given up: the workers' log says why. It is tried again after a day."


def files_pair_body(pair: Pair) -> PairBody:
    """The pair page of two uploaded files."""
    reference, render = (
        _content_side(upload.content, upload.name, _word_length(upload.subtype))
        for upload in (pair.reference, pair.render)
    )
    return PairBody.model_validate(
        dict(
            kind="files",
            signal=None,
            state=pair.state,
            verdict=None,
            facts=None,
            why=pair.why,
            cell=None,
            readings=[
                *reading_bodies(pair.analysis.readings if pair.analysis else [], {}),
                *_own_readings(pair.analysis, "render"),
            ],
            explanation=pair.analysis.explanation if pair.analysis else "",
            causes=_causes(pair.analysis),
            reference_readings=_own_readings(pair.analysis, "reference"),
            difference_readings=_own_readings(pair.analysis, "difference"),
            curves=pair.analysis.curves if pair.analysis else [],
            places=pair.analysis.places if pair.analysis else [],
            **_sides(pair.analysis, reference, render),
        )
    )


def file_body(file: SetFile) -> PairBody:
    """One file of a set by itself, as a pair that has a render alone."""
    upload = file.upload
    return PairBody.model_validate(
        dict(
            kind="files",
            signal=None,
            state={"measuring": "analysing"}.get(file.state, file.state),
            verdict=None,
            facts=None,
            why=file.why,
            cell=None,
            readings=reading_bodies(file.readings, {}),
            explanation="",
            causes=[],
            reference_readings=[],
            difference_readings=[],
            curves=[],
            places=[],
            **_sides(None, None, _content_side(upload.content, upload.name, _word_length(upload.subtype))),
        )
    )


def _causes(analysis: Analysis | None) -> list[CauseBody]:
    """What explains a difference, each with its words."""
    if analysis is None:
        return []
    return [CauseBody(**kept, words=cause_text(Cause.of(kept))) for kept in analysis.causes]


def _own_readings(analysis: Analysis | None, side: Literal["reference", "render", "difference"]) -> list[ReadingBody]:
    """What one side of a pair is by itself, apart from what is told of it against the other."""
    if analysis is None:
        return []
    known = {document["measure"] for document in analysis.readings}
    own = analysis.side_readings.get(side, [])
    return reading_bodies([document for document in own if document["measure"] not in known], {})


def upload_body(upload: Upload) -> UploadBody:
    """A file that was kept."""
    content = upload.content
    return UploadBody(
        id=upload.id,
        name=upload.name,
        rate=content.rate,
        channels=content.channels,
        frames=content.frames,
        subtype=upload.subtype,
        file_sha256=upload.file_sha256,
    )


def _cell_curves(render: Render | None, beside: Render | None, analysis: Analysis | None) -> list[CurveDocument]:
    """What was measured of both sides by themselves, and of their difference."""
    curves = list(render.curves) if render is not None else []
    if beside is not None:
        curves += [{**curve, "side": "reference"} for curve in beside.curves]
    if analysis is not None:
        curves += [curve for curve in analysis.curves if curve["side"] == "difference"]
    return curves


def _standing(session: Session, cell: Cell) -> StandingBody | None:
    found = standings(session, cell.run, datetime.now(UTC).date(), [cell.id]).get(cell.id)
    return StandingBody.model_validate(found) if found is not None else None


def _content_side(content: Content, name: str, detail: str) -> SideBody:
    return SideBody(
        address=content.sha256,
        name=name,
        detail=detail,
        flac=fits_flac(content.encoding, content.channels, content.rate),
        rate=content.rate,
        channels=content.channels,
        frames=content.frames,
        sha256=content.sha256,
        dropped_at=content.dropped_at,
    )


def _signal_side(cell: Cell) -> SideBody | None:
    """What went into a cell, where it is not the reference by itself; none where nobody knows how long it is."""
    if cell.render is None or cell.case.against == "signal":
        return None
    content = cell.render.content
    return SideBody(
        address=signal_address(cell),
        name=cell.case.signal.name,
        detail="what went in",
        rate=content.rate,
        channels=cell.condition.channels,
        frames=content.frames,
        sha256=None,
        dropped_at=None,
    )


def _sides(analysis: Analysis | None, reference: SideBody | None, render: SideBody | None) -> dict[str, object]:
    """The three sides on the reference's time axis where there is an analysis; else what there is, as it is."""
    if analysis is None or reference is None or render is None:
        return {"reference": reference, "render": render, "difference": None, "alignment": None, "spectra": None}
    gone = render.dropped_at or reference.dropped_at
    on_axis = {"frames": reference.frames, "sha256": None, "dropped_at": gone}
    return {
        "reference": reference,
        "render": render.model_copy(update={"address": f"{analysis.key}.render", "frames": reference.frames}),
        "difference": reference.model_copy(
            update={"address": f"{analysis.key}.difference", "name": "Difference", "detail": "render − reference"}
            | on_axis
        ),
        "alignment": AlignmentBody(**analysis.alignment),
        "spectra": SpectraBody.model_validate(analysis.spectra) if analysis.spectra else None,
    }


def _word_length(subtype: str) -> str:
    kind, _, bits = subtype.partition("_")
    return f"{bits} bit" if kind == "PCM" else {"FLOAT": "32 bit float", "DOUBLE": "64 bit float"}.get(subtype, subtype)
