"""Pages in the browser: from the click to what they show drawn, and the frames while they are walked and looked over.

`python -m benchmarks.pages [SECONDS]`: sheets of 72, 2,000 and 20,000 cells, and a pair, stereo at 96 kHz, of 60 s
unless said otherwise; what it draws is kept already.
"""

import sys
import time
from datetime import UTC, datetime

from ops.screenshots import launch, wait_for_runs
from ops.stack import DEMO_PERSON, PROJECT, Stack
from ops.visiting import Visitor
from playwright.sync_api import Page, sync_playwright
from sqlalchemy import text

from benchmarks.growth import silence
from benchmarks.large_run import large_run
from benchmarks.long_pair import RATE, compared_pair
from benchmarks.runs import own_database, web_server
from benchmarks.scale import write_runs

_REPEATS = 5
_STEPS = 60
_MOVES = 120
_TURNS = 24
_IN_TIME = 1000 / 60 * 1.5  # ms; a frame that took longer has missed its turn
_WHEN_DRAWN = "() => new Promise((drawn) => requestAnimationFrame(() => requestAnimationFrame(drawn)))"
_WATCH = """() => {
  window.frames_ = []; let last = performance.now();
  const look = (now) => {
    window.frames_.push(now - last); last = now; window.watching_ = requestAnimationFrame(look);
  };
  window.watching_ = requestAnimationFrame(look);
}"""
_SEEN = "() => { cancelAnimationFrame(window.watching_); return window.frames_.slice(1); }"


def sheets() -> list[str]:
    """The figures of sheets, a line each; starts the demo when it does not run."""
    stack = Stack(PROJECT / "var")
    address = stack.start(demo=True)
    with sync_playwright() as playwright:
        browser = launch(playwright)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        visitor = Visitor(page.context, address)
        visitor.sign_in((stack.demo_link(DEMO_PERSON) or "").partition("#")[2])
        wait_for_runs(visitor)
        empty = min(_empty_page(page, address) for _ in range(_REPEATS))
        small = _opened(page, address, _run_of_72(visitor), 72)
        with large_run(stack) as run, web_server() as large:
            Visitor(page.context, large).sign_in(_link_for(DEMO_PERSON))
            big = _opened(page, large, run, 300)
            walked = {"2,000": _walk(page)}
        with own_database():
            run = _run_of_20000()
            with web_server() as grown:
                Visitor(page.context, grown).sign_in(_link_for(DEMO_PERSON))
                huge = _opened(page, grown, run, 300)
                walked["20,000"] = _walk(page)
        browser.close()
    return [
        *(
            f"sheet of {cells} cells, click to drawn: {seconds / empty:.2f} × a load of an empty page ({seconds:.2f} s)"
            for cells, seconds in (("72", small), ("2,000", big), ("20,000", huge))
        ),
        *(f"{cells} cells walked by {_STEPS} keys and scrolled: {_frames_text(f)}" for cells, f in walked.items()),
    ]


def _run_of_72(visitor: Visitor) -> int:
    for run in visitor.ask("/api/runs?most=50")["runs"]:
        if (run["build"]["version"], run["plan"]) == ("2.1.0-rc2", "Null regression"):
            return int(run["id"])
    raise SystemExit("The demo's null regression has not been run.")


def _run_of_20000() -> int:
    """A run of 500 cases in 40 conditions in the database at hand, its renders written without rendering."""
    from kind_echo.database.sessions import transaction

    names, drives = [f"Tone {k}" for k in range(1, 5)], [round(-12.0 + 0.1 * step, 1) for step in range(125)]
    with transaction() as session:
        [run] = write_runs(session, "Grown", names, drives, 1, silence(session))
    with transaction() as session:
        session.execute(text("ANALYZE"))
    return run


def _walk(page: Page) -> list[float]:
    """Walk down and across the sheet that is shown, and scroll it; the time between frames in ms."""
    _watch_frames(page)
    for key in ("ArrowDown", "ArrowRight"):
        for _ in range(_STEPS // 2):
            page.keyboard.press(key)
    box = page.get_by_role("grid").bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + 300, box["y"] + 200)
    for turn in (400, -400) * 5:
        page.mouse.wheel(0, turn)
        page.wait_for_timeout(50)
    return _frames_seen(page)


