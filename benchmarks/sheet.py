"""From the click on a run to its sheet drawn, in the browser, beside an empty page of the same server."""

import time

from ops.screenshots import launch
from ops.stack import PROJECT, Stack
from playwright.sync_api import sync_playwright

_REPEATS = 5


def report() -> list[str]:
    """The figures, a line each; starts the demo when it does not run."""
    address = Stack(PROJECT / "var").start()
    with sync_playwright() as playwright:
        browser = launch(playwright)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        empty, sheet = [], []
        for _ in range(_REPEATS):
            begin = time.perf_counter()
            page.goto(f"{address}/nothing-here")
            page.get_by_text("There is nothing at this address").wait_for()
            empty.append(time.perf_counter() - begin)
            page.goto(address)
            link = page.get_by_role("link", name="Skerry 2.1.0-rc2").first
            link.wait_for()
            begin = time.perf_counter()
            link.click()
            page.locator("[data-cell]").nth(71).wait_for()
            page.evaluate("() => new Promise((drawn) => requestAnimationFrame(() => requestAnimationFrame(drawn)))")
            sheet.append(time.perf_counter() - begin)
        browser.close()
    ratio = min(sheet) / min(empty)
    return [f"sheet of 72 cells, click to drawn: {ratio:.2f} × a load of an empty page ({min(sheet):.2f} s)"]
