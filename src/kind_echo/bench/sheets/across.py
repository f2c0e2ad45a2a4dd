"""A run compared with something other than its references: another build, host, mode or rate."""

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal, get_args

from sqlalchemy import Row, cast, func, select
from sqlalchemy.dialects.postgresql import JSONPATH
from sqlalchemy.orm import Session

from kind_echo.bench.comparisons import analysis_key, options_for
from kind_echo.bench.documents import reading_from, verdict_from
from kind_echo.bench.queue import compare_cells
from kind_echo.bench.runs import RunNotFound, conditions_of
from kind_echo.core.causes.cause import Cause
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.measure import Limit, Measure
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.registry.readings import Reading
from kind_echo.core.verdicts.rules import Side, judge_rates, judge_samples, judge_unseen, under_way
from kind_echo.core.verdicts.verdict import Verdict
from kind_echo.database.models import Analysis, Case, Cell, Condition, Content, Render, Run, Signal
from kind_echo.wording.conditions import rate_text

Kind = Literal["build", "host", "mode", "rate"]
_NUMBER = re.compile(r"[0-9]{1,9}")


@dataclass(frozen=True)
class Against:
    """The other side: of each cell the one that differs in this alone.

    Attributes:
        value: number of the other build's run; name and version of a host; a mode; a rate.
        name: how it is called in a sentence.
    """

    kind: Kind
    value: str
    name: str


@dataclass(frozen=True)
class CellAcross:
    """A cell over its other side. `other` is None where there is no such cell or it is the other side itself."""

    id: int
    other: int | None
    state: str
    verdict: Verdict
    measured: Mapping[str, float]
    causes: tuple[Cause, ...] = ()


def parse_against(session: Session, text: str) -> Against:
    """From how an address has it: "build:12", "host:Almanac 7", "mode:offline", "rate:48000".

    Raises:
        BadParameter: it is none of these.
        RunNotFound: there is no such run.
    """
    kind, _, value = text.partition(":")
    if kind not in get_args(Kind) or not value or (kind in ("build", "rate") and not _NUMBER.fullmatch(value)):
        raise BadParameter("against", repr(text), "build:RUN, host:NAME VERSION, mode:MODE or rate:HERTZ")
    if kind == "build":
        run = session.get(Run, int(value))
        if run is None:
            raise RunNotFound(int(value))
        return Against("build", value, f"{run.build.effect.name} {run.build.version}")
    if kind == "rate":
        return Against("rate", value, rate_text(int(value)))
    return Against("mode" if kind == "mode" else "host", value, value)


def shown_measure(measure: str, against: Against | None) -> str:
    """The measure that a sheet shows: two rates have no residual, and show the level of both sides instead."""
    return "rms" if measure == "residual_rms" and against is not None and against.kind == "rate" else measure


def cells_against(
    session: Session, run: Run, against: Against, measure: str, limits: Callable[[int, int], Mapping[str, Limit]]
) -> dict[int, CellAcross]:
    """Every cell of a run over its other side, by what is known; pairs that nobody has compared yet are analysing.

    Where the rates differ, readings are compared and no samples.

    Args:
        limits: of a case under a condition.
    """
    mine, pairs = _pairs(session, run, against)
    keys = {} if against.kind == "rate" else _keys(session, mine, pairs)
    known = _analyses(session, keys)
    across = {}
    for cell in mine:
        across[cell.id] = _laid_over(
            cell, pairs.get(cell.id), known.get(keys.get(cell.id, "")),
            find_measure(measure) if against.kind == "rate" else None,
            limits(cell.case_id, cell.condition_id), against.name,
        )  # fmt: skip
    return across


def compare_missing(session: Session, run: Run, against: Against) -> int:
    """Enqueue the comparing of pairs that nobody has compared yet; how many there are."""
    if against.kind == "rate":
        return 0
    mine, pairs = _pairs(session, run, against)
    keys = _keys(session, mine, pairs)
    known = _analyses(session, keys)
    dropped = {cell.id for cell in mine if _dropped(cell, pairs.get(cell.id))}
    missing = [(one, pairs[one].id) for one, key in keys.items() if key not in known and one not in dropped]
    compare_cells(session, missing)
    return len(missing)


def _pairs(session: Session, run: Run, against: Against) -> tuple[Sequence[Row[Any]], dict[int, Row[Any]]]:
    """The cells of a run, and of each that has one its other side."""
    mine = _sides(session, run.id)
    if against.kind == "build":
        theirs = {(row.fingerprint, row.condition_id): row for row in _sides(session, int(against.value))}
        return mine, {
            row.id: theirs[row.fingerprint, row.condition_id]
            for row in mine
            if (row.fingerprint, row.condition_id) in theirs
        }
    target = _targets(conditions_of(session, run), against)
    here = {(row.case_id, row.condition_id): row for row in mine}
    pairs = {}
    for row in mine:
        wanted = target.get(row.condition_id)
        if wanted is not None and (row.case_id, wanted) in here:
            pairs[row.id] = here[row.case_id, wanted]
    return mine, pairs


