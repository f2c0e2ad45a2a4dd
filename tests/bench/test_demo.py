"""The planted faults are found where they are planted, by the measure that is named for each, and nothing else is."""

import tomllib
from collections import Counter
from datetime import date
from pathlib import Path
from typing import Any

import pytest

from kind_echo.bench.documents import limit_from, reading_from
from kind_echo.bench.machines import renderers_of
from kind_echo.bench.plans import all_plans
from kind_echo.bench.runs import cells_of, conditions_of, list_runs
from kind_echo.bench.sheets import sheet_of
from kind_echo.core.verdicts.rules import judge_cell
from kind_echo.core.verdicts.verdict import Verdict
from kind_echo.database.models import Cell
from kind_echo.database.sessions import transaction
from kind_echo.renderers.plugins.standards import LV2
from tests.conftest import newest_run

_PROJECT = Path(__file__).parents[2]
_TRUTH: dict[str, list[dict[str, Any]]] = tomllib.loads((_PROJECT / "tests/standins/planted.toml").read_text())


def _holds(fault: dict[str, Any], cell: Cell) -> bool:
    """Whether a planted fault shows in a cell: each list that it gives must name what the cell has."""
    build, condition, case = cell.run.build, cell.condition, cell.case
    has = {
        "builds": build.version, "hosts": f"{condition.host} {condition.host_version}", "modes": condition.mode,
        "rates": condition.rate, "settings": case.setting.name, "signals": case.signal.name,
    }  # fmt: skip
    return fault.get("effect", build.effect.name) == build.effect.name and all(
        value in fault.get(key, [value]) for key, value in has.items()
    )


def _place(cell: Cell) -> str:
    build, condition, case = cell.run.build, cell.condition, cell.case
    return (
        f"{build.effect.name} {build.version}: {case.signal.name}, {case.setting.name}, {condition.host} "
        f"{condition.host_version}, {condition.mode}, {condition.rate}: {cell.verdict}, {cell.why}"
    )


def _judged_again(cell: Cell) -> Verdict:
    assert cell.render is not None, _place(cell)
    limits = {key: limit_from(document) for key, document in cell.case.limits.items()}
    compared = [reading_from(d) for d in cell.analysis.readings] if cell.analysis else None
    return judge_cell([reading_from(d) for d in cell.render.readings], compared, limits)


def test_every_planted_fault_is_found_by_its_measure_and_no_other_cell_fails(seen: str) -> None:
    found: Counter[str] = Counter()
    wrong = []
    with transaction() as session:
        for summary in list_runs(session):
            for cell in cells_of(session, summary.run.id):
                planted = [fault for fault in _TRUTH["fault"] if _holds(fault, cell)]
                expected = planted[0]["verdict"] if planted else "Pass"
                broken = _judged_again(cell).broken
                named = not planted or expected == "Changed" or planted[0]["measure"] in broken
                if cell.verdict != expected or not named:
                    wrong.append(_place(cell))
                found.update(fault["what"] for fault in planted)
    assert wrong == []
    assert {fault["what"] for fault in _TRUTH["fault"]} == set(found)


def test_what_the_demo_does_not_show_is_found_by_the_test_that_is_named() -> None:
    for fault in _TRUTH["elsewhere"]:
        path, _, name = fault["test"].partition("::")
        assert f"def {name}(" in (_PROJECT / path).read_text(), fault["what"]


def test_the_first_candidate_is_late_by_one_sample_and_too_loud_in_soft(seen: str) -> None:
    with transaction() as session:
        for cell in cells_of(session, newest_run(session, "2.1.0-rc1").id):
            if cell.analysis is None:
                continue
            found = {r["measure"]: r["value"] for r in cell.analysis.readings if r["channel"] == "all"}
            assert abs(found["delay"] - 1.0) < 0.01, _place(cell)
            gain = 0.07 if cell.case.setting.name.startswith("Soft") else 0.0
            assert abs(found["gain"] - gain) < 0.001, _place(cell)


def test_findings_tell_planted_faults_apart_and_name_what_their_cells_share(seen: str) -> None:
    """Each fault gives one finding, whose cells show no other; cells that two faults hold in may stand in either's."""
    mixed, scattered = [], []
    with transaction() as session:
        for summary in list_runs(session):
            sheet = sheet_of(session, summary.run, date(2026, 11, 25))
            cells = {cell.id: cell for cell in cells_of(session, summary.run.id)}
            planted = [*_TRUTH["fault"], *_TRUTH["beside"]]
            faults = {n: {f["what"] for f in planted if _holds(f, cell)} for n, cell in cells.items()}
            alone = {n: next(iter(whats)) for n, whats in faults.items() if len(whats) == 1}
            for found in sheet.findings:
                shared = set.intersection(*(faults[n] for n in found.finding.cells))
                if len({alone[n] for n in found.finding.cells if n in alone}) > 1 or not shared:
                    mixed.append((summary.run.build.version, found.finding))
            for what in set(alone.values()):
                mine = {n for n, one in alone.items() if one == what}
                holding = [f.finding for f in sheet.findings if mine & set(f.finding.cells)]
                if not any(mine <= set(f.cells) for f in holding) or len(holding) > 1:
                    scattered.append((summary.run.build.version, what, holding))
    assert mixed == []
    assert scattered == []


