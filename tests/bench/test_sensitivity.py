"""What a plan would miss: cells with what they depend on, jobs that find it, and what is told before and after."""

from datetime import UTC, datetime

import pytest
from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.bench.plans import PlanDocument, document_of, find_plan, latest_revision
from kind_echo.bench.plans.document import PlanLimit
from kind_echo.bench.reports import run_report
from kind_echo.bench.sensitivity import asking, find_noticed, plan_sensitivity, planned_cells, request_sensitivity
from kind_echo.core.sensitivity.summary import USUAL_WANTED, cover
from kind_echo.database.models import Content, Run, Sensitivity
from kind_echo.database.sessions import transaction
from kind_echo.wording.sensitivity import cover_sentence, row_sentence, summary_sentence
from tests.conftest import drain

NOW = datetime(2026, 12, 1, tzinfo=UTC)


def _document(**limits: PlanLimit) -> PlanDocument:
    """Two cells of a plan of the demo."""
    with transaction() as session:
        plan = find_plan(session, "Unity and polarity")
        whole = document_of(session, latest_revision(session, plan.id))
    case = next(one for one in whole.cases if one.signal == "Steady tone 997 Hz")
    condition = whole.conditions[0].model_copy(update={"modes": ["offline"], "rates": [48_000]})
    return whole.model_copy(update={"cases": [case], "conditions": [condition], "exclude": [], "limits": limits})


def test_workers_find_what_is_asked_once_and_gaps_are_closed_by_what_was_tried(demo: str) -> None:
    document = _document(residual_rms=PlanLimit(at_most=-50.0), gain=PlanLimit())
    with transaction() as session:
        planned = planned_cells(session, document)
        (asked,) = [cell.asked for cell in planned if cell.asked is not None]
        assert len(request_sensitivity(session, [asked, asked], NOW)) == 1
        assert request_sensitivity(session, [asked], NOW) == []
        before = plan_sensitivity(session, planned, USUAL_WANTED)
        assert (before.cells, before.rows, before.under_way, before.knows_cells) == ([], [], 1, False)
    drain()
    with transaction() as session:
        after = plan_sensitivity(session, planned, USUAL_WANTED)
        assert (after.knows_cells, after.under_way) == (True, len(after.wanting))
        gaps = {row.fault.key: row for row in asking.gaps_of(after.rows)}
        assert gaps["noise"].is_met is False  # wanted from −100 dBFS, and held to −50
        assert {"channel_swap", "channel_mix"} <= set(gaps)
        request_sensitivity(session, after.wanting, NOW)
    drain()
    with transaction() as session:
        known = plan_sensitivity(session, planned, USUAL_WANTED)
        assert known.under_way == 0
        assert known.closing["noise"].limit == pytest.approx(-101.0, abs=0.2)
        assert known.closing["channel_swap"].signals == ("Pink noise, two channels apart",)
        assert "nothing in these cells can have it" in row_sentence(gaps["channel_swap"], len(known.cells))
        assert summary_sentence(known.rows).startswith("It would have noticed ")
        assert cover_sentence(cover(known.cells)) == "Every case notices something that no other does."
    fine = _document(residual_rms=PlanLimit(at_most=known.closing["noise"].limit), gain=PlanLimit())
    with transaction() as session:
        planned = planned_cells(session, fine)
        (number,) = request_sensitivity(session, [cell.asked for cell in planned if cell.asked], NOW, defer=False)
    find_noticed(number)
    with transaction() as session:
        closed = {row.fault.key: row for row in plan_sensitivity(session, planned, USUAL_WANTED).rows}
        assert closed["noise"].is_met is True


def test_a_cell_depends_on_its_limits_its_reference_and_what_finds_it(
    demo: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    with transaction() as session:
        first, again, other = (
            planned_cells(session, _document(**limits))[0].key for limits in ({}, {}, {"gain": PlanLimit(at_most=3.0)})
        )
        assert first == again != other
        monkeypatch.setattr(asking, "FAULTS_VERSION", 0)
        assert planned_cells(session, _document())[0].key != first


def test_cells_without_a_reference_are_counted_and_large_plans_are_refused(
    demo: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    document = _document()
    document.conditions[0].blocks = [333]  # nobody has rendered so
    with transaction() as session:
        planned = planned_cells(session, document)
        told = plan_sensitivity(session, planned, USUAL_WANTED)
        assert (told.without, told.under_way, told.knows_cells) == (1, 0, False)
        monkeypatch.setattr(asking, "MOST_CELLS", 0)
        with pytest.raises(asking.TooManyCells):
            planned_cells(session, document)


def test_what_cannot_be_found_says_why_and_is_tried_again(demo: str) -> None:
    with transaction() as session:
        planned = planned_cells(session, _document())
        (asked,) = [cell.asked for cell in planned if cell.asked is not None]
        session.get_one(Content, asked["sha256"]).dropped_at = NOW
        request_sensitivity(session, [asked], NOW)
    drain()
    with transaction() as session:
        ((cell, why),) = plan_sensitivity(session, planned, USUAL_WANTED).failed
        assert cell.case == "Steady tone 997 Hz, Default"
        assert "dropped" in why
        session.get_one(Content, asked["sha256"]).dropped_at = None
        request_sensitivity(session, [asked], NOW)
    drain()
    with transaction() as session:
        assert plan_sensitivity(session, planned, USUAL_WANTED).knows_cells


def test_the_report_of_a_run_tells_it_once_it_is_known(demo: str) -> None:
    title = "What this plan would notice"
    with transaction() as session:
        run = session.scalars(select(Run).where(Run.revision_id == _revision(session)).order_by(Run.id)).first()
        assert run is not None
        report = run_report(session, run, NOW)
        assert title not in [section.title for section in report.sections]
        planned = planned_cells(session, document_of(session, run.revision))
        session.add_all(
            Sensitivity(key=key, asked={}, found=[{"fault": "gain", "state": "noticed", "size": 0.02}], asked_at=NOW)
            for key in {cell.key for cell in planned if cell.asked is not None}
        )
        session.flush()
        report = run_report(session, run, NOW)
        assert title in [section.title for section in report.sections]
        session.rollback()


def _revision(session: Session) -> int:
    return latest_revision(session, find_plan(session, "Unity and polarity").id).id
