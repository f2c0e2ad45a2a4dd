"""What a pair and a set of files show: the number at the cursor is the core's, places are walked, files in a table."""

import contextlib
import re
from pathlib import Path

import numpy as np
import pytest
import soundfile
from ops.screenshots import cell_of, settle
from ops.visiting import Visitor
from playwright.sync_api import APIResponse, Error, Page, Route, expect

from tests.browser.conftest import axe
from tests.conftest import Server, wait_until

NULL = "Null regression"


def _number(text: str) -> float:
    return float(text.replace("\u2009", "").replace("−", "-"))


@pytest.mark.parametrize(
    ("signal", "setting", "version", "plot"),
    [
        ("Steady tone 997 Hz", "Hard, 8×", "2.1.0-rc2", "Lines"),
        ("Sine sweep", "Soft, 4×", "2.1.0-rc1", "Response"),
        ("Bell buoy strikes", "", "2.1.0-rc2", "Waveform"),
    ],
)
def test_each_kind_of_signal_answers_its_own_question_first(
    view: Page, shared_server: Server, signal: str, setting: str, version: str, plot: str
) -> None:
    cell = cell_of(Visitor(view.context, shared_server.address), NULL, version, signal, setting)
    view.goto(f"/cells/{cell}")
    expect(view.get_by_role("region", name=plot, exact=True)).to_be_in_viewport()
    expect(view.get_by_role("region", name="Causes")).to_be_in_viewport()
    view.keyboard.press("e")
    expect(view).to_have_url(re.compile("plot=spectrum"))
    view.reload()
    expect(view.get_by_role("region", name="Spectrum")).to_be_visible()


def test_the_number_at_the_cursor_is_that_of_the_core(view: Page, shared_server: Server) -> None:
    visitor = Visitor(view.context, shared_server.address)
    cell = cell_of(visitor, NULL, "2.1.0-rc2", "Steady tone 997 Hz", "Hard, 8×")
    spectrum = visitor.ask(f"/api/cells/{cell}")["spectra"]["render"]
    view.goto(f"/cells/{cell}?plot=spectrum")
    settle(view)
    chart = view.get_by_role("group", name="Spectrum of reference")
    chart.focus()
    view.keyboard.press("]")
    said = view.locator("p[aria-live=polite]").filter(has_text="Hz: reference").first
    expect(said).to_be_visible()
    text = said.inner_text()
    frequency = _number(re.match(r"[\d\u2009.]+", text).group())
    level = _number(re.search(r"render ([−\d.]+) dBFS", text).group(1))
    nearest = int(np.argmin(np.abs(np.array(spectrum["frequencies"]) - frequency)))
    assert level == pytest.approx(spectrum["levels"][nearest], abs=0.06)
    assert frequency == pytest.approx(997, abs=10)
    view.keyboard.press("x")
    view.keyboard.press("]")
    expect(said).to_contain_text("cents")
    third = view.locator("p[aria-live=polite]").first.inner_text()
    assert _number(re.search(r"\+([\d\u2009]+) cents", third).group(1)) == pytest.approx(1902, abs=20)


def test_places_are_walked_and_the_view_goes_there(view: Page, shared_server: Server) -> None:
    visitor = Visitor(view.context, shared_server.address)
    cell = cell_of(visitor, NULL, "2.1.0-rc2", "Bell buoy strikes")
    place = visitor.ask(f"/api/cells/{cell}")["places"][0]
    view.goto(f"/cells/{cell}")
    expect(view.get_by_role("region", name="Where to look")).to_be_visible()
    view.keyboard.press("n")
    expect(view).to_have_url(re.compile(r"from=\d+"))
    start, stop = (int(x) for x in re.findall(r"(?:from|to)=(\d+)", view.url))
    assert start <= place["start"] * 44_100 < stop
    view.keyboard.press("m")
    expect(
        view.get_by_role("img", name="Level map of the difference").and_(view.locator("[data-ready=true]"))
    ).to_be_visible()
    assert axe(view) == []


