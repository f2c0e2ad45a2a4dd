"""From nothing installed to the first verdict on a plug-in of one's own, on the page alone."""

import re
import shutil
from pathlib import Path

from ops.cluster import Cluster
from playwright.sync_api import Browser, expect

from kind_echo.bench.accounts import add_person
from kind_echo.database.sessions import URL_VARIABLE, engine, transaction
from kind_echo.renderers.plugins.hosting import describe
from kind_echo.renderers.plugins.scanning import FILE_VARIABLE
from tests.browser.conftest import axe, choose_option, opened, signed_in
from tests.conftest import drop_database, fresh_database, kind_echo, point_at, serving, working
from tests.renderers.plugins import FETCHED, needs_fetched
from tests.signing import NOW


@needs_fetched
def test_from_nothing_to_a_verdict_on_a_plugin(
    browser: Browser, cluster: Cluster, migrated: str, tmp_path: Path
) -> None:
    url = fresh_database(cluster, migrated)
    point_at(url)
    with transaction() as session:
        add_person(session, "Nora F.", "keep", who="test", now=NOW)
    roles = ("--web", "kind_echo_web", "--worker", "kind_echo_worker")
    kind_echo("grant", *roles, **{URL_VARIABLE: url}).check_returncode()  # type: ignore[arg-type]
    source = FETCHED / "builds" / "lantern" / "1.0.0" / "lantern.vst3"
    (about,) = describe(source)
    name, folder = f"{about.name} (VST3)", tmp_path / "plug-ins"
    folder.mkdir()
    (folder / "broken.vst3").mkdir()
    own = {"VST3_PATH": str(folder), "LV2_PATH": str(tmp_path / "none"), FILE_VARIABLE: ""}
    try:
        with (
            serving(url, tmp_path, worker=False) as server,
            working("--machine", "bench", url=url, log=tmp_path / "worker.log", **own),
        ):
            for page in opened(browser, server, signed_in(browser, server)):
                page.goto("/effects")
                expect(page.get_by_text("No effect is under test yet.")).to_be_visible()
                page.goto("/hosts")
                page.get_by_text("Not offered: 1 file").click()
                expect(page.get_by_text("holds no plug-in that can be loaded")).to_be_visible()
                shutil.copytree(source, folder / "lantern.vst3")
                page.get_by_role("button", name="Scan again: bench").click()
                expect(page.get_by_text("bench scans its plug-ins again now.", exact=True)).to_be_visible()
                page.get_by_role("button", name=f"Test it: {name}").click()
                expect(page.get_by_role("row", name=re.compile("^VST3 host"))).to_be_visible()
                assert axe(page) == []

                page.goto(f"/effects?effect={name}")
                page.get_by_label("Name", exact=True).first.fill("Up 6 dB")
                choose_option(page, "Set a parameter", "Master Gain")
                page.get_by_label("Master Gain").fill("99")
                page.get_by_role("button", name="Add the setting").click()
                expect(page.get_by_role("alert")).to_contain_text("it must be a number from −12 to 12")
                page.get_by_label("Master Gain").fill("6")
                assert axe(page) == []
                page.get_by_role("button", name="Add the setting").click()
                expect(page.get_by_role("row", name=re.compile("^Up 6 dB"))).to_contain_text("Master Gain 6 dB")
                page.get_by_role("button", name="Up 6 dB: say what is expected").click()
                page.get_by_role("button", name="Save").click()
                expect(page.get_by_role("form", name="Expected of Up 6 dB")).to_have_count(0)  # nothing was said
                page.get_by_role("button", name="Up 6 dB: say what is expected").click()
                choose_option(page, "Levels expected of Up 6 dB", "follow a compressor's law")
                for what, value in {"ratio": "1", "make-up": "6", "within": "0.1", "latency": "0"}.items():
                    page.get_by_label(f"{what} expected of Up 6 dB").fill(value)
                assert axe(page) == []
                page.get_by_role("button", name="Save").click()
                expect(page.get_by_text("Expected: 6.0 dB of make-up, within 0.1 dB; 0 samples late")).to_be_visible()

                page.get_by_role("link", name="Plans").click()
                page.get_by_role("button", name=re.compile("^Template: ")).click()
                page.get_by_role("menuitemradio", name=re.compile("^Transfer curve")).click()
                page.get_by_role("button", name="Write the plan").click()
                expect(page.get_by_role("status").filter(has_text="1 cell")).to_be_visible()
                page.get_by_role("button", name="Save the plan").click()
                expect(page.get_by_text("Nothing is changed here")).to_be_visible()
                page.get_by_role("link", name="Run it").click()
                page.get_by_role("button", name="Start 1 cell").click()
                expect(page.get_by_text(re.compile("All 1 cells? pass"))).to_be_visible()
    finally:
        engine().dispose()
        drop_database(cluster, url)
