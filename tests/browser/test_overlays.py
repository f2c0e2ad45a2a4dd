"""Many over each other: marked cells, builds and files; what stands at the cursor is the core's; keys, both themes."""

import re

import pytest
from ops.screenshots import cell_of, settle
from ops.visiting import Visitor
from playwright.sync_api import Page, expect

from tests.browser.conftest import axe
from tests.conftest import Server

CURVE = "Characters and curve"


def _number(text: str) -> float:
    return float(text.replace("\u2009", "").replace("−", "-"))


def test_the_line_at_the_cursor_says_what_the_core_has_there(view: Page, shared_server: Server) -> None:
    """At ten places of the newest build's transfer curve, walked by keys: level out, and how far from the reference."""
    visitor = Visitor(view.context, shared_server.address)
    cell = cell_of(visitor, CURVE, "1.5.0-b2", "Level staircase")
    known = visitor.ask(f"/api/overlays/builds/{cell}")
    newest = known["lines"][-1]
    assert newest["label"] == "1.5.0-b2"
    view.goto(f"/cells/{cell}")
    view.get_by_role("link", name="Its curves over the builds").click()
    expect(view.get_by_role("heading", level=1)).to_have_text(
        "Transfer curves of 3 builds against approved reference, 1.4.0."
    )
    expect(view.get_by_text("1.5.0-b2 lies farthest from it, −0.20 dB at")).to_be_visible()
    chart = view.get_by_role("group", name=re.compile("out, dBFS by in, dBFS"))
    chart.focus()
    view.keyboard.press("ArrowUp")  # where none is at the front yet, the last
    said = view.locator("p[aria-live=polite]")
    seen = set()
    for _ in range(10):
        view.keyboard.press("Shift+ArrowRight")
        view.keyboard.press("ArrowRight")
        text = said.inner_text()
        found = re.fullmatch(r"1\.5\.0-b2: (\S+) dBFS at (\S+) dBFS in, (\S+) dB from the reference", text)
        assert found is not None, text
        out, place, by = map(_number, found.groups())
        index = min(range(len(newest["x"])), key=lambda i: abs(newest["x"][i] - place))
        assert newest["x"][index] == pytest.approx(place, abs=0.051)
        assert newest["y"][index] == pytest.approx(out, abs=0.0051)
        assert newest["difference"]["y"][index] == pytest.approx(by, abs=0.0051)
        seen.add(place)
    assert len(seen) > 3
    expect(view.get_by_role("button", name="1.5.0-b2")).to_have_attribute("aria-pressed", "true")
    for theme in ("Dark", "Light"):
        assert axe(view, colours_alone=theme == "Light") == []
        view.get_by_role("button", name=theme, exact=True).click()


def test_marked_cells_stand_over_each_other_and_many_beside(view: Page, shared_server: Server) -> None:
    visitor = Visitor(view.context, shared_server.address)
    cell = cell_of(visitor, "Null regression", "2.1.0-rc2", "Steady tone 997 Hz", "Hard, 8×")
    run = visitor.ask(f"/api/cells/{cell}")["cell"]["run_id"]
    view.goto(f"/runs/{run}?cell={cell}")
    settle(view)
    grid = view.get_by_role("grid")
    grid.focus()
    for _ in range(3):
        view.keyboard.press("Shift+ArrowRight")
    expect(view.get_by_role("button", name="Overlay")).to_be_visible()
    view.keyboard.press("o")
    expect(view.get_by_role("heading", level=1)).to_contain_text(re.compile(r"of 3 renders against"))
    view.get_by_role("button", name="Overlay of: ").click()
    view.get_by_role("menuitemradio", name="Third octaves").click()
    expect(view).to_have_url(re.compile("kind=third_octaves"))
    expect(view.get_by_role("group", name=re.compile("How far each lies from the reference"))).to_be_visible()
    view.get_by_role("button", name="Overlay of: ").click()
    view.get_by_role("menuitemradio", name="Waveforms").click()
    charts = view.get_by_role("group").filter(has=view.locator("canvas"))
    expect(charts).to_have_count(4)
    box = charts.first.bounding_box()
    assert box is not None
    view.mouse.move(box["x"] + 200, box["y"] + 30)
    view.mouse.down()
    view.mouse.move(box["x"] + 400, box["y"] + 30, steps=4)
    view.mouse.up()
    expect(view).to_have_url(re.compile(r"start=\d+\.\d+&stop=\d+\.\d+"))
    view.get_by_role("button", name="Show the whole length").click()
    expect(view).not_to_have_url(re.compile("stop="))
    sheet = visitor.ask(f"/api/runs/{run}")
    many = [one["id"] for one in sheet["cells"][:20]]
    view.goto(f"/overlay?cells={','.join(map(str, many))}&from={run}&kind=spectrum")
    expect(view.get_by_text("all in one scale; the thick line is what they are held against")).to_be_visible()
    expect(charts).to_have_count(19)
    charts.nth(2).hover()
    expect(view.locator("p[aria-live=polite]")).to_contain_text(re.compile(r"dBFS at [\d\u2009.]+ Hz"))
    assert axe(view) == []
    view.get_by_role("link", name="The sheet").click()
    expect(view).to_have_url(re.compile(f"/runs/{run}$"))
    view.goto("/overlay")
    expect(view.get_by_text("Nothing is marked.")).to_be_visible()
    view.goto("/overlay?cells=999999")
    expect(view.get_by_role("alert")).to_contain_text("There is no cell 999999")


