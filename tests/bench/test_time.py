"""Over time: the first build that differs, found by halves, and trends of a measure over the builds."""

from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import delete, select, update

from kind_echo.bench.plans import find_plan
from kind_echo.bench.runs import CellNotFound, cells_of, find_search, list_runs, standing_of, start_search
from kind_echo.bench.runs.searching import NothingToSearch, SearchNotFound, halve
from kind_echo.bench.sheets import (
    case_name,
    case_worth_opening,
    cases_over_builds,
    runs_of_plan,
    sheet_of,
    trend_of,
    worst_by_measure,
    worth_showing,
)
from kind_echo.database.models import Build, Cell, Run
from kind_echo.database.sessions import transaction
from tests.conftest import drain, newest_run

NOW = datetime(2026, 11, 25, tzinfo=UTC)


def _forget(version: str) -> None:
    """As if that build had never been run."""
    with transaction() as session:
        run = newest_run(session, version)
        cells = select(Cell.id).where(Cell.run_id == run.id)
        for table in ("decision", "kit_file", "reference"):
            session.execute(delete(Cell.metadata.tables[table]).where(Cell.metadata.tables[table].c.cell_id.in_(cells)))
        session.execute(delete(Cell).where(Cell.run_id == run.id))
        session.execute(delete(Run).where(Run.id == run.id))


def _cell(version: str, verdict: str, setting: str = "Hard, 8×") -> int:
    with transaction() as session:
        cells = cells_of(session, newest_run(session, version).id)
        return next(c.id for c in cells if c.verdict == verdict and not c.unfit and c.case.setting.name == setting)


def test_the_build_between_is_rendered_and_found_to_be_the_first_that_differs(demo: str) -> None:
    """2.1.0-rc1 was not run and must be rendered to tell: it is late, and has not got what is wrong with rc2."""
    _forget("2.1.0-rc1")
    failing = _cell("2.1.0-rc2", "Fail")
    with transaction() as session:
        search = start_search(session, failing, who="Nora F.", now=NOW).id
        assert standing_of(session, find_search(session, search)).first is None
    drain()
    with transaction() as session:
        found = standing_of(session, find_search(session, search))
        assert [(one.build.version, one.passes) for one in found.looked] == [
            ("2.0.3", True), ("2.1.0-rc1", False), ("2.1.0-rc2", False)
        ]  # fmt: skip
        assert found.first == 2
        assert all(summary.run.search_id is None for summary in list_runs(session))
        rendered = found.looked[1].cell
        assert rendered is not None
        assert len(cells_of(session, rendered.run_id)) == 1


def test_what_is_known_already_is_not_rendered_again(demo: str) -> None:
    failing = _cell("2.1.0-rc2", "Fail")
    with transaction() as session:
        found = standing_of(session, start_search(session, failing, who="Nora F.", now=NOW))
        assert (found.first, [one.build.version for one in found.looked]) == (2, ["2.0.3", "2.1.0-rc1", "2.1.0-rc2"])
        assert session.scalar(select(Run.id).where(Run.search_id.is_not(None))) is None


def test_five_builds_between_take_two_renders(demo: str) -> None:
    """The versions are of one and the same simulated build each time, so only the ends tell them apart."""
    failing = _cell("2.1.0-rc2", "Fail")
    _forget("2.1.0-rc1")
    with transaction() as session:
        last = session.get_one(Cell, failing).run.build
        session.execute(update(Build).where(Build.effect_id == last.effect_id, Build.position > 0)
                        .values(position=Build.position + 100))  # fmt: skip
        session.add_all(
            Build(effect_id=last.effect_id, version=f"2.0.{4 + n}", position=1 + n, note="") for n in range(4)
        )
    with transaction() as session:
        search = start_search(session, failing, who="Nora F.", now=NOW).id
    drain()
    with transaction() as session:
        found = standing_of(session, find_search(session, search))
        rendered = [one.build.version for one in found.looked if one.cell is not None]
        # No machine has 2.0.4 to 2.0.7, so none of them can be rendered, and what cannot be rendered does not pass.
        assert rendered == ["2.0.3", "2.0.4", "2.0.6", "2.1.0-rc2"]
        assert found.first == 1


