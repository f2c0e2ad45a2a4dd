"""Sums of renders: added up where they lie, refused where they do not fit, and not asked of anybody's hands."""

from dataclasses import replace
from datetime import UTC, datetime

import numpy as np
import pytest

from kind_echo.bench.kits import why_not
from kind_echo.bench.plans import PlanDocument, find_build, latest_revision, save_plan, unfold
from kind_echo.bench.plans.document import PlanCase, PlanCondition, Sweep
from kind_echo.bench.plans.revisions import case_fingerprint
from kind_echo.bench.runs import cells_of, start_run
from kind_echo.database.sessions import transaction
from kind_echo.renderers.contract import RenderFailed, RenderRequest, RenderResult
from kind_echo.renderers.takes import render_takes
from tests.conftest import drain

NOW = datetime(2026, 11, 25, tzinfo=UTC)
SIGNAL = np.random.default_rng(3).uniform(-0.5, 0.5, (480, 2))


class Scaled:
    """Gives the signal times the parameter `by`; what else it answers is as it is told."""

    def __init__(self, **answers: dict[float, object]) -> None:
        self.answers, self.asked = answers, 0

    def render(self, request: RenderRequest) -> RenderResult:
        self.asked += 1
        by = float(request.values["by"])
        told = {name: values[by] for name, values in self.answers.items()}
        samples = request.signal * by
        result = RenderResult(samples, 64, log=f"by {by:g}", cpu_seconds=0.5, memory=10.0 * by)
        return replace(result, **told)  # type: ignore[arg-type]

    def artefact(self, effect: str, handle: str, version: str) -> str | None:
        return None


def request(*factors: float) -> RenderRequest:
    parts = tuple({"by": factor} for factor in factors)
    return RenderRequest("E", "1", {"by": 1.0}, "H", "1", "offline", 48_000, 512, SIGNAL, parts=parts)


def test_parts_are_added_up_and_so_is_what_they_took() -> None:
    renderer = Scaled()
    rendered = render_takes(renderer, request(0.25, 0.5, 0.25), 2)
    assert renderer.asked == 6
    for take in rendered.takes:
        np.testing.assert_allclose(take.samples, SIGNAL, atol=1e-15)
        assert (take.claimed_latency, take.cpu_seconds, take.memory) == (64, 1.5, 5.0)
        assert take.log == "by 0.25\nby 0.5\nby 0.25"


def test_the_order_of_parts_changes_nothing_but_rounding() -> None:
    forth, back = (render_takes(Scaled(), request(*factors), 1) for factors in ((0.1, 0.7, 3.0), (3.0, 0.7, 0.1)))
    np.testing.assert_allclose(forth.takes[0].samples, back.takes[0].samples, atol=1e-15)


@pytest.mark.parametrize(
    ("renderer", "words"),
    [
        (Scaled(claimed_latency={0.5: 64, 0.25: 65}), "claim different latencies"),
        (Scaled(compensated={0.5: True, 0.25: False}), "claim different latencies"),
        (Scaled(samples={0.5: SIGNAL, 0.25: SIGNAL[:-1]}), "have different lengths"),
    ],
)
def test_parts_that_do_not_fit_are_not_moved_until_they_do(renderer: Scaled, words: str) -> None:
    with pytest.raises(RenderFailed, match=words) as failed:
        render_takes(renderer, request(0.5, 0.25), 1)
    assert failed.value.log == "by 0.5\nby 0.25"


def test_a_sum_is_another_case_than_any_of_its_parts() -> None:
    signal, low, high = {"kind": "bells"}, {"output": "low"}, {"output": "high"}
    told = [case_fingerprint(signal, low), case_fingerprint(signal, low, [low, high]),
            case_fingerprint(signal, low, [high, low]), case_fingerprint(signal, low, [low])]  # fmt: skip
    assert len(set(told)) == len(told)


def test_a_sum_is_not_asked_of_hands_and_says_so(demo: str) -> None:
    by_hand = PlanCondition(host="Dunlin", version="5", modes=["real time"], rates=[48_000])
    document = PlanDocument(
        plan="Sums by hand", effect="Weir",
        cases=[
            PlanCase(signal="Bell buoy strikes", setting="All bands",
                     sweep=Sweep(parameter="output", values=["low", "high"], summed=summed))
            for summed in (True, False)
        ],
        conditions=[by_hand],
    )  # fmt: skip
    with transaction() as session:
        document.cases[0].setting = document.cases[1].setting = _first_setting(session)
        assert unfold(session, document).renders == 4
        plan = save_plan(session, document, who="Nora F.", now=NOW).plan_id
        build = find_build(session, latest_revision(session, plan).plan, "1.0")
        run = start_run(session, plan, build.id, who="Nora F.", now=NOW).id
    drain()
    with transaction() as session:
        summed, low, high = cells_of(session, run)
        assert (summed.state, summed.verdict) == ("failed", "No reading")
        assert "made by a machine" in summed.why
        assert [why_not(session, cell) for cell in (low, high)] == [None, None]
        assert (low.state, high.state) == ("waiting", "waiting")


def _first_setting(session: object) -> str:
    from sqlalchemy import select

    from kind_echo.database.models import Effect, Setting

    query = select(Setting.name).join(Effect, Effect.id == Setting.effect_id).where(Effect.name == "Weir")
    return str(session.scalars(query.order_by(Setting.id)).first())  # type: ignore[attr-defined]