def test_a_set_is_drawn_beside_its_table_and_taken_away_as_a_file(view: Page, shared_server: Server) -> None:
    view.goto("/files")
    view.get_by_role("link", name="Players and quality steps").click()
    view.get_by_role("button", name="Overlay", exact=True).click()
    drawn = view.get_by_role("region", name="Overlay")
    expect(drawn.get_by_role("heading")).to_contain_text("Responses of 4 files against")
    expect(view.get_by_role("table").first).to_be_visible()
    view.get_by_role("checkbox", name=re.compile("Dunlin, low")).check()
    view.get_by_role("checkbox", name=re.compile("Dunlin, middle")).check()
    expect(drawn.get_by_role("heading")).to_contain_text("Responses of 1 file against")
    with view.expect_download() as download:
        drawn.get_by_role("button", name="Download").click()
        view.get_by_role("menuitem", name="This overlay, SVG").click()
    text = download.value.path().read_text()
    assert "Dunlin, low.wav" in text
    assert "Responses of 1 file (Players and quality steps)" in text
    assert axe(view) == []


def test_a_trend_opens_on_what_changed_last_and_leads_to_the_two_builds(view: Page, shared_server: Server) -> None:
    view.goto("/trends")
    opened = view.get_by_role("heading", level=1)
    expect(opened).to_contain_text("over the builds of")
    changed = view.locator("figure").get_by_role("link", name=re.compile(" beside "))
    expect(changed.first).to_be_visible()
    plan = Visitor(view.context, shared_server.address).ask("/api/trends?measure=gain")["plan_id"]
    view.goto(f"/trends?plan={plan}&measure=gain&signal=Sine+sweep&setting=Soft,+4×")
    step = view.locator("figure").get_by_role("link", name=re.compile(r"2\.1\.0-rc1 beside 2\.0\.3: \+0\.070")).first
    expect(step).to_be_visible()
    with view.expect_download() as download:
        view.get_by_role("button", name="Download the trend").click()
        view.get_by_role("menuitem", name="These plots, SVG").click()
    text = download.value.path().read_text()
    assert "Gain, dB, of Sine sweep through Soft, 4×" in text
    assert "+0.070" in text
    assert axe(view) == []
    view.get_by_role("button", name=re.compile("^Measure: ")).click()
    view.get_by_role("menuitemradio", name="Every measure").click()
    table = view.get_by_role("table", name="Every measure, by build")
    expect(table.get_by_role("row").nth(1)).to_contain_text("Residual, RMS")
    expect(table.get_by_role("row").nth(1)).to_contain_text("broken")
    assert axe(view) == []
    table.get_by_role("link", name="Gain", exact=True).click()
    expect(opened).to_contain_text("Gain of")
    step = view.locator("figure").get_by_role("link", name=re.compile(" beside ")).first
    step.press("Enter")
    expect(view).to_have_url(re.compile(r"/cells/\d+\?beside=\d+"))
    expect(view.get_by_role("region", name="Causes")).to_be_visible()
