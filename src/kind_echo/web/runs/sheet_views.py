"""From a sheet to the body that the API sends."""

from datetime import UTC, datetime

import orjson
from sqlalchemy.orm import Session

from kind_echo.bench.decisions import last_act_number
from kind_echo.bench.machines import BY_HAND, renderers_of
from kind_echo.bench.runs import Run, held_up, summary_of
from kind_echo.bench.sheets import Sheet, SheetCell, SheetFinding, parse_against, sheet_of, usual_measure
from kind_echo.core.registry.measures import MEASURES
from kind_echo.core.verdicts.rules import INK_AT_LIMIT
from kind_echo.web.http.schemas import ConditionBody
from kind_echo.web.runs.schemas import CaseBody, CellBody, FindingBody, SheetBody, SiblingBody, SymptomBody
from kind_echo.web.runs.sheet_answer import SheetAnswer
from kind_echo.web.runs.views import judged_body, run_body
from kind_echo.wording.verdicts import symptom_text


def sheet_answer(session: Session, run: Run, measure: str, against: str = "") -> SheetAnswer:
    """A run as a sheet, as it is sent, with a measure as its figures; empty for what its plan asks."""
    over = parse_against(session, against) if against else None
    sheet = sheet_of(session, run, datetime.now(UTC).date(), measure or usual_measure(run), over)
    held = held_up(session, run)
    head = SheetBody(
        run=run_body(summary_of(session, run), sum(cell.needs_you for cell in sheet.cells)),
        siblings=[_sibling(one) for one in sheet.siblings],
        cases=[CaseBody(id=c.id, signal=c.signal.name, setting=c.setting.name) for c in sheet.cases],
        conditions=[ConditionBody.model_validate(c) for c in sheet.conditions],
        cells=[],  # thousands: they are written one by one
        findings=[_finding_body(f) for f in sheet.findings],
        measure=sheet.measure,
        measures=_limited(sheet),
        before=_sibling(sheet.before) if sheet.before is not None else None,
        latest_act=last_act_number(session),
        ink_at_limit=INK_AT_LIMIT,
        by_hand=_by_hand(session, sheet),
        for_kit=held.kit,
        lacking=held.lacking,
    )
    return SheetAnswer.of(head, {cell.id: cell_json(cell) for cell in sheet.cells})


def cell_json(cell: SheetCell) -> bytes:
    """A cell as `CellBody` writes it; past that model, which takes longer, where nobody has decided on it."""
    if cell.decision is not None:
        return CellBody.model_validate(cell).model_dump_json().encode()
    return orjson.dumps({**cell._asdict(), "needs_you": cell.needs_you})


def _sibling(run: Run) -> SiblingBody:
    return SiblingBody(run_id=run.id, version=run.build.version)


def _finding_body(one: SheetFinding) -> FindingBody:
    finding = one.finding
    symptoms = [
        SymptomBody(
            verdict=symptom.verdict, ground=symptom.ground, measure=symptom.measure, other=symptom.other,
            amount=symptom.amount, cause=symptom.cause, words=symptom_text(symptom),
            found=judged_body(symptom.found) if symptom.found is not None else None,
        )
        for symptom in finding.symptoms
    ]  # fmt: skip
    return FindingBody(
        key=finding.key, verdict=finding.verdict, headline=finding.headline, symptoms=symptoms, where=finding.where,
        worst=finding.worst, cells=list(finding.cells), undecided=finding.undecided, since=one.since, before=one.before,
    )  # fmt: skip


def _limited(sheet: Sheet) -> list[str]:
    """The measures that any cell has a limit for, and the one that is shown, in the order of the registry."""
    revision = sheet.run.revision
    held: set[str] = set().union(
        *(case.limits for case in sheet.cases), *(limits for limits in revision.condition_limits.values())
    )
    return [key for key in MEASURES if key in held or key in ("residual_rms", sheet.measure)]


def _by_hand(session: Session, sheet: Sheet) -> int:
    """How many cells people render, with a kit."""
    renderers = renderers_of(session, sheet.conditions)
    return sum(renderers[cell.condition_id] == BY_HAND for cell in sheet.cells)
