"""A run as a sheet: what is read of thousands of cells at once, and what changed since the build before."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Literal, NamedTuple

from sqlalchemy import case as when
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from kind_echo.bench.decisions import Standing, limit_documents, standings
from kind_echo.bench.documents import limit_from, verdict_document, verdict_from
from kind_echo.bench.runs import cases_of, conditions_of
from kind_echo.bench.sheets.across import Against, CellAcross, cells_against, shown_measure
from kind_echo.bench.sheets.findings import Finding, find
from kind_echo.core.causes.cause import Cause, CauseDocument
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.readings import Reading
from kind_echo.core.verdicts.documents import VerdictDocument
from kind_echo.core.verdicts.rules import ink_of
from kind_echo.core.verdicts.symptoms import Examined
from kind_echo.core.verdicts.verdict import Verdict, VerdictName, needs_review
from kind_echo.database.models import Analysis, Build, Case, Cell, Condition, PlanRevision, Run
from kind_echo.database.states import FINISHED
from kind_echo.wording.conditions import rate_text
from kind_echo.wording.verdicts import sentence

Change = Literal["new", "still", "fixed"]
"""Against the build before: failing now alone, in both, or then alone."""

TROUBLE = ("Fail", "No reading")
"""Verdicts of cells that are wrong."""


class SheetCell(NamedTuple):  # of which there are many: a tuple is made in a tenth of a dataclass's time
    """A cell of the sheet.

    Attributes:
        value: the reading that is shown; None where there is none.
        needs_you: finished, not passed, and no decision holds.
        other: the cell that it is compared with where that is no reference.
        first: fit to be the first reference of its place, which has none.
        change: against the build before; None where nothing is or was wrong, or there is no build before.
    """

    id: int
    case_id: int
    condition_id: int
    state: str
    verdict: VerdictName
    why: str
    ink: float
    unfit: bool
    reused: bool
    identical: bool
    value: float | None
    decision: Standing | None
    change: Change | None
    other: int | None
    first: bool

    @property
    def needs_you(self) -> bool:
        """Whether a person has to look at it."""
        decided = self.decision is not None and self.decision.holds
        return needs_review(self.verdict, finished=self.state in FINISHED, decided=decided)


class CellRow(NamedTuple):
    """What a sheet reads of a cell; `other` is the cell that it is compared with where that is no reference."""

    id: int
    case_id: int
    condition_id: int
    state: str
    verdict: VerdictName
    facts: VerdictDocument
    why: str
    ink: float
    unfit: bool
    reused: bool
    broken: Sequence[str]
    measured: Mapping[str, float]
    causes: Sequence[CauseDocument] | None
    first: bool
    other: int | None


@dataclass(frozen=True)
class SheetFinding:
    """A finding, since which build it is there, and what was said of its cells before."""

    finding: Finding
    since: str | None
    before: str | None


@dataclass(frozen=True)
class Sheet:
    """All of a run that a page shows.

    Attributes:
        measure: whose readings the cells show.
        before: the build before, and the run of it that changes are told against.
    """

    run: Run
    cases: Sequence[Case]
    conditions: Sequence[Condition]
    cells: list[SheetCell]
    findings: list[SheetFinding]
    siblings: list[Run]
    measure: str
    before: Run | None


def usual_measure(run: Run) -> str:
    """The measure that a plan asks about: the error of a law where each case expects one, and else what is left."""
    cases = run.revision.cases
    if not all(case.expected for case in cases):
        return "residual_rms"
    stairs = all(case.signal.request["kind"] == "staircase" for case in cases)
    return "curve_error_worst" if stairs else "law_error_rms"


def sheet_of(
    session: Session, run: Run, today: date, measure: str = "residual_rms", against: Against | None = None
) -> Sheet:
    """The sheet of a run with a measure as its figures and, where it is not the residual, as its ink.

    Compared with something other than its references where `against` says so; decisions and what was before are of the
    references, and are left out then.
    """
    measure = shown_measure(measure, against)
    cases, conditions = cases_of(run), conditions_of(session, run)
    rows = _rows(session, run, measure)
    limits = limits_in(run)
    siblings = siblings_of(session, run)
    place = next(i for i, one in enumerate(siblings) if one.id == run.id)
    earlier: list[Run] = []
    decided: dict[int, Standing] = {}
    if against is None:
        decided, earlier = standings(session, run, today), siblings[:place][::-1]
    else:
        across = cells_against(session, run, against, measure, lambda case, condition: limits[case, condition])
        rows = [_over(row, across[row.id]) for row in rows]
    past = [_past(session, one) for one in earlier[:_MOST_BUILDS]]
    fingerprints = {case.id: case.fingerprint for case in cases}
    # A difference of two rates has the ink of its size; of all else a measure other than the residual has its limit's.
    own = measure == "residual_rms" or (against is not None and against.kind == "rate")
    laid_over = {case.id for case in cases if case.against == "signal"} if against is None else {c.id for c in cases}
    cells = [
        _cell(
            row, measure, None if own else limits, decided.get(row.id), _change(row, fingerprints, past),
            first=row.case_id not in laid_over and row.first,
        )
        for row in rows
    ]  # fmt: skip
    examined = _examined(rows, cells, cases, conditions, limits)
    by_id = {cell.id: cell for cell in cells}
    row_of = {row.id: row for row in rows}
    findings = [
        SheetFinding(
            finding,
            _since([row_of[i] for i in finding.cells], fingerprints, past, earlier, run),
            _before([by_id[i] for i in finding.cells]),
        )
        for finding in find(examined)
    ]
    return Sheet(run, cases, conditions, cells, findings, siblings, measure, earlier[0] if earlier else None)


_MOST_BUILDS = 8  # that a finding is followed back through


def siblings_of(session: Session, run: Run) -> list[Run]:
    """The newest run of each build of the same plan, in order of builds; this run for its own."""
    query = (
        select(Run)
        .join(PlanRevision, PlanRevision.id == Run.revision_id)
        .where(PlanRevision.plan_id == run.revision.plan_id, Run.search_id.is_(None))
        .order_by(Run.id)
    )
    newest = {one.build_id: one for one in session.scalars(query)} | {run.build_id: run}
    builds = {build.id: build for build in session.scalars(select(Build).where(Build.id.in_(newest)))}
    return sorted(newest.values(), key=lambda one: builds[one.build_id].position)


def _over(row: CellRow, across: CellAcross) -> CellRow:
    """A cell as it is when it is compared with its other side."""
    verdict = across.verdict
    return row._replace(
        state=across.state, verdict=verdict.name, facts=verdict_document(verdict), why=sentence(verdict),
        ink=verdict.ink, unfit=verdict.unfit,
        broken=verdict.broken, measured=across.measured, causes=[cause.document() for cause in across.causes],
        other=across.other,
    )  # fmt: skip


Trouble = tuple[str, frozenset[str], frozenset[str]]
"""Verdict, broken measures and causes of a cell."""

Past = Mapping[tuple[str, int], Trouble]
"""Those of the cells of an earlier run, by fingerprint and condition."""


def _rows(session: Session, run: Run, measure: str) -> list[CellRow]:
    """What is kept in the cells themselves, and what explains their difference; nothing heavier.

    Of a cell that is identical to its reference only what is shown is read: most are, and their readings are many.
    """
    shown = func.jsonb_build_object("identical", 1.0, measure, Cell.measured[measure])
    measured = when((Cell.measured["identical"].as_float() == 1.0, shown), else_=Cell.measured).label("measured")
    query = (
        select(
            Cell.id, Cell.case_id, Cell.condition_id, Cell.state, Cell.verdict, Cell.facts, Cell.why, Cell.ink,
            Cell.unfit, Cell.reused, Cell.broken, measured, Analysis.causes, Cell.fit_for_first_reference,
        )
        .outerjoin(Analysis, Analysis.key == Cell.analysis_key)
        .where(Cell.run_id == run.id)
        .order_by(Cell.id)
    )  # fmt: skip
    return [CellRow._make((*row, None)) for row in session.execute(query)]


def _past(session: Session, run: Run) -> Past:
    """What an earlier run found, by fingerprint and condition."""
    query = (
        select(Case.fingerprint, Cell.condition_id, Cell.verdict, Cell.broken, Analysis.causes)
        .join(Case, Case.id == Cell.case_id)
        .outerjoin(Analysis, Analysis.key == Cell.analysis_key)
        .where(Cell.run_id == run.id, Cell.finished)
    )
    return {
        (f, condition): (verdict, frozenset(broken), names_of(causes))
        for f, condition, verdict, broken, causes in session.execute(query)
    }


def names_of(causes: Sequence[CauseDocument] | None) -> frozenset[str]:
    """The causes of a cell by name, as they are kept."""
    return frozenset(str(cause["cause"]) for cause in causes or ())


def _same_trouble(row: CellRow, then: Trouble) -> bool:
    return same_trouble((row.verdict, frozenset(row.broken), names_of(row.causes)), then)


def same_trouble(now: Trouble, then: Trouble) -> bool:
    """Whether a cell was in the trouble that it is in now: by cause where causes are known on both sides."""
    if then[0] != now[0] or not then[1] & now[1]:
        return False
    return bool(now[2] & then[2]) if now[2] and then[2] else True


def limits_in(run: Run) -> dict[tuple[int, int], dict[str, Limit]]:
    """The limits of every cell by case and condition; one mapping serves all cells that share it."""
    plain = {case.id: {k: limit_from(d) for k, d in case.limits.items()} for case in run.revision.cases}
    found = {}
    for case in run.revision.cases:
        for condition in run.revision.condition_ids:
            own = run.revision.condition_limits.get(str(condition), {})
            found[case.id, condition] = (
                {k: limit_from(d) for k, d in limit_documents(case.limits, own).items()} if own else plain[case.id]
            )
    return found


def _cell(
    row: CellRow,
    measure: str,
    limits: Mapping[tuple[int, int], Mapping[str, Limit]] | None,
    decision: Standing | None,
    change: Change | None,
    *,
    first: bool,
) -> SheetCell:
    value = row.measured.get(measure)
    ink = row.ink
    if limits is not None:
        limit = limits[row.case_id, row.condition_id].get(measure)
        ink = 0.0 if value is None or limit is None else ink_of(Reading(measure, "all", value), limit)
    return SheetCell(
        id=row.id, case_id=row.case_id, condition_id=row.condition_id, state=row.state, verdict=row.verdict,
        why=row.why, ink=ink, unfit=row.unfit, reused=row.reused, identical=row.measured.get("identical") == 1.0,
        value=value, decision=decision, change=change, other=row.other, first=first,
    )  # fmt: skip


def _change(row: CellRow, fingerprints: Mapping[int, str], past: Sequence[Past]) -> Change | None:
    if not past or row.state not in FINISHED:
        return None
    then = past[0].get((fingerprints[row.case_id], row.condition_id))
    if then is None:
        return None
    failed, fails = then[0] in TROUBLE, row.verdict in TROUBLE
    if fails:
        return "still" if failed and _same_trouble(row, then) else "new"
    return "fixed" if failed else None


def _since(
    rows: Sequence[CellRow], fingerprints: Mapping[int, str], past: Sequence[Past], earlier: Sequence[Run], run: Run
) -> str | None:
    """The first build, going back without a break, in which most of the cells were wrong for the same causes."""
    if not past or rows[0].verdict not in TROUBLE:
        return None
    since = run.build.version
    for then, one in zip(past, earlier, strict=False):
        same = 0
        for row in rows:
            found = then.get((fingerprints[row.case_id], row.condition_id), ("", frozenset(), frozenset()))
            same += _same_trouble(row, found)
        if same * 2 <= len(rows):
            break
        since = one.build.version
    return since


def _before(cells: Sequence[SheetCell]) -> str | None:
    """What was decided of most of these cells before, and holds no more."""
    known = [c.decision for c in cells if c.decision is not None and not c.decision.holds]
    if not known:
        return None
    last = max(known, key=lambda decision: decision.act_id)
    said = {"accepted": "accepted", "fault": "recorded as a fault", "waived": "waived"}[last.kind]
    ticket = f", {last.ticket}" if last.ticket else ""
    return f"{said} in {last.version} by {last.who}{ticket}"


def _examined(
    rows: Sequence[CellRow],
    cells: Sequence[SheetCell],
    cases: Sequence[Case],
    conditions: Sequence[Condition],
    limits: Mapping[tuple[int, int], Mapping[str, Limit]],
) -> list[Examined]:
    versions = {name: {c.host_version for c in conditions if c.host == name} for name in {c.host for c in conditions}}
    factors = {}
    for condition in conditions:
        several = len(versions[condition.host]) > 1
        factors[condition.id] = {
            "host": f"{condition.host} {condition.host_version}" if several else condition.host,
            "mode": "in real time" if condition.mode == "real time" else condition.mode,
            "rate": rate_text(condition.rate),
            "block": f"blocks of {condition.block_size}",
        }
    named = {case.id: {"setting": case.setting.name, "signal": case.signal.name} for case in cases}
    plain: dict[tuple[object, ...], Verdict] = {}

    def verdict_of(row: CellRow) -> Verdict:
        """Most cells of a large run pass for the same reason, and share one verdict."""
        facts = row.facts
        if facts["found"]:
            return verdict_from(row.verdict, row.ink, facts)
        key = row.verdict, row.ink, facts["ground"], facts["other"], facts.get("why", "")
        if key not in plain:
            plain[key] = verdict_from(row.verdict, row.ink, facts)
        return plain[key]

    return [
        Examined(
            id=row.id, verdict=verdict_of(row), finished=row.state in FINISHED,
            rendered=row.state == "done", measured=row.measured, causes=tuple(map(Cause.of, row.causes or ())),
            limits=limits[row.case_id, row.condition_id], factors=factors[row.condition_id] | named[row.case_id],
            decided=not cell.needs_you,
        )
        for row, cell in zip(rows, cells, strict=True)
    ]  # fmt: skip
