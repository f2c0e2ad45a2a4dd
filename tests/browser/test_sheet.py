"""The sheet at work: findings, deciding by finding, two people at once, filters, folds, and the next build."""

import json
import re
import zipfile
from pathlib import Path

from playwright.sync_api import Browser, Page, expect
from pypdf import PdfReader

from tests.browser.conftest import opened, signed_in
from tests.conftest import Server


def _open(page: Page, version: str) -> None:
    page.get_by_role("table", name="All runs").get_by_role("link", name=re.compile(version)).first.click()
    expect(page.get_by_role("grid")).to_be_visible()


def _finding(page: Page, headline: str) -> None:
    page.get_by_role("region", name="Findings").get_by_role("button", name=re.compile(f"^{headline}")).click()


def test_a_finding_is_waived_in_one_act_and_undone_in_one(page: Page) -> None:
    _open(page, "2.1.0-rc2")
    _finding(page, "Aliases: new orders 23 to 27")
    expect(page.get_by_role("button", name="Decide 6")).to_be_visible()
    page.keyboard.press("d")
    dialog = page.get_by_role("dialog")
    dialog.get_by_role("radio", name=re.compile("Waive")).check()
    dialog.get_by_role("button", name="Waive until a day").click()
    expect(dialog).to_be_visible()  # a waiver without a reason is not sent
    dialog.get_by_role("textbox", name="Why").fill("The filter is replaced in rc3")
    dialog.get_by_role("textbox", name="Ticket").fill("SALT-121")
    dialog.get_by_role("button", name="Waive until a day").click()
    expect(page.get_by_text("All 72 cells pass or are decided")).to_be_visible()
    expect(page.get_by_text("Waived: 6 cells, by Nora F.")).to_be_visible()
    slip = page.get_by_role("region", name="Chosen cell")
    expect(slip).to_contain_text("SALT-121")
    expect(slip).to_contain_text("The filter is replaced in rc3")
    page.keyboard.press("u")
    expect(page.get_by_text("6 of 72 cells need review")).to_be_visible()


def test_the_second_of_two_people_is_told_and_loses_nothing_typed(page: Page, browser: Browser, server: Server) -> None:
    _open(page, "2.1.0-rc2")
    _finding(page, "Aliases: new orders 23 to 27")
    page.keyboard.press("d")
    dialog = page.get_by_role("dialog")
    dialog.get_by_role("textbox", name="Why").fill("The corner moved")
    sessions = opened(browser, server, signed_in(browser, server, "Tove L."))
    other = next(sessions)
    _open(other, "2.1.0-rc2")
    _finding(other, "Aliases: new orders 23 to 27")
    other.keyboard.press("d")
    other.get_by_role("dialog").get_by_role("button", name="Record a fault").click()
    expect(other.get_by_text("All 72 cells pass or are decided")).to_be_visible()
    sessions.close()  # type: ignore[attr-defined]
    dialog.get_by_role("button", name="Record a fault").click()
    expect(dialog.get_by_role("alert")).to_contain_text("Tove L. has decided on 6 of these cells")
    expect(dialog.get_by_role("textbox", name="Why")).to_have_value("The corner moved")
    dialog.get_by_role("button", name="Decide anyway").click()
    expect(dialog).to_have_count(0)
    expect(page.get_by_role("region", name="Chosen cell")).to_contain_text("The corner moved")


