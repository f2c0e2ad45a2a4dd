"""A run compared with something other than its references: another build, host, mode or rate."""

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal, get_args

from sqlalchemy import Row, cast, func, select
from sqlalchemy.dialects.postgresql import JSONPATH
from sqlalchemy.orm import Session

from kind_echo.bench.comparisons import analysis_key, options_for
from kind_echo.bench.documents import reading_from
from kind_echo.bench.queue import compare_cells
from kind_echo.bench.runs import RunNotFound, conditions_of
from kind_echo.bench.verdicts import Verdict, judge_cell
from kind_echo.core.causes.cause import Cause
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Reading
from kind_echo.database.models import Analysis, Case, Cell, Condition, Content, Render, Run, Signal

Kind = Literal["build", "host", "mode", "rate"]
_JUDGED = ("integrity", "compare")
_NUMBER = re.compile(r"[0-9]{1,9}")
_NEAR = 0.1
"""Readings at two rates that are no further apart, in their own unit, are taken for alike: a choice of this product."""


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
        return Against("rate", value, f"{int(value) / 1000:g} kHz")
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
        other = pairs.get(cell.id)
        if against.kind == "rate":
            across[cell.id] = _by_readings(cell, other, measure, against)
        else:
            held = {k: v for k, v in limits(cell.case_id, cell.condition_id).items()
                    if find_measure(k).family in _JUDGED and k != "take_spread"}  # fmt: skip
            across[cell.id] = _by_samples(cell, other, known.get(keys.get(cell.id, "")), held, against)
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
        rest = [(c.channels, c.word_length) for c in (one, other)]
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
            Cell.id, Cell.case_id, Cell.condition_id, Cell.state, Cell.verdict, Cell.why, Cell.unfit, Cell.broken,
            Cell.measured, Case.fingerprint, Case.signal_id, Render.content_sha256.label("sha256"), Content.rate,
            Content.channels, Content.dropped_at,
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
    requests = {signal.id: signal.request for signal in session.scalars(wanted)}
    keys = {}
    for cell in mine:
        other = pairs.get(cell.id)
        if other is None or None in (cell.sha256, other.sha256) or cell.unfit or other.unfit:
            continue
        if (cell.rate, cell.channels) == (other.rate, other.channels) and cell.sha256 != other.sha256:
            keys[cell.id] = analysis_key(other.sha256, cell.sha256, options_for(requests[cell.signal_id], cell.rate))
    return keys


def _analyses(session: Session, keys: Mapping[int, str]) -> dict[str, Row[Any]]:
    """What is known by key; of all readings those of all channels together."""
    overall = func.jsonb_path_query_array(Analysis.readings, cast('$[*] ? (@.channel == "all")', JSONPATH)).label(
        "readings"
    )
    query = select(Analysis.key, Analysis.causes, overall).where(Analysis.key.in_(set(keys.values())))
    return {row.key: row for row in session.execute(query)}


def _by_samples(
    cell: Row[Any],
    other: Row[Any] | None,
    found: Row[Any] | None,
    limits: Mapping[str, Limit],
    against: Against,
) -> CellAcross:
    settled = _settled(cell, other, against)
    if settled is not None or other is None:
        return settled or _none(cell, against)
    if cell.sha256 == other.sha256:
        return CellAcross(
            cell.id, other.id, "done", Verdict("Pass", f"Identical to {against.name}"), {"identical": 1.0}
        )
    if (cell.rate, cell.channels) != (other.rate, other.channels):
        why = f"{against.name} has another rate or number of channels, so that samples cannot be compared"
        return CellAcross(cell.id, other.id, "done", Verdict("No reading", why, broken=("residual_rms",)), {})
    if found is None and _dropped(cell, other):
        why = f"The audio of {against.name} or of this build was dropped before they were compared"
        return CellAcross(cell.id, other.id, "done", Verdict("No reading", why, broken=("residual_rms",)), {})
    if found is None:
        return CellAcross(cell.id, other.id, "analysing", Verdict("Waiting", ""), {})
    readings = [reading_from(document) for document in found.readings]
    verdict = judge_cell(_spread(cell, other), readings, limits, against.name)
    measured = {reading.measure: reading.value for reading in readings if reading.value is not None}
    causes = tuple(Cause(**cause) for cause in found.causes)
    return CellAcross(cell.id, other.id, "done", verdict, measured, causes)


def _spread(cell: Row[Any], other: Row[Any]) -> list[Reading]:
    """The spread of the takes of the side whose takes are further apart: no residual is held to less."""
    spreads = [side.measured["take_spread"] for side in (cell, other) if "take_spread" in side.measured]
    return [Reading("take_spread", "all", max(spreads))] if spreads else []


def _dropped(cell: Row[Any], other: Row[Any] | None) -> bool:
    """Whether there is no audio any more of one of them."""
    return cell.dropped_at is not None or (other is not None and other.dropped_at is not None)


def _by_readings(cell: Row[Any], other: Row[Any] | None, measure: str, against: Against) -> CellAcross:
    settled = _settled(cell, other, against)
    if settled is not None or other is None:
        return settled or _none(cell, against)
    mine, theirs = cell.measured.get(measure), other.measured.get(measure)
    title = find_measure(measure).title
    if mine is None or theirs is None:
        why = f"{title}: there is no reading on both sides"
        return CellAcross(cell.id, other.id, "done", Verdict("No reading", why, broken=(measure,)), {})
    off = mine - theirs
    unit = find_measure(measure).unit.removesuffix("FS").removesuffix("TP")
    text = f"{title}: {number(off, '+.2f')} {unit} against {against.name}"
    name: Literal["Pass", "Changed"] = "Pass" if abs(off) <= _NEAR else "Changed"
    ink = min(1.0, abs(off) / 12.0) if name == "Changed" else 0.0
    return CellAcross(cell.id, other.id, "done", Verdict(name, text, ink), {measure: off})


def _settled(cell: Row[Any], other: Row[Any] | None, against: Against) -> CellAcross | None:
    """What needs no comparing: the other side itself, cells under way, unfit ones, and those whose other side is."""
    itself = other is not None and other.id == cell.id
    number = None if other is None or itself else other.id
    if cell.state not in ("done", "failed"):
        return CellAcross(cell.id, number, cell.state, Verdict("Waiting", ""), {})
    if cell.unfit or cell.sha256 is None:
        own = Verdict(cell.verdict, cell.why, 1.0 if cell.unfit else 0.0, tuple(cell.broken), cell.unfit)
        return CellAcross(cell.id, number, cell.state, own, cell.measured)
    if itself:
        same = Verdict("Pass", f"It is {against.name} itself, that the others are compared with")
        return CellAcross(cell.id, None, "done", same, {"identical": 1.0})
    if other is not None and (other.unfit or other.sha256 is None):
        why = f"{against.name} has no render here that is fit to be compared"
        return CellAcross(cell.id, number, "done", Verdict("No reading", why, broken=("residual_rms",)), {})
    return None


def _none(cell: Row[Any], against: Against) -> CellAcross:
    why = f"There is nothing of {against.name} to lay it over"
    return CellAcross(cell.id, None, "done", Verdict("No reading", why, broken=("residual_rms",)), {})
