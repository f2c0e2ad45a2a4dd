"""The page of a pair in the browser: from the click to its waveforms, and the frames while it is looked over.

`python -m benchmarks.pair_page [SECONDS]`: stereo at 96 kHz, 60 s unless said otherwise; what it draws is kept already.
"""

import sys
import time

from ops.screenshots import launch
from ops.stack import DEMO_PERSON
from ops.visiting import Visitor
from playwright.sync_api import Page, sync_playwright

from benchmarks.long_pair import RATE, compared_pair
from benchmarks.runs import own_database, web_server
from benchmarks.sheet import drawn, empty_page, frames_seen, frames_text, link_for, watch_frames

_REPEATS = 5
_MOVES = 120
_TURNS = 24


def report(seconds: float) -> list[str]:
    """The figures, a line each."""
    with own_database():
        pair = compared_pair(round(seconds * RATE))
        with web_server() as address, sync_playwright() as playwright:
            browser = launch(playwright)
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            Visitor(page.context, address).sign_in(link_for(DEMO_PERSON))
            empty = min(empty_page(page, address) for _ in range(_REPEATS))
            opened = [_opened(page, address, pair) for _ in range(_REPEATS)]
            zoomed = [_zoomed_to_samples(page) for _ in range(_REPEATS)]
            frames = {"cursor moved": _cursor(page), "wheel turned": _wheel(page)}
            browser.close()
    name = f"pair of {seconds:g} s"
    return [
        f"{name}, click to drawn: {middle(opened) / empty:.2f} × a load of an empty page ({middle(opened):.2f} s)",
        f"{name}, zoomed to samples: {middle(zoomed) / empty:.2f} × ({middle(zoomed):.2f} s)",
        *(f"{name}, {act}: {frames_text(times)}" for act, times in frames.items()),
    ]


def middle(values: list[float]) -> float:
    """The middle one."""
    return sorted(values)[len(values) // 2]


def _opened(page: Page, address: str, pair: int) -> float:
    page.goto(f"{address}/files")
    link = page.locator(f'a[href$="/comparisons/{pair}"]')
    link.wait_for()
    begun = time.perf_counter()
    link.click()
    page.locator("canvas[data-ready=true]").first.wait_for()
    _all_ready(page)
    return time.perf_counter() - begun


def _zoomed_to_samples(page: Page) -> float:
    page.keyboard.press("w")
    _all_ready(page)
    begun = time.perf_counter()
    page.keyboard.press("s")
    page.wait_for_url("**from=*")
    _all_ready(page)
    return time.perf_counter() - begun


def _all_ready(page: Page) -> None:
    page.locator("canvas[data-ready=false]").first.wait_for(state="detached")
    drawn(page)


def _cursor(page: Page) -> list[float]:
    """Over the strips and the plot under them, from left to right and back."""
    page.keyboard.press("w")
    _all_ready(page)
    watch_frames(page)
    for move in range(_MOVES):
        page.mouse.move(100 + 6 * move, 250 + 300 * (move % 2))
    return frames_seen(page)


def _wheel(page: Page) -> list[float]:
    page.mouse.move(400, 250)
    watch_frames(page)
    for turn in range(_TURNS):
        page.mouse.wheel(0, -200 if turn < _TURNS // 2 else 200)
        page.wait_for_timeout(50)
    return frames_seen(page)


if __name__ == "__main__":
    for line in report(float(sys.argv[1]) if len(sys.argv) > 1 else 60.0):
        print(line, flush=True)
