"""One picture of each main view, from the running demo, into docs/screenshots/."""

import tempfile
import time
import urllib.parse
import zipfile
from pathlib import Path
from typing import Any

from playwright.sync_api import Browser, Page, Playwright, ViewportSize, sync_playwright

from ops.stack import DEMO_PERSON, PROJECT, Stack
from ops.visiting import Visitor

_FOLDER = PROJECT / "docs" / "screenshots"
_CHROMIUM = "/usr/bin/chromium-headless-shell"
_ARGUMENTS = ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update"]
_BY_HAND = "By hand"
_PATIENCE = 600  # s
_SIZE: ViewportSize = {"width": 1280, "height": 800}


def launch(playwright: Playwright) -> Browser:
    """Debian's Chromium, without a window."""
    return playwright.chromium.launch(executable_path=_CHROMIUM, args=_ARGUMENTS)


def settle(page: Page) -> None:
    """Wait until fonts are there and every waveform is drawn."""
    page.wait_for_load_state("load")
    page.get_by_text("Loading").first.wait_for(state="detached")
    page.locator("canvas[data-ready=false]").first.wait_for(state="detached")
    page.wait_for_timeout(600)


def wait_for_runs(visitor: Visitor) -> None:
    """Wait until all that the demo renders is rendered and judged."""
    deadline = time.monotonic() + _PATIENCE
    while time.monotonic() < deadline:
        runs: list[Any] = visitor.ask("/api/runs")["runs"]
        rendered = [run for run in runs if run["plan"] != _BY_HAND]
        if all(run["finished"] == run["cells"] and run["verdicts"]["waiting"] == 0 for run in rendered):
            return
        time.sleep(1)
    raise SystemExit(f"The demo's runs are not finished after {_PATIENCE // 60} minutes.")


def cell_of(visitor: Visitor, plan: str, version: str, signal: str, setting: str = "") -> int:
    """The first fit cell of a run with this signal and setting, one that does not pass where there is any."""
    runs = visitor.ask("/api/runs")["runs"]
    run = next(r["id"] for r in runs if (r["plan"], r["build"]["version"]) == (plan, version))
    sheet = visitor.ask(f"/api/runs/{run}")
    cases = {c["id"] for c in sheet["cases"] if c["signal"] == signal and setting in c["setting"]}
    meant = [c for c in sheet["cells"] if c["case_id"] in cases and not c["unfit"]]
    return int(min(meant, key=lambda c: (c["verdict"] == "Pass", c["id"]))["id"])


def _kit_run(visitor: Visitor) -> int:
    """A run that is rendered by hand, of which one render has come back, and a file that is none."""
    import numpy as np

    from kind_echo.audio_io.files import write_audio

    found = [run for run in visitor.ask("/api/runs")["runs"] if run["plan"] == _BY_HAND]
    if found:
        return int(found[0]["id"])
    plan = next(plan for plan in visitor.ask("/api/plans")["plans"] if plan["name"] == _BY_HAND)
    asked = {"plan_id": plan["id"], "build_id": plan["builds"][0]["id"]}
    run = int(visitor.send("/api/runs", asked)["id"])
    files = f"/api/runs/{run}/kit/files?name="
    with tempfile.TemporaryDirectory() as folder:
        kit, hum = Path(folder) / "kit.zip", Path(folder) / "hum.wav"
        kit.write_bytes(visitor.fetch(f"/api/runs/{run}/kit.zip"))
        with zipfile.ZipFile(kit) as archive:
            bells = next(name for name in archive.namelist() if "bell-buoy" in name)
            visitor.send(f"{files}Export+7.wav", archive.read(bells))
        write_audio(hum, np.random.default_rng(1).normal(0.0, 0.05, (48_000, 1)), 48_000)
        visitor.send(f"{files}hum+of+the+fridge.wav", hum.read_bytes())
    time.sleep(10)  # workers recognise and measure them
    return run


def _test_of(visitor: Visitor, name: str) -> int:
    """The number of a listening test of the demo."""
    return next(int(one["id"]) for one in visitor.ask("/api/listening/tests")["tests"] if one["name"] == name)


def _hear(visitor: Visitor, cell: int) -> None:
    """A note on a cell, once."""
    subject = f"cells/{cell}"
    if not visitor.ask(f"/api/listening/notes?{urllib.parse.urlencode({'subject': subject})}")["notes"]:
        note = {"subject": subject, "side": "Render", "second": 1.2, "text": "a whistle over the tone, soft but there"}
        visitor.send("/api/listening/notes", note)


