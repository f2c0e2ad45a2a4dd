"""From the runs to a decision and back, and a person's own files, on the real page."""

import re
from collections.abc import Iterator

from ops.screenshots import cell_of, settle
from ops.visiting import Visitor
from playwright.sync_api import Page, expect

from tests.browser.conftest import axe
from tests.conftest import Server


def _open_sheet(page: Page, version: str) -> None:
    page.get_by_role("table", name="All runs").get_by_role("link", name=re.compile(version)).first.click()
    expect(page.get_by_role("grid")).to_be_visible()


def _each_view(page: Page) -> Iterator[str]:
    """Go to every main view, one after the other; its address once it is drawn."""
    _open_sheet(page, "2.1.0-rc2")
    sheet = page.url
    page.keyboard.press(".")
    expect(page.get_by_role("region", name="Chosen cell")).to_contain_text("Fail.")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/cells/"))
    for address in (
        page.url,
        sheet,
        f"{sheet}?figures=1",
        f"{sheet.partition('?')[0]}/report",
        "/",
        "/files",
        "/files/2",
        "/listen/tests",
        "/listen/tests/1",
        "/listen/tests/2",
        _listening(page),
        "/references",
        "/plans",
        "/plans/1",
        "/signals",
        "/effects",
        "/hosts",
    ):
        page.goto(address)
        settle(page)
        yield address


def _listening(page: Page) -> str:
    """Where the sides of the demo's second pair of files are listened to."""
    sides = page.request.get("/api/comparisons/2").json()
    names = [f"side={sides[side]['sha256']}|{side}" for side in ("reference", "render")]
    return f"/listen?{'&'.join(names)}&of=comparisons/2"


def test_from_the_run_to_the_pair_by_keyboard_then_listen_approve_and_undo(page: Page) -> None:
    _open_sheet(page, "2.1.0-rc2")
    expect(page.get_by_text("6 of 72 cells need review")).to_be_visible()
    finding = page.get_by_role("button", name=re.compile("^Aliases: new orders 23 to 27"))
    expect(finding).to_contain_text("6 cells, at 44.1 kHz, with Hard, 8× and Soft, 8×")
    page.keyboard.press(".")
    chosen = page.locator("[data-cell][aria-label*='Fail']").first
    expect(chosen).to_be_visible()
    expect(page).to_have_url(re.compile(r"cell=\d+"))
    while "Differs" not in page.get_by_role("region", name="Chosen cell").inner_text():
        page.keyboard.press(".")
        page.wait_for_timeout(50)
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile(r"/cells/\d+"))
    expect(page.get_by_text("against the reference of 2.0.3")).to_be_visible()
    settle(page)
    page.keyboard.press("s")
    expect(page.get_by_text(re.compile(r"\d+ samples shown"))).to_be_visible()
    page.keyboard.press("w")
    page.keyboard.press("Space")
    expect(page.get_by_role("button", name="Stop")).to_be_visible()
    page.keyboard.press("3")
    expect(page.get_by_role("radio", name="Difference", exact=False, checked=True)).to_be_visible()
    page.keyboard.press("Space")
    expect(page.get_by_role("button", name="Play")).to_be_visible()
    page.keyboard.press("a")
    dialog = page.get_by_role("dialog")
    dialog.get_by_role("textbox", name="Why").fill("The new filter is meant")
    dialog.get_by_role("button", name=re.compile("Approve")).click()
    expect(page.get_by_text("Identical to the reference.")).to_be_visible()
    expect(page.get_by_text("References approved: 1 cell, by Nora F.")).to_be_visible()
    page.keyboard.press("u")
    expect(page.get_by_text("Differs from the reference:", exact=False).first).to_be_visible()