def _watch_frames(page: Page) -> None:
    """Begin to note when frames are drawn."""
    page.evaluate(_WATCH)


def _frames_seen(page: Page) -> list[float]:
    """The time between the frames since then, in ms."""
    frames: list[float] = page.evaluate(_SEEN)
    return frames


def _frames_text(times: list[float]) -> str:
    """How many frames a second, and which came late, from the time between them in ms."""
    late = sum(time > _IN_TIME for time in times)
    return (
        f"{1000 / (sum(times) / len(times)):.0f} frames a second, median {sorted(times)[len(times) // 2]:.1f} ms, "
        f"{late} of {len(times)} late, the worst {max(times):.0f} ms"
    )


def _drawn(page: Page) -> None:
    """Wait until what there is has been drawn."""
    page.evaluate(_WHEN_DRAWN)


def _empty_page(page: Page, address: str) -> float:
    """Seconds to load a page with nothing on it, beside which others are measured."""
    begin = time.perf_counter()
    page.goto(f"{address}/nothing-here")
    page.get_by_text("There is nothing at this address").wait_for()
    return time.perf_counter() - begin


def _opened(page: Page, address: str, run: int, cells: int) -> float:
    """From the click on a run to so many cells drawn, the quickest of some, in seconds."""
    times = []
    for _ in range(_REPEATS):
        page.goto(address)
        link = page.locator(f'a[href="/runs/{run}"]').first
        link.wait_for()
        begin = time.perf_counter()
        link.click()
        page.locator("[data-cell]").nth(cells - 1).wait_for()
        _drawn(page)
        times.append(time.perf_counter() - begin)
    return min(times)


def _link_for(name: str) -> str:
    """The secret of a link that signs this person in."""
    from kind_echo.bench.accounts import local_link, person_named
    from kind_echo.database.sessions import transaction

    with transaction() as session:
        return local_link(session, person_named(session, name), datetime.now(UTC))


def pair(seconds: float) -> list[str]:
    """The figures of the page of a pair, a line each."""
    with own_database():
        number = compared_pair(round(seconds * RATE))
        with web_server() as address, sync_playwright() as playwright:
            browser = launch(playwright)
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            Visitor(page.context, address).sign_in(_link_for(DEMO_PERSON))
            empty = min(_empty_page(page, address) for _ in range(_REPEATS))
            opened = [_pair_opened(page, address, number) for _ in range(_REPEATS)]
            zoomed = [_zoomed_to_samples(page) for _ in range(_REPEATS)]
            frames = {"cursor moved": _cursor(page), "wheel turned": _wheel(page)}
            browser.close()
    name = f"pair of {seconds:g} s"
    return [
        f"{name}, click to drawn: {_middle(opened) / empty:.2f} × a load of an empty page ({_middle(opened):.2f} s)",
        f"{name}, zoomed to samples: {_middle(zoomed) / empty:.2f} × ({_middle(zoomed):.2f} s)",
        *(f"{name}, {act}: {_frames_text(times)}" for act, times in frames.items()),
    ]


def _middle(values: list[float]) -> float:
    """The middle one."""
    return sorted(values)[len(values) // 2]


def _pair_opened(page: Page, address: str, number: int) -> float:
    page.goto(f"{address}/files")
    link = page.locator(f'a[href$="/comparisons/{number}"]')
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
    _drawn(page)


def _cursor(page: Page) -> list[float]:
    """Over the strips and the plot under them, from left to right and back."""
    page.keyboard.press("w")
    _all_ready(page)
    _watch_frames(page)
    for move in range(_MOVES):
        page.mouse.move(100 + 6 * move, 250 + 300 * (move % 2))
    return _frames_seen(page)


def _wheel(page: Page) -> list[float]:
    page.mouse.move(400, 250)
    _watch_frames(page)
    for turn in range(_TURNS):
        page.mouse.wheel(0, -200 if turn < _TURNS // 2 else 200)
        page.wait_for_timeout(50)
    return _frames_seen(page)


def report(seconds: float = 60.0) -> list[str]:
    """The figures, a line each. Args: seconds: of the pair."""
    return [*sheets(), *pair(seconds)]


if __name__ == "__main__":
    for line in report(*map(float, sys.argv[1:])):
        print(line, flush=True)