def _tell_somebody(visitor: Visitor) -> None:
    """Addresses that notices go to, once; no machine of these names is there, and they say so."""
    if visitor.ask("/api/notices")["targets"]:
        return
    for kind, address, topics in (
        ("webhook", "https://builds.saltmarsh.example/hooks/kind-echo", ["run.finished", "run.needs_review"]),
        ("email", "audio-qa@saltmarsh.example", ["run.needs_review", "waiver.ending"]),
    ):
        made = visitor.send("/api/notices/targets", {"kind": kind, "address": address, "topics": topics})
        visitor.send(f"/api/notices/targets/{made['target']['id']}/test", {})
    time.sleep(5)  # a worker tries them


def _take(page: Page, address: str, visitor: Visitor) -> None:
    run = next(r for r in visitor.ask("/api/runs")["runs"] if r["build"]["version"] == "2.1.0-rc2")
    cells = visitor.ask(f"/api/runs/{run['id']}")["cells"]
    broken = next(c for c in cells if c["verdict"] == "Fail" and not c["unfit"])
    _FOLDER.mkdir(parents=True, exist_ok=True)

    def picture(name: str, path: str, theme: str = "light") -> None:
        page.goto(address + path)
        page.evaluate(f"localStorage.setItem('kind-echo.theme', '{theme}')")
        page.goto(address + path)
        settle(page)
        page.screenshot(path=_FOLDER / f"{name}.png")

    picture("runs", "/")
    picture("sheet", f"/runs/{run['id']}?cell={broken['id']}")
    picture("sheet-dark", f"/runs/{run['id']}?cell={broken['id']}&figures=1", "dark")

    null = "Null regression"
    bells = cell_of(visitor, null, "2.1.0-rc2", "Bell buoy strikes")
    characters = cell_of(visitor, "Six characters, one level", "1.4.0", "Steady tone at −8")
    first = visitor.ask(f"/api/cells/{characters}")["cell"]["run_id"]
    tones = [str(c["id"]) for c in visitor.ask(f"/api/runs/{first}")["cells"]][:6]
    picture("overlay", f"/overlay?cells={','.join(tones)}&from={first}&kind=spectrum")
    picture("pair-response", f"/cells/{cell_of(visitor, null, '2.1.0-rc1', 'Sine sweep')}")
    picture("pair-tone", f"/cells/{cell_of(visitor, null, '2.1.0-rc2', 'Steady tone 997 Hz', 'Hard, 8×')}")
    picture("pair", f"/cells/{bells}")
    plan = next(p["id"] for p in visitor.ask("/api/plans")["plans"] if p["name"] == null)
    picture("plan", f"/plans/{plan}")
    trend = urllib.parse.urlencode({"plan": plan, "measure": "gain", "signal": "Sine sweep", "setting": "Soft, 4×"})
    picture("trends", f"/trends?{trend}")
    picture("references", "/references")
    tone = next(s for s in visitor.ask("/api/signals")["signals"] if s["name"] == "Steady tone 997 Hz")
    picture("signals", f"/signals?signal={tone['id']}&rate=44100")
    picture("hosts", "/hosts")
    _tell_somebody(visitor)
    picture("notices", "/notices")
    picture("record", "/record")
    picture("kit", f"/runs/{_kit_run(visitor)}/kit")
    listened = visitor.ask("/api/comparisons/2")
    sides = [("side", f"{listened[side]['sha256']}|{side.capitalize()}") for side in ("reference", "render")]
    difference = ("side", f"{listened['render']['sha256']}!{listened['reference']['sha256']}|Difference")
    picture("listen", f"/listen?{urllib.parse.urlencode([*sides, difference, ('of', 'comparisons/2')])}")
    page.goto(f"{address}/listen/tests/{_test_of(visitor, '3 dB off one peak')}")
    begin = page.get_by_role("button", name="Begin a sitting")
    give = page.get_by_role("button", name="Give these")
    begin.or_(give).wait_for()
    if begin.is_visible():
        begin.click()
    give.wait_for()
    settle(page)
    page.screenshot(path=_FOLDER / "listen-trial.png")
    _hear(visitor, broken["id"])
    picture("report", f"/runs/{run['id']}/report")
    sets = visitor.ask("/api/sets")["sets"]
    picture("files", f"/files/{next(one['id'] for one in sets if one['name'] == '3 dB off one peak')}")


def main() -> None:
    """Start the demo, wait for its runs, take the pictures."""
    stack = Stack(PROJECT / "var")
    address = stack.start(demo=True)
    with sync_playwright() as playwright:
        browser = launch(playwright)
        page = browser.new_page(viewport=_SIZE)
        visitor = Visitor(page.context, address)
        visitor.sign_in((stack.demo_link(DEMO_PERSON) or "").partition("#")[2])
        wait_for_runs(visitor)
        _take(page, address, visitor)
        browser.close()


if __name__ == "__main__":
    main()