def test_single_samples_are_looped_without_harm_at_the_end_of_the_file_too(view: Page) -> None:
    """Eighty samples last two milliseconds; a loop of them must not be scheduled piece by piece without end."""
    _open_sheet(view, "2.1.0-rc2")
    view.get_by_role("button", name=re.compile("^Aliases: new orders 23 to 27")).click()
    view.keyboard.press("Enter")
    expect(view.get_by_text("against the reference of 2.0.3")).to_be_visible()
    for start in (44_000, 96_990):
        view.goto(f"{view.url.split('?')[0]}?from={start}&to={start + 30}")
        settle(view)
        view.keyboard.press("Space")
        expect(view.get_by_role("button", name="Stop")).to_be_visible()
        view.wait_for_timeout(1500)
        view.keyboard.press("3")
        expect(view.get_by_role("radio", name="Difference", checked=True)).to_be_visible()
        view.keyboard.press("Space")
        expect(view.get_by_role("button", name="Play")).to_be_visible()


def test_marking_with_shift_approves_a_selection_in_one_act(page: Page) -> None:
    _open_sheet(page, "2.1.0-rc2")
    page.get_by_role("button", name=re.compile("^Aliases: new orders 23 to 27")).click()
    page.keyboard.press("a")
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("6 renders of Skerry 2.1.0-rc2")
    dialog.get_by_role("button", name=re.compile("Approve")).click()
    expect(page.get_by_text("All 72 cells pass or are decided")).to_be_visible()
    page.goto("/references")
    expect(page.get_by_text("Nora F.").first).to_be_visible()


def test_a_run_is_started_from_the_page_and_fills_while_it_is_watched(page: Page) -> None:
    page.get_by_role("button", name=re.compile("^Rendering: what changed")).click()
    page.get_by_role("menuitemradio", name="everything").click()
    page.get_by_role("button", name="Start 72 cells").click()
    expect(page).to_have_url(re.compile(r"/runs/\d+$"))
    expect(page.get_by_text(re.compile(r"[1-9]\d* of 72 done"))).to_be_visible(timeout=90_000)
    expect(page.locator("[data-state=done]").nth(2)).to_be_visible(timeout=90_000)


def test_the_sentence_chooses_host_and_rate_and_the_address_says_so(view: Page) -> None:
    _open_sheet(view, "2.1.0-rc2")
    view.get_by_role("button", name=re.compile("^Host: every host")).click()
    view.get_by_role("menuitemradio", name="Bittern").click()
    expect(view).to_have_url(re.compile("host=Bittern"))
    # The address changes a moment before the table is drawn anew.
    expect(view.locator("[data-cell]")).to_have_count(18)
    view.reload()
    expect(view.get_by_role("button", name=re.compile("^Host: Bittern"))).to_be_visible()


def test_a_server_that_is_away_is_told_and_what_was_shown_stays(view: Page) -> None:
    expect(view.get_by_role("table")).to_be_visible()
    view.route("**/api/**", lambda route: route.abort())
    expect(view.get_by_role("alert")).to_contain_text("The server does not answer")
    expect(view.get_by_role("table")).to_be_visible()
    view.unroute("**/api/**")
    expect(view.get_by_role("alert")).to_have_count(0)


def test_every_view_is_accessible_in_both_themes_and_cut_off_in_no_window(view: Page) -> None:
    """axe-core against WCAG 2.2 AA, on every main view; from 1024 to 1920 wide."""
    for address in _each_view(view):
        assert axe(view) == [], address
        view.evaluate("document.documentElement.dataset.theme = 'dark'")
        assert axe(view, colours_alone=True) == [], address
        for width in (1024, 1920):
            view.set_viewport_size({"width": width, "height": 720})
            over, under = view.evaluate(
                "(page => [page.scrollWidth - page.clientWidth, page.scrollHeight - page.clientHeight])"
                "(document.documentElement)"
            )
            assert max(over, under) <= 0, (address, width, over, under)
        view.set_viewport_size({"width": 1280, "height": 800})


def test_a_theme_is_kept(view: Page) -> None:
    view.get_by_role("button", name="Dark", exact=True).click()
    view.reload()
    expect(view.get_by_role("button", name="Light", exact=True)).to_be_visible()
    assert view.evaluate("document.documentElement.dataset.theme") == "dark"


def test_every_key_is_listed(view: Page) -> None:
    expect(view.get_by_role("table")).to_be_visible()
    view.keyboard.press("?")
    expect(view.get_by_role("dialog")).to_contain_text("walk from cell to cell")
    view.keyboard.press("Escape")
    expect(view.get_by_role("dialog")).to_have_count(0)


