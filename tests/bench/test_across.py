"""A run compared with another build, host, mode or rate: judged by what the two sides are to each other."""

from collections import Counter
from datetime import date
from types import SimpleNamespace

import pytest

from kind_echo.bench.documents import verdict_document
from kind_echo.bench.runs import RunNotFound, find_run
from kind_echo.bench.sheets import Sheet, compare_missing, parse_against, sheet_of
from kind_echo.bench.sheets.across import _laid_over
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.verdicts.rules import not_rendered
from kind_echo.database.sessions import transaction
from tests.conftest import drain, newest_run

TODAY = date(2026, 11, 25)


def _over(version: str, against: str, plan: str = "Null regression", measure: str = "residual_rms") -> Sheet:
    with transaction() as session:
        run = newest_run(session, version, plan).id
        compare_missing(session, find_run(session, run), parse_against(session, against))
    drain()
    with transaction() as session:
        found = find_run(session, run)
        assert compare_missing(session, found, parse_against(session, against)) == 0
        return sheet_of(session, found, TODAY, measure, parse_against(session, against))


def _run(version: str, plan: str = "Null regression") -> int:
    with transaction() as session:
        return newest_run(session, version, plan).id


def _findings(sheet: Sheet) -> list[tuple[str, str, int]]:
    return [(s.finding.headline, s.finding.where, len(s.finding.cells)) for s in sheet.findings]


def test_build_with_build_undoes_what_the_first_candidate_did(demo: str) -> None:
    """rc1 is one sample late and 0.07 dB loud in soft, so that rc2 is early and soft beside it."""
    sheet = _over("2.1.0-rc2", f"build:{_run('2.1.0-rc1')}")
    found = _findings(sheet)
    assert found[0][0].startswith("1 sample early")
    assert ("0.07 dB down", "with Soft, 4× and Soft, 8×", 20) in found
    assert all(cell.decision is None and cell.change is None for cell in sheet.cells)
    pair = next(cell for cell in sheet.cells if cell.verdict == "Fail" and not cell.unfit)
    assert pair.other is not None


def test_mode_with_mode_shows_oversampling_that_real_time_leaves_out(demo: str) -> None:
    """Almanac 8 renders in real time without the oversampling that is set; no reference is needed to see it."""
    sheet = _over("2.0.3", "mode:offline", "Real time against offline")
    assert [cell.verdict for cell in sheet.cells] == ["Fail", "Pass"] * 2
    assert _findings(sheet)[0][1] == "in real time"
    assert sheet.cells[1].why == "It is offline itself, that the others are compared with"


def test_host_with_host_is_blank_where_hosts_change_nothing(demo: str) -> None:
    sheet = _over("2.1.0-rc2", "host:Almanac 7")
    assert Counter(cell.verdict for cell in sheet.cells) == {"Pass": 60, "Fail": 12}
    assert _findings(sheet) == [("Silence at the start", "in Bittern, at 44.1 kHz and 48 kHz", 12)]


def test_rate_with_rate_compares_readings_and_no_samples(demo: str) -> None:
    sheet = _over("1.0-rc1", "rate:48000", "Folding")
    assert sheet.measure == "rms"
    changed = [cell for cell in sheet.cells if cell.verdict == "Changed"]
    assert changed
    for cell in changed:
        assert cell.value is not None
        assert abs(cell.value) > 0.1
        assert cell.ink > 0
        assert cell.why.startswith("RMS, AES17: ")
        assert "against 48 kHz" in cell.why
    assert {cell.verdict for cell in sheet.cells} <= {"Pass", "Changed", "Fail", "No reading"}


@pytest.mark.parametrize("text", ["", "build", "build:x", "build:99999999999999", "rate:fast", "colour:red", "host:"])
def test_what_a_run_cannot_be_laid_over_is_refused(seen: str, text: str) -> None:
    with transaction() as session, pytest.raises(BadParameter):
        parse_against(session, text)


def test_a_build_that_was_never_run_is_refused(seen: str) -> None:
    with transaction() as session, pytest.raises(RunNotFound):
        parse_against(session, "build:999")


@pytest.mark.parametrize("unfit", [False, True])
def test_what_was_measured_against_the_reference_is_not_shown_of_another_side(unfit: bool) -> None:
    verdict = not_rendered("it crashed")
    cell = SimpleNamespace(
        id=1, finished=True, unfit=unfit, sha256="1", rate=48_000, channels=1, dropped_at=None, state="done",
        verdict=verdict.name, ink=0.0, facts=verdict_document(verdict), measured={"residual_rms": -42.0},
    )  # fmt: skip
    laid = _laid_over(cell, None, None, None, {}, "Almanac 9")  # type: ignore[arg-type]
    assert laid.measured == (cell.measured if unfit else {})  # of an unfit render its own faults are told