def _targets(conditions: Sequence[Condition], against: Against) -> dict[int, int]:
    """The condition that each is compared with: alike in all but one factor, and in the block size where it can be."""

    def alike(one: Condition, other: Condition) -> bool:
        rest = [(c.channels, c.word_length, c.hosting) for c in (one, other)]
        places = [(f"{c.host} {c.host_version}", c.mode, str(c.rate)) for c in (one, other)]
        factor = ("host", "mode", "rate").index(against.kind)
        same = all(places[0][i] == places[1][i] for i in range(3) if i != factor)
        return same and rest[0] == rest[1] and places[1][factor] == against.value

    found = {}
    for one in conditions:
        others = [other for other in conditions if alike(one, other)]
        others.sort(key=lambda other: other.block_size != one.block_size)
        if others:
            found[one.id] = others[0].id
    return found


def _sides(session: Session, run_id: int) -> list[Row[Any]]:
    query = (
        select(
            Cell.id, Cell.case_id, Cell.condition_id, Cell.state, Cell.finished, Cell.verdict, Cell.facts, Cell.ink,
            Cell.unfit, Cell.measured, Case.fingerprint, Case.signal_id, Render.content_sha256.label("sha256"),
            Content.rate, Content.channels, Content.dropped_at,
        )
        .join(Case, Case.id == Cell.case_id)
        .outerjoin(Render, Render.id == Cell.render_id)
        .outerjoin(Content, Content.sha256 == Render.content_sha256)
        .where(Cell.run_id == run_id)
        .order_by(Cell.id)
    )  # fmt: skip
    return [*session.execute(query)]


def _keys(session: Session, mine: Sequence[Row[Any]], pairs: Mapping[int, Row[Any]]) -> dict[int, str]:
    """The keys of the analyses of all pairs that can be compared and are not the same, by the cell."""
    wanted = select(Signal).where(Signal.id.in_({cell.signal_id for cell in mine}))
    signals = {signal.id: (signal.stimulus, signal.request) for signal in session.scalars(wanted)}
    keys = {}
    for cell in mine:
        other = pairs.get(cell.id)
        if other is None or None in (cell.sha256, other.sha256) or cell.unfit or other.unfit:
            continue
        if (cell.rate, cell.channels) == (other.rate, other.channels) and cell.sha256 != other.sha256:
            stimulus, request = signals[cell.signal_id]
            keys[cell.id] = analysis_key(other.sha256, cell.sha256, options_for(stimulus, cell.rate), request)
    return keys


def _analyses(session: Session, keys: Mapping[int, str]) -> dict[str, Row[Any]]:
    """What is known by key; of all readings those of all channels together."""
    overall = func.jsonb_path_query_array(Analysis.readings, cast('$[*] ? (@.channel == "all")', JSONPATH)).label(
        "readings"
    )
    query = select(Analysis.key, Analysis.causes, overall).where(Analysis.key.in_(set(keys.values())))
    return {row.key: row for row in session.execute(query)}


def _side(cell: Row[Any]) -> Side:
    return Side(
        id=cell.id, finished=cell.finished, unfit=cell.unfit, sha256=cell.sha256, rate=cell.rate,
        channels=cell.channels, dropped=cell.dropped_at is not None,
        verdict=verdict_from(cell.verdict, cell.ink, cell.facts), measured=cell.measured,
    )  # fmt: skip


def _laid_over(
    cell: Row[Any],
    other: Row[Any] | None,
    found: Row[Any] | None,
    measure: Measure | None,
    limits: Mapping[str, Limit],
    called: str,
) -> CellAcross:
    """A cell over its other side.

    Args:
        found: the analysis of the two; None while there is none.
        measure: the readings to compare where rates differ; None where samples are compared.
    """
    mine, theirs = _side(cell), None if other is None else _side(other)
    settled = judge_unseen(mine, theirs, called)
    number = None if theirs is None or theirs.id == mine.id else theirs.id
    if settled is not None or theirs is None:
        verdict = settled or under_way(called)
        # What was measured against the reference tells nothing of another side.
        own = mine.finished and (mine.unfit or mine.sha256 is None)
        measured = {"identical": 1.0} if verdict.ground == "itself" else cell.measured if own else {}
        return CellAcross(cell.id, number, cell.state, verdict, measured)
    if measure is not None:
        verdict = judge_rates(mine, theirs, measure, called)
        return CellAcross(cell.id, number, "done", verdict, _values(one.reading for one in verdict.found))
    readings = None if found is None else [reading_from(document) for document in found.readings]
    verdict = judge_samples(mine, theirs, readings, limits, called)
    if verdict.ground == "under way":
        return CellAcross(cell.id, number, "analysing", verdict, {})
    if readings is None or found is None:
        return CellAcross(cell.id, number, "done", verdict, {"identical": 1.0} if verdict.name == "Pass" else {})
    return CellAcross(cell.id, number, "done", verdict, _values(readings), tuple(Cause.of(one) for one in found.causes))


def _values(readings: Iterable[Reading]) -> dict[str, float]:
    return {reading.measure: reading.value for reading in readings if reading.value is not None}


def _dropped(cell: Row[Any], other: Row[Any] | None) -> bool:
    """Whether there is no audio any more of one of them."""
    return cell.dropped_at is not None or (other is not None and other.dropped_at is not None)