def test_a_sheet_is_taken_away_as_a_table_and_as_evidence_and_a_pair_as_audio(view: Page, tmp_path: Path) -> None:
    _open(view, "2.1.0-rc2")
    kept = {}
    for label in ("Cells with all measures, CSV", "Every reading, JSON", "Evidence, ZIP"):
        view.get_by_role("button", name="Download the sheet").click()
        with view.expect_download() as download:
            view.get_by_role("menuitem", name=label).click()
        kept[label] = tmp_path / download.value.suggested_filename
        download.value.save_as(kept[label])
    assert len(kept["Cells with all measures, CSV"].read_text().splitlines()) == 1 + 72
    assert json.loads(kept["Every reading, JSON"].read_text())["table"] == "readings"
    assert zipfile.is_zipfile(kept["Evidence, ZIP"])
    _finding(view, "Aliases: new orders 23 to 27")
    view.get_by_role("button", name="Open pair").click()
    view.get_by_role("button", name="Download the report and the audio").click()
    with view.expect_download() as download:
        view.get_by_role("menuitem", name="Difference, WAV").click()
    assert download.value.suggested_filename.startswith("difference ")
    view.context.grant_permissions(["clipboard-read", "clipboard-write"])
    view.get_by_role("button", name="Download the report and the audio").click()
    view.get_by_role("menuitem", name="Copy link").click()
    expect(view.get_by_text("The link to this page is copied.", exact=True)).to_be_visible()
    assert view.evaluate("navigator.clipboard.readText()") == view.url


def test_a_release_and_marked_cells_have_a_report(view: Page, tmp_path: Path) -> None:
    view.goto("/effects?effect=Skerry")
    view.get_by_role("button", name="Release report of 2.1.0-rc2").click()
    with view.expect_download() as download:
        view.get_by_role("menuitem", name="Every plan on it, HTML").click()
    download.value.save_as(tmp_path / "release.html")
    assert "Real time against offline" in (tmp_path / "release.html").read_text()
    view.goto("/")
    _open(view, "2.1.0-rc2")
    _finding(view, "Aliases: new orders 23 to 27")
    view.get_by_role("button", name="Download the sheet").click()
    with view.expect_download() as download:
        view.get_by_role("menuitem", name="Report of 6 marked cells, HTML").click()
    download.value.save_as(tmp_path / "cells.html")
    assert "6 of 6 cells need a decision." in (tmp_path / "cells.html").read_text()


def test_what_is_fixed_and_what_newly_fails_is_said_and_filters_the_sheet(view: Page) -> None:
    _open(view, "2.1.0-rc2")
    view.get_by_role("radio", name="54 fixed").click()
    expect(view).to_have_url(re.compile("only=fixed"))
    expect(view.get_by_text("54 of 72 cells")).to_be_visible()
    view.keyboard.press("[")
    expect(view.get_by_role("radio", name="60 newly failing")).to_be_visible()
    view.get_by_role("radio", name="60 newly failing").click()
    expect(view.get_by_text("60 of 72 cells")).to_be_visible()


def test_the_report_says_what_stands_and_is_printed_whole(view: Page) -> None:
    _open(view, "2.1.0-rc2")
    view.keyboard.press("r")
    expect(view).to_have_url(re.compile(r"/runs/\d+/report$"))
    report = view.frame_locator("iframe").get_by_role("article", name="Report")
    expect(report).to_contain_text("Skerry 2.1.0-rc2 against approved references, in every host, at every rate.")
    expect(report.get_by_role("region", name="Result")).to_contain_text("6 of 72 cells need a decision.")
    expect(report.get_by_role("region", name="Result")).to_contain_text("54 fixed")
    findings = report.get_by_role("region", name="Findings")
    expect(findings.get_by_role("listitem").filter(has_text="Aliases: new orders 23 to 27")).to_contain_text(
        "6 cells, at 44.1 kHz, with Hard, 8× and Soft, 8×, since 2.1.0-rc2"
    )
    wrong = report.get_by_role("region", name="Cells that do not pass").get_by_role("row")
    expect(wrong).to_have_count(1 + 18)
    expect(wrong.nth(1)).to_contain_text("Differs from the reference")  # what needs a person comes first
    expect(report.get_by_role("region", name="Every cell")).to_have_count(0)
    view.get_by_role("button", name="With every reading").click()
    expect(report.get_by_role("region", name="Every cell").get_by_role("row", name="kHz")).to_have_count(72)
    view.evaluate("document.querySelector('iframe').contentWindow.print = () => { window.printed = true }")
    view.keyboard.press("p")
    assert view.evaluate("window.printed") is True
    view.get_by_role("button", name="Download the report").click()
    with view.expect_download() as download:
        view.get_by_role("menuitem", name="The report, PDF on Letter").click()
    told = PdfReader(download.value.path())
    assert [round(float(side)) for side in told.pages[0].mediabox[2:]] == [612, 792]  # ANSI Letter, in points
    assert "6 of 72 cells need a decision" in told.pages[0].extract_text()
    assert f"1 of {len(told.pages)}" in told.pages[0].extract_text()
    view.keyboard.press("Escape")
    expect(view.get_by_role("grid")).to_be_visible()