def test_files_of_all_kinds_stand_in_one_table(page: Page, tmp_path: Path) -> None:
    samples = np.random.default_rng(1).standard_normal((96_000, 2)) * 0.05
    late = np.concatenate([np.zeros((3, 2)), samples[:-3]]) * 10 ** (-0.2 / 20)
    folder = tmp_path / "sounds"  # beside the logs of the test's own servers
    (folder / "takes").mkdir(parents=True)
    for name, data, rate in (
        ("a ref.wav", samples, 48_000), ("late.wav", late, 48_000), ("takes/silent.flac", samples * 0, 48_000),
        ("takes/other.wav", samples, 44_100), ("mono.wav", samples[:, :1], 48_000), ("lossy.mp3", samples, 48_000),
    ):  # fmt: skip
        soundfile.write(folder / name, data, rate)
    (folder / "letter.wav").write_text("not a sound")
    page.get_by_role("link", name="Files", exact=True).click()
    page.get_by_label("Choose files").set_input_files(sorted(p for p in folder.rglob("*") if p.is_file()))
    expect(page).to_have_url(re.compile(r"/files/\d+$"))
    expect(page.get_by_text("letter.wav cannot be read as audio")).to_be_visible()
    page.get_by_role("button", name="Skip").click()
    expect(page.get_by_role("row")).to_have_count(7)
    page.get_by_role("button", name=re.compile("^What the files are compared with")).click()
    page.get_by_role("menuitemradio", name="against a ref.wav").click()
    row = page.get_by_role("row", name=re.compile("late.wav"))
    expect(row).to_contain_text("3 samples late")
    expect(page.get_by_role("row", name=re.compile("other.wav"))).to_contain_text("44.1 against 48 kHz")
    page.get_by_role("button", name="Gain, dB").click()
    page.get_by_role("columnheader", name=re.compile("^Delay")).get_by_role("button", name="limit…").click()
    limit = page.get_by_role("dialog", name="Limit of Delay")
    limit.get_by_label("Delay at most").fill("1")
    assert axe(page) == []
    limit.get_by_role("button", name="Save").click()
    expect(limit).to_be_hidden()
    expect(row).to_contain_text("beyond its limit")
    assert axe(page) == []
    page.get_by_role("button", name="Match levels…").click()
    page.get_by_role("button", name="Find the trims of 6 files").click()
    expect(page.get_by_text(re.compile(r"−23.00 − \(.*\) LUFS = "))).to_have_count(5)
    page.get_by_role("link", name="late.wav").click()
    expect(page.get_by_text("The residual stands at")).to_be_visible()
    expect(page.get_by_role("row", name=re.compile("^Delay ")).first).to_contain_text("3.000")
    expect(page.get_by_role("row", name=re.compile("^Gain ")).first).to_contain_text("0.200")
    page.goto("/files")
    page.get_by_role("button", name=re.compile("^Delete a ref.wav")).click()
    page.get_by_role("button", name="Delete permanently").click()
    expect(page.get_by_role("button", name=re.compile("^Delete a ref.wav"))).to_have_count(0)
    expect(page.get_by_role("alert")).to_have_count(0)


def test_an_answer_that_was_on_its_way_does_not_undo_a_change(page: Page) -> None:
    """A look at the set is answered before a change, and its answer comes after it."""
    page.goto("/files/2")
    compared = page.get_by_role("button", name=re.compile("^What the files are compared with"))
    expect(compared).to_have_text("against strikes.wav")
    held: list[tuple[Route, APIResponse]] = []

    def hold(route: Route) -> None:
        if route.request.method == "GET" and not held:
            held.append((route, route.fetch()))
        else:
            route.continue_()

    page.route("**/api/sets/2", hold)
    page.wait_for_timeout(1100)  # what was asked for within a second is not asked for again
    page.evaluate("window.dispatchEvent(new Event('visibilitychange'))")
    wait_until(lambda: page.wait_for_timeout(50) is None and bool(held), 10, "a look at the set")  # type: ignore[func-returns-value]
    compared.click()
    page.get_by_role("menuitemradio", name="each by itself").click()
    expect(compared).to_have_text("each by itself")
    (route, reply) = held[0]
    with contextlib.suppress(Error):  # the page has given it up
        route.fulfill(response=reply)
    page.wait_for_timeout(500)
    expect(compared).to_have_text("each by itself")