@pytest.mark.parametrize(
    ("version", "expected"),
    [
        ("2.0.3", [("Silence at the start", "in Bittern, at 44.1 kHz and 48 kHz", 12, 0, None)]),
        ("2.1.0-rc1", [
            ("1 sample late", "wherever it can be measured", 60, 0, "2.1.0-rc1"),
            ("0.07 dB up", "with Soft, 4× and Soft, 8×", 20, 0, "2.1.0-rc1"),
            ("Silence at the start", "in Bittern, at 44.1 kHz and 48 kHz", 12, 0, "2.0.3"),
        ]),
        ("2.1.0-rc2", [
            ("Aliases: new orders 23 to 27, where a cause is known", "at 44.1 kHz, with Hard, 8× and Soft, 8×",
             6, 6, "2.1.0-rc2"),
            ("Silence at the start", "in Bittern, at 44.1 kHz and 48 kHz", 12, 0, "2.0.3"),
        ]),
    ],
)  # fmt: skip
def test_the_candidates_findings_are_what_was_planted_and_since_when(
    seen: str, version: str, expected: list[tuple[object, ...]]
) -> None:
    with transaction() as session:
        sheet = sheet_of(session, newest_run(session, version), date(2026, 11, 25))
    found = [(s.finding.headline, s.finding.where, len(s.finding.cells), s.finding.undecided, s.since)
             for s in sheet.findings]  # fmt: skip
    assert found == expected


def test_the_second_candidate_fixes_what_the_first_broke_and_breaks_something_new(seen: str) -> None:
    with transaction() as session:
        sheet = sheet_of(session, newest_run(session, "2.1.0-rc2"), date(2026, 11, 25))
    assert sheet.before is not None
    assert sheet.before.build.version == "2.1.0-rc1"
    assert Counter(cell.change for cell in sheet.cells) == {"fixed": 54, "still": 12, "new": 6}


def test_a_render_that_repeats_is_kept_once(seen: str) -> None:
    """Real time and offline, and hosts that change nothing, give one content: a re-run costs no space."""
    with transaction() as session:
        cells = cells_of(session, newest_run(session, "2.0.3").id)
        contents = Counter(cell.render.content_sha256 for cell in cells if cell.render)
    assert len(contents) < len(cells) / 2


def test_an_effect_that_is_never_twice_the_same_is_held_to_the_spread_of_its_takes(seen: str) -> None:
    with transaction() as session:
        cells = cells_of(session, newest_run(session, "1.0-rc1", "Folding").id)
        wandering = [cell for cell in cells if cell.case.takes == 3]
        assert wandering
        for cell in wandering:
            assert cell.render is not None
            assert cell.analysis is not None
            spread = next(r["value"] for r in cell.render.readings if r["measure"] == "take_spread")
            residual = next(
                r["value"] for r in cell.analysis.readings if (r["measure"], r["channel"]) == ("residual_rms", "all")
            )
            assert spread > -60, _place(cell)
            assert abs(residual - spread) < 12, _place(cell)


def test_the_real_amplifier_gives_the_gain_that_is_set(seen: str) -> None:
    """Rendered through Debian's plug-in host: a steady tone at −30 dBFS comes out at −30 dBFS plus the setting."""
    with transaction() as session:
        plan = next((plan for plan in all_plans(session) if plan.name == "Gain calibration"), None)
        if plan is None:
            pytest.skip("the example plug-ins (Debian's lv2-examples and lilv-utils) are not installed")
        run = next(s.run for s in list_runs(session) if s.run.revision.plan_id == plan.id)
        cells = [cell for cell in cells_of(session, run.id) if "tone" in cell.case.signal.name]
        assert len(cells) == 12
        for cell in cells:
            assert cell.render is not None
            assert cell.verdict == "Pass", _place(cell)
            level = next(
                r["value"] for r in cell.render.readings if (r["measure"], r["channel"]) == ("fundamental_level", "all")
            )
            assert level == pytest.approx(-30.0 + cell.case.setting.parameters["gain"], abs=0.001), _place(cell)
        assert set(renderers_of(session, conditions_of(session, run)).values()) == {LV2.key}