def test_figures_and_marks_and_builds_by_keyboard(view: Page) -> None:
    _open_sheet(view, "2.1.0-rc2")
    view.keyboard.press("f")
    expect(view).to_have_url(re.compile("figures=1"))
    expect(view.locator("[data-verdict=Fail]").filter(has_text="−51.2").first).to_be_visible()
    view.keyboard.press("ArrowRight")
    expect(view.get_by_role("region", name="Chosen cell")).to_contain_text("Steady tone 997 Hz")
    view.keyboard.press("Shift+ArrowRight")
    view.keyboard.press("Shift+ArrowDown")
    expect(view.get_by_role("button", name="Approve 4")).to_be_visible()
    view.keyboard.press("Escape")
    expect(view.get_by_role("button", name="Approve 4")).to_have_count(0)
    view.keyboard.press("[")
    expect(view.get_by_role("button", name=re.compile("^Build: Skerry 2.1.0-rc1"))).to_be_visible()


def test_the_pair_of_a_sweep_shows_what_explains_it_and_its_curves(view: Page) -> None:
    _open_sheet(view, "2.1.0-rc1")
    view.locator("button[aria-label^='Sine sweep, Soft, 4×, Almanac 7, real time, 48 kHz']").dblclick()
    account = view.get_by_role("region", name="Causes")
    expect(account).to_contain_text("1 sample late")
    expect(account).to_contain_text("0.07 dB up")
    for key, titles in {
        "r": ("Magnitude", "Phase", "Group delay"),
        "h": ("Momentary loudness",),
        "b": ("Residual",),
    }.items():
        view.keyboard.press(key)
        for title in titles:
            expect(view.get_by_role("heading", name=title, exact=True)).to_be_visible()
    name = view.get_by_role("button", name="Gain at 1 kHz")
    name.hover()
    expect(view.get_by_text("Magnitude of output over input at 1 kHz.").first).to_be_visible()


def test_the_pair_of_a_tone_tells_whence_its_aliases_come_and_that_of_steps_where_they_land(
    view: Page, shared_server: Server
) -> None:
    """27 · 997 = 26919 Hz turns at half of 44.1 kHz: 44100 − 26919 = 17181. Arithmetic."""
    visitor = Visitor(view.context, shared_server.address)
    view.goto(f"/cells/{cell_of(visitor, 'Null regression', '2.1.0-rc2', 'Steady tone 997 Hz', 'Hard, 8×')}")
    aliases = view.get_by_role("region", name="Aliases", exact=True)
    expect(aliases.get_by_role("row", name=re.compile("^27 "))).to_contain_text("26\u2009919 → 17\u2009181−58.4—")
    expect(view.get_by_role("group", name="Path of the orders")).to_be_visible()
    assert axe(view) == []
    view.goto(f"/cells/{cell_of(visitor, 'Real time against offline', '2.1.0-rc2', 'Stepped tones')}")
    chart = view.get_by_role("group", name="Aliases by the frequency of the tone and their own")
    expect(chart).to_be_visible()
    inks = chart.locator("canvas").evaluate(
        "one => { const d = one.getContext('2d').getImageData(0, 0, one.width, one.height).data, seen = new Set();"
        "for (let i = 0; i < d.length; i += 4) if (d[i + 3] === 255) seen.add(`${d[i]} ${d[i + 1]} ${d[i + 2]}`);"
        "return [...seen] }"
    )
    assert "176 24 92" in inks  # of the difference: discs of aliases


def test_a_reference_tells_its_history(view: Page) -> None:
    view.goto("/references")
    view.get_by_role("link", name=re.compile("history|Steady tone", re.IGNORECASE)).first.click()
    expect(view).to_have_url(re.compile(r"/references/\d+"))
    expect(view.get_by_text("Demo bench").first).to_be_visible()
    expect(view.get_by_text("The release that customers have").first).to_be_visible()


def test_an_address_that_is_not_there_says_so(view: Page) -> None:
    view.goto("/nothing")
    expect(view.get_by_text("There is nothing at this address.")).to_be_visible()
    view.goto("/runs/999")
    expect(view.get_by_role("alert")).to_contain_text("There is no run 999.")