def test_there_is_nothing_to_search_from_what_passes_or_never_passed(seen: str) -> None:
    for version, verdict, words in (("2.1.0-rc2", "Pass", "passes"), ("2.0.3", "Pass", "passes")):
        with pytest.raises(NothingToSearch, match=words), transaction() as session:
            start_search(session, _cell(version, verdict), who="Nora F.", now=NOW)
    with transaction() as session:
        unfit = next(c.id for c in cells_of(session, newest_run(session, "2.1.0-rc2").id) if c.unfit)
    with pytest.raises(NothingToSearch, match="no earlier build"), transaction() as session:
        start_search(session, unfit, who="Nora F.", now=NOW)
    with transaction() as session:
        with pytest.raises(CellNotFound):
            start_search(session, 999_999, who="Nora F.", now=NOW)
        with pytest.raises(SearchNotFound):
            find_search(session, 999)


@given(st.lists(st.none() | st.booleans(), max_size=30))
def test_halving_always_narrows_between_a_build_that_passes_and_one_that_does_not(middle: list[bool | None]) -> None:
    passes = [True, *middle, False]
    good, bad = halve(passes)
    assert passes[good] is True
    assert passes[bad] is False
    assert good < bad
    assert all(one is None for one in passes[good + 1 : bad])


@given(st.integers(1, 200), st.data())
def test_halving_finds_the_first_in_as_many_renders_as_a_binary_search_takes(builds: int, data: st.DataObject) -> None:
    first = data.draw(st.integers(1, builds))
    passes: list[bool | None] = [True, *[None] * (builds - 1), False]
    asked = 0
    while (ends := halve(passes))[1] - ends[0] > 1:
        middle = sum(ends) // 2
        passes[middle] = middle < first
        asked += 1
    assert halve(passes) == (first - 1, first)
    assert asked <= builds.bit_length()


def test_a_trend_has_a_line_for_each_case_and_condition_with_its_limit_and_its_references(seen: str) -> None:
    with transaction() as session:
        trend = trend_of(session, find_plan(session, "Null regression"), "gain")
        assert [run.build.version for run in trend.runs] == ["2.0.3", "2.1.0-rc1", "2.1.0-rc2"]
        assert len(trend.lines) == 72
        line = next(
            one for one in trend.lines
            if (one.case.setting.name, one.condition.host, one.condition.rate) == ("Soft, 4×", "Estuary", 48_000)
        )  # fmt: skip
        assert line.limit is not None
        assert (line.limit.at_most, line.approved) == (0.05, [0])
        values = [point.value for point in line.points if point is not None]
        assert values == [pytest.approx(0.0), pytest.approx(0.07, abs=0.001), pytest.approx(0.0)]
        assert trend_of(session, find_plan(session, "By hand"), "gain").lines == []


def test_a_planted_change_is_marked_at_its_build_and_opens_first(seen: str) -> None:
    """Skerry 2.1.0-rc1 is 0.07 dB up in every condition of the demo, and its newest build folds at 44.1 kHz."""
    with transaction() as session:
        plan = find_plan(session, "Null regression")
        gain = trend_of(session, plan, "gain")
        versions = [run.build.version for run in gain.runs]
        marked = {versions[step.place] for line in gain.lines for step in line.changes}
        assert "2.1.0-rc1" in marked
        louder = [step.by for line in gain.lines for step in line.changes if versions[step.place] == "2.1.0-rc1"]
        assert any(by == pytest.approx(0.07, abs=0.01) for by in louder if by is not None)
        steady = [line for line in gain.lines if len({p.value for p in line.points if p is not None}) == 1]
        assert steady
        assert not any(line.changes for line in steady)
        first = worth_showing(session)
        assert first is not None
        shown = trend_of(session, *first)
        assert max(step.place for line in shown.lines for step in line.changes) == len(shown.runs) - 1
        cases = cases_over_builds(session, plan)
        opened = case_worth_opening(session, plan, "gain")
        assert opened in cases
        alone = trend_of(session, plan, "gain", opened)
        assert alone.lines == [line for line in gain.lines if case_name(line.case) == opened]
        assert any(line.changes for line in alone.lines)
        assert trend_of(session, plan, "gain", ("Nothing", "Nowhere")).lines == []


def test_every_measure_by_build_has_the_worst_reading_of_its_run(seen: str) -> None:
    with transaction() as session:
        for run in runs_of_plan(session, find_plan(session, "Null regression")):
            worst = worst_by_measure(session, run)
            for measure in ("residual_rms", "gain", "sample_peak"):
                sheet = sheet_of(session, run, NOW.date(), measure=measure)
                values = {cell.id: cell.value for cell in sheet.cells if cell.value is not None}
                if not values:
                    assert measure not in worst
                    continue
                found = worst[measure]
                assert values[found.cell_id] == found.value
                assert found.readings == len(values)
                if measure == "gain":
                    assert abs(found.value) == max(map(abs, values.values()))
                if measure == "sample_peak":
                    assert (found.value, found.limited, found.ink) == (max(values.values()), 0, 0.0)