def test_rows_and_columns_are_grouped_folded_filtered_and_inked_by_another_measure(view: Page) -> None:
    _open(view, "2.1.0-rc1")
    grid = view.get_by_role("grid")
    expect(grid.locator("[data-cell]")).to_have_count(72)
    view.get_by_role("searchbox").fill("soft")
    expect(grid.locator("[data-cell]")).to_have_count(24)
    view.get_by_role("searchbox").fill("")
    grid.get_by_role("button", name="Almanac 7", exact=True).click()
    grid.get_by_role("button", name="Steady tone 997 Hz", exact=True).click()
    expect(grid.locator("[data-cell]")).to_have_count(4 * 7)
    expect(grid.locator("button[aria-label*='The worst of 18']")).to_have_count(1)
    view.get_by_role("button", name=re.compile("^Measure: Residual")).click()
    view.get_by_role("menuitemradio", name="Gain", exact=True).click()
    expect(view).to_have_url(re.compile("measure=gain"))
    view.keyboard.press("f")
    expect(grid.locator("button").filter(has_text="0.07").first).to_be_visible()
    view.reload()
    expect(grid.locator("button").filter(has_text="0.07").first).to_be_visible()


def test_a_finding_is_taken_apart_and_a_part_of_it_is_marked(view: Page) -> None:
    _open(view, "2.1.0-rc2")
    findings = view.get_by_role("region", name="Findings")
    findings.get_by_role("button", name=re.compile("^Split up: Aliases: new orders")).click()
    findings.get_by_role("button", name="Soft, 8× 3").click()
    expect(view.get_by_role("button", name="Decide 3")).to_be_visible()


def test_many_keys_at_once_lose_no_step(view: Page) -> None:
    _open(view, "2.1.0-rc2")
    for _ in range(9):
        view.keyboard.press("ArrowRight")
    for _ in range(4):
        view.keyboard.press("ArrowDown")
    slip = view.get_by_role("region", name="Chosen cell")
    expect(slip).to_contain_text("Bell buoy strikes · Hard, 1×")
    expect(slip).to_contain_text("Bittern 5 · offline · 96 kHz")


def test_a_run_takes_over_what_has_not_changed_and_is_rendered_again_when_asked(page: Page) -> None:
    page.get_by_role("button", name=re.compile("^Build: ")).click()
    page.get_by_role("menuitemradio", name=re.compile("2.1.0-rc2")).click()
    page.get_by_role("button", name="Start 72 cells").click()
    expect(page.get_by_text("72 renders reused from earlier runs")).to_be_visible()
    expect(page.get_by_text("6 of 72 cells need review")).to_be_visible()
    page.keyboard.press(".")
    page.get_by_role("button", name="Render again").click()
    expect(page.get_by_text("71 renders reused from earlier runs")).to_be_visible()
    expect(page.get_by_text("6 of 72 cells need review")).to_be_visible()


