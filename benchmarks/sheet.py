"""From the click on a run to its sheet drawn, and the frames while it is walked and scrolled, in the browser."""

import os
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import psycopg
from ops.screenshots import launch, wait_for_runs
from ops.stack import DEMO_PERSON, PROJECT, Stack
from ops.visiting import Visitor
from playwright.sync_api import Page, sync_playwright
from sqlalchemy import text

from benchmarks.growth import silence
from benchmarks.runs import own_database, web_server
from benchmarks.scale import write_runs

_REPEATS = 5
_STEPS = 60
_IN_TIME = 1000 / 60 * 1.5  # ms; a frame that took longer has missed its turn
_DRAWN = "() => new Promise((drawn) => requestAnimationFrame(() => requestAnimationFrame(drawn)))"
_WATCH = """() => {
  window.frames_ = []; let last = performance.now();
  const look = (now) => {
    window.frames_.push(now - last); last = now; window.watching_ = requestAnimationFrame(look);
  };
  window.watching_ = requestAnimationFrame(look);
}"""
_SEEN = "() => { cancelAnimationFrame(window.watching_); return window.frames_.slice(1); }"


def report() -> list[str]:
    """The figures, a line each; starts the demo when it does not run."""
    stack = Stack(PROJECT / "var")
    address = stack.start(demo=True)
    with sync_playwright() as playwright:
        browser = launch(playwright)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        visitor = Visitor(page.context, address)
        visitor.sign_in((stack.demo_link(DEMO_PERSON) or "").partition("#")[2])
        wait_for_runs(visitor)
        empty = min(empty_page(page, address) for _ in range(_REPEATS))
        small = _opened(page, address, _run_of_72(visitor), 72)
        with large_run(stack) as run, web_server() as large:
            Visitor(page.context, large).sign_in(link_for(DEMO_PERSON))
            big = _opened(page, large, run, 300)
            walked = {"2,000": walk(page)}
        with own_database():
            run = _run_of_20000()
            with web_server() as grown:
                Visitor(page.context, grown).sign_in(link_for(DEMO_PERSON))
                huge = _opened(page, grown, run, 300)
                walked["20,000"] = walk(page)
        browser.close()
    return [
        *(
            f"sheet of {cells} cells, click to drawn: {seconds / empty:.2f} × a load of an empty page ({seconds:.2f} s)"
            for cells, seconds in (("72", small), ("2,000", big), ("20,000", huge))
        ),
        *(f"{cells} cells walked by {_STEPS} keys and scrolled: {frames_text(f)}" for cells, f in walked.items()),
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


def walk(page: Page) -> list[float]:
    """Walk down and across the sheet that is shown, and scroll it; the time between frames in ms."""
    watch_frames(page)
    for key in ("ArrowDown", "ArrowRight"):
        for _ in range(_STEPS // 2):
            page.keyboard.press(key)
    box = page.get_by_role("grid").bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + 300, box["y"] + 200)
    for turn in (400, -400) * 5:
        page.mouse.wheel(0, turn)
        page.wait_for_timeout(50)
    return frames_seen(page)


def watch_frames(page: Page) -> None:
    """Begin to note when frames are drawn."""
    page.evaluate(_WATCH)


def frames_seen(page: Page) -> list[float]:
    """The time between the frames since then, in ms."""
    frames: list[float] = page.evaluate(_SEEN)
    return frames


def frames_text(times: list[float]) -> str:
    """How many frames a second, and which came late, from the time between them in ms."""
    late = sum(time > _IN_TIME for time in times)
    return (
        f"{1000 / (sum(times) / len(times)):.0f} frames a second, median {sorted(times)[len(times) // 2]:.1f} ms, "
        f"{late} of {len(times)} late, the worst {max(times):.0f} ms"
    )


def drawn(page: Page) -> None:
    """Wait until what there is has been drawn."""
    page.evaluate(_DRAWN)


def empty_page(page: Page, address: str) -> float:
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
        drawn(page)
        times.append(time.perf_counter() - begin)
    return min(times)


def link_for(name: str) -> str:
    """The secret of a link that signs this person in."""
    from kind_echo.bench.accounts import local_link, person_named
    from kind_echo.database.sessions import transaction

    with transaction() as session:
        return local_link(session, person_named(session, name), datetime.now(UTC))


@contextmanager
def large_run(stack: Stack) -> Iterator[int]:
    """A copy of the demo with a run of 2,000 cells in it, and its number; the demo itself stays as it is."""
    from benchmarks.large_run import write_large_run

    cluster = stack.cluster
    if cluster is None:
        raise SystemExit("The sheet at full size is measured on the project's own PostgreSQL.")
    from kind_echo.database.backup import backup, restore
    from kind_echo.database.sessions import URL_VARIABLE, engine, transaction

    server, name = cluster.url.rsplit("/", 1)[0], "benchmark_sheet"
    admin: Any = psycopg.connect(f"{server}/postgres", autocommit=True)
    admin.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")
    admin.execute(f"CREATE DATABASE {name}")
    with tempfile.TemporaryDirectory() as folder:
        os.environ[URL_VARIABLE] = cluster.url
        backup(Path(folder) / "demo")
        os.environ[URL_VARIABLE] = f"{server}/{name}"
        restore(Path(folder) / "demo")
    with transaction() as session:
        number = write_large_run(session)
    try:
        yield number
    finally:
        engine().dispose()
        engine.cache_clear()
        admin.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")
        admin.close()