def test_a_plan_comes_from_a_template_is_changed_kept_run_and_revised(page: Page) -> None:
    page.get_by_role("link", name="Plans").click()
    page.get_by_role("button", name=re.compile("^Template: ")).click()
    page.get_by_role("menuitemradio", name=re.compile("^Gain calibration")).click()
    page.get_by_role("button", name=re.compile("^Effect: ")).click()
    page.get_by_role("menuitemradio", name="Plumb").click()
    page.get_by_role("button", name="Write the plan").click()
    expect(page.get_by_role("status").filter(has_text="28 cells")).to_be_visible()
    page.get_by_label("Name of the plan").fill("Gain, shortened")
    for _ in range(5):
        page.get_by_role("button", name="remove").first.click()
    page.get_by_label("Values of the sweep of case 1").fill("12, 16")
    page.get_by_label("Values of the sweep of case 1").press("Enter")
    expect(page.get_by_role("status").filter(has_text="12 cells")).to_be_visible()
    page.get_by_label("Values of the sweep of case 2").fill("900")
    page.get_by_label("Values of the sweep of case 2").press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("cases.2.sweep: gain cannot be 900")
    page.get_by_label("Values of the sweep of case 2").fill("20")
    page.get_by_label("Values of the sweep of case 2").press("Enter")
    page.get_by_role("button", name="Save the plan").click()
    expect(page.get_by_text("Nothing is changed here")).to_be_visible()
    page.get_by_role("checkbox", name="44.1").first.check()
    expect(page.get_by_text("condition added: Almanac 7")).to_be_visible()
    page.get_by_role("button", name="Save as revision 2").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("revision 2")
    page.get_by_role("tab", name="As YAML").click()
    expect(page.get_by_label("The plan as YAML")).to_have_value(re.compile("plan: Gain, shortened"))
    page.get_by_role("button", name="Apply to the form").click()
    page.get_by_role("link", name="Run it").click()
    page.get_by_role("button", name="Start 18 cells").click()
    expect(page.get_by_role("grid")).to_be_visible()
    expect(page.get_by_role("status").filter(has_text="need review")).to_be_visible()


def test_from_a_pair_to_the_first_build_that_differs_and_to_the_trend(page: Page) -> None:
    _open(page, "2.1.0-rc2")
    page.keyboard.press(".")
    page.keyboard.press("Enter")
    page.get_by_role("button", name="First build that differs").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("first differs in Skerry 2.1.0-rc2")
    expect(page.get_by_text("2.1.0-rc1 differs too, for another cause.")).to_be_visible()
    page.get_by_role("link", name="Open the build before it").click()
    expect(page.get_by_text("1 sample late", exact=False).first).to_be_visible()
    page.get_by_role("link", name="Trends").click()
    page.get_by_role("button", name=re.compile("^Plan: ")).click()
    page.get_by_role("menuitemradio", name="Skerry, Null regression").click()
    page.get_by_role("button", name=re.compile("^Measure: ")).click()
    page.get_by_role("menuitemradio", name="Delay", exact=True).click()
    page.get_by_role("link", name=re.compile(r"Estuary 2, offline, 48 kHz: \+?1.000 samples, Fail")).press("Enter")
    expect(page).to_have_url(re.compile("/cells/"))


def test_the_sheet_is_laid_over_another_build_and_its_pairs_too(view: Page) -> None:
    _open(view, "2.1.0-rc2")
    view.get_by_role("button", name=re.compile("^Against: approved references")).click()
    view.get_by_role("menuitemradio", name="Skerry 2.0.3").click()
    expect(view).to_have_url(re.compile("against=build"))
    expect(view.get_by_role("status").filter(has_text="18 of 72 cells differ")).to_be_visible()
    expect(view.get_by_role("region", name="Findings")).to_contain_text(
        "Aliases: new orders 23 to 27, against Skerry 2.0.3"
    )
    expect(view.get_by_role("button", name="Approve")).to_have_count(0)
    view.locator("[data-cell][aria-label^='Steady tone 997 Hz, Hard, 8×, Almanac 7, real time, 44.1']").dblclick()
    expect(view.get_by_role("heading", level=1)).to_contain_text("against Skerry 2.0.3 in Almanac 7")
    expect(view.get_by_role("row", name=re.compile("^Delay ")).first).to_contain_text("0.000")
