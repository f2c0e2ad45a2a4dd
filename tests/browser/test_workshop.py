"""Signals, hosts and kits on the real page: what comes before a run, and what comes back from elsewhere."""

import csv
import io
import re
import zipfile
from pathlib import Path

import numpy as np
import soundfile
from playwright.sync_api import Page, expect

from tests.browser.conftest import axe, choose_option


def test_a_signal_is_chosen_changed_looked_at_and_kept(page: Page) -> None:
    page.get_by_role("link", name="Signals").click()
    page.get_by_role("button", name=re.compile("^Steady tone 997 Hz Steady tone")).click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Steady tone 997 Hz at 48 kHz")
    aliases = page.get_by_role("row", name=re.compile("^48 kHz"))
    expect(aliases).to_contain_text("23\u2009075 h25")
    page.get_by_label("Frequency, Hz").fill("7000")
    expect(page.get_by_role("heading", level=1)).to_contain_text("changed from Steady tone 997 Hz")
    expect(aliases).to_contain_text("20\u2009000 h4")
    page.get_by_label("Frequency, Hz").fill("30000")
    expect(page.get_by_role("alert")).to_contain_text("below half the rate, 24000 Hz")
    page.get_by_role("button", name=re.compile("^Rate: 48 kHz")).click()
    page.get_by_role("menuitemradio", name="96 kHz").click()
    expect(page.get_by_role("img", name="Waveform of the signal")).to_be_visible()
    page.get_by_label("Level, dBFS").fill("6")
    expect(page.get_by_text("A number from -200 to 0")).to_be_visible()
    page.get_by_label("Level, dBFS").fill("-12")
    page.get_by_label("Name in plans").fill("Steady tone 997 Hz")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("There is a signal named Steady tone 997 Hz already")).to_be_visible()
    page.get_by_label("Name in plans").fill("High tone")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("High tone at 96 kHz")
    expect(page.get_by_role("button", name=re.compile("^High tone"))).to_contain_text("not used yet")


def test_a_signal_is_heard_and_exported(view: Page, tmp_path: Path) -> None:
    view.goto("/signals?kind=tone&rate=44100")
    view.get_by_label("Length, s").fill("20")
    view.get_by_role("button", name="Listen").click()
    view.get_by_role("button", name="Stop").click()
    expect(view.get_by_role("button", name="Listen")).to_be_visible()
    view.get_by_label("Length, s").fill("0.5")
    choose_option(view, "Format", "FLAC")
    choose_option(view, "Word length", "16 bit")
    box = view.get_by_role("checkbox", name="TPDF dither")
    box.focus()
    view.keyboard.press(" ")  # it is for the box, and not for the page, which listens at that key
    expect(box).not_to_be_checked()
    expect(view.get_by_role("button", name="Listen")).to_be_visible()
    view.wait_for_timeout(500)  # the address follows the fields once they rest
    with view.expect_download() as download:
        view.get_by_role("link", name="Export").click()
    download.value.save_as(tmp_path / "tone.flac")
    found = soundfile.info(tmp_path / "tone.flac")
    assert (found.samplerate, found.frames, found.subtype) == (44_100, 22_050, "PCM_16")


def test_a_file_of_ones_own_becomes_a_signal(page: Page, tmp_path: Path) -> None:
    soundfile.write(tmp_path / "Foghorn.wav", np.sin(np.arange(9600) / 30) * 0.3, 48_000)
    (tmp_path / "poem.wav").write_text("no audio")
    page.goto("/signals")
    field = page.get_by_label("Add a file of your own")
    field.set_input_files(tmp_path / "poem.wav")
    expect(page.get_by_text("poem.wav cannot be read as audio")).to_be_visible()
    field.set_input_files(tmp_path / "Foghorn.wav")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Foghorn at 48 kHz")
    expect(page.get_by_text("Foghorn.wav, SHA-256")).to_be_visible()


def test_hosts_say_what_waits_and_a_host_by_hand_is_added(page: Page) -> None:
    page.get_by_role("link", name="Hosts").click()
    expect(page.get_by_role("row", name=re.compile("^Dunlin 5"))).to_contain_text("people, with a kit")
    expect(page.get_by_role("heading", name="Machines", exact=True)).to_be_visible()
    expect(page.get_by_text("1 worker running")).to_be_visible()
    page.get_by_label("Name", exact=True).fill("Foreland")
    page.get_by_label("Version").fill("9")
    page.get_by_role("button", name="Add the host").click()
    expect(page.get_by_role("row", name=re.compile("^Foreland 9"))).to_contain_text("real time")
    page.get_by_label("Name", exact=True).fill("Foreland")
    page.get_by_label("Version").fill("9")
    page.get_by_role("button", name="Add the host").click()
    expect(page.get_by_role("alert")).to_contain_text("The host Foreland 9 is there already")


def test_builds_and_settings_of_an_effect_are_shown(view: Page) -> None:
    view.goto("/effects?effect=Skerry")
    expect(view.get_by_role("row", name=re.compile("^2.1.0-rc2"))).to_contain_text("latency and level mended")
    expect(view.get_by_role("row", name=re.compile("^Hard, 8×"))).to_contain_text("ceiling −6 dBFS")
    expect(view.get_by_role("row", name=re.compile("^shape hard"))).to_contain_text("hard, soft")


def test_a_menu_is_opened_by_keys_and_says_so_when_it_cannot_be_fetched(view: Page) -> None:
    view.goto("/effects?effect=Skerry")
    actions = view.get_by_role("button", name="build 2.0.3: actions")
    actions.focus()
    view.keyboard.press("ArrowDown")
    expect(view.get_by_role("menuitem", name="Note…")).to_be_focused()
    view.keyboard.press("Escape")
    expect(actions).to_be_focused()
    view.route("**/OpenMenu*.js", lambda route: route.abort())
    view.goto("/references")
    view.get_by_role("button", name="Host: every host. Change").click()
    expect(view.get_by_role("alert")).to_have_text("The menu could not be fetched. Load the page again.")
    expect(view.get_by_role("table", name="References")).to_be_visible()


def test_what_a_build_rendered_is_approved_on_effects_and_undone(page: Page) -> None:
    page.goto("/effects?effect=Skerry")
    candidate = page.get_by_role("row", name=re.compile("^2.1.0-rc2"))
    page.get_by_role("button", name="build 2.1.0-rc2: actions").click()
    page.get_by_role("menuitem", name="Approve its renders…").click()
    asked = page.get_by_role("dialog", name="Approve what Skerry 2.1.0-rc2 rendered")
    expect(asked).to_contain_text("are the reference already")
    expect(asked.get_by_role("button", name="Approve", exact=True)).to_be_disabled()  # what fails is not offered first
    failing = asked.get_by_role("checkbox", name=re.compile("^Fail: "))
    failing.check()
    [cells] = re.findall(r"\d+", asked.get_by_text(re.compile("^Fail: ")).inner_text())
    assert axe(page) == []
    asked.get_by_label("Why").fill("The new shape is meant.")
    asked.get_by_role("button", name=f"Approve {cells} cells").click()
    done = page.get_by_role("dialog", name="Approved")
    expect(done.get_by_role("status")).to_contain_text(f"{cells} references of Skerry 2.1.0-rc2.")
    expect(page.get_by_text(f"{cells} references", exact=True)).to_be_attached()
    done.get_by_role("button", name="Undo").click()
    expect(done.get_by_role("status")).to_contain_text("Undone")
    done.get_by_role("button", name="Close").click()
    expect(candidate).to_contain_text(f"{cells} earlier references")
    page.get_by_role("row", name=re.compile("^2.0.3")).get_by_role("link", name=re.compile("references$")).click()
    expect(page.get_by_role("button", name="Build: 2.0.3")).to_be_visible()


def test_a_kit_goes_out_and_comes_back_on_the_page(page: Page, tmp_path: Path) -> None:
    page.get_by_role("button", name=re.compile("^Plan:")).click()
    page.get_by_role("menuitemradio", name=re.compile("^By hand")).click()
    page.get_by_role("button", name="Start 4 cells").click()
    page.get_by_role("link", name="4 cells rendered by hand: the kit").click()
    expect(page.get_by_role("status").first).to_contain_text("4 of 4 renders still missing")
    with page.expect_download() as download:
        page.get_by_role("link", name="Download the kit").click()
    download.value.save_as(tmp_path / "kit.zip")
    with zipfile.ZipFile(tmp_path / "kit.zip") as kit:
        kit.extractall(tmp_path)
        rows = list(csv.DictReader(io.StringIO(kit.read("manifest.csv").decode("utf-8-sig"))))
    # The signals come back as they went out: a host whose effect was left off.
    soundfile.write(tmp_path / rows[0]["returned_as"], *soundfile.read(tmp_path / rows[0]["signal_file"]))
    soundfile.write(tmp_path / "hum.wav", np.random.default_rng(1).normal(0, 0.1, 48_000), 48_000)
    page.locator("input[type=file]").set_input_files([tmp_path / rows[0]["returned_as"], tmp_path / "hum.wav"])
    expect(page.get_by_role("status").first).to_contain_text("3 of 4 renders still missing")
    expect(page.get_by_text("By its name; its mark says the same.")).to_be_visible()
    expect(page.get_by_text("No signal of this kit is in it.")).to_be_visible()
    page.get_by_role("button", name=re.compile("^Render of hum.wav")).click()
    page.get_by_role("menuitemradio", name=re.compile("^Bell buoy strikes")).click()
    expect(page.get_by_text("Nora F. said so.")).to_be_visible()
    expect(page.get_by_role("status").first).to_contain_text("2 of 4 renders still missing")
    page.get_by_role("link", name=re.compile("No reference yet")).first.click()
    page.get_by_text("Render log").click()
    expect(page.get_by_text(re.compile("its mark says the same"))).to_be_visible()


def _do(page: Page, thing: str, what: str) -> None:
    page.get_by_role("button", name=f"{thing}: actions", exact=True).click()
    page.get_by_role("menuitem", name=what).click()


def test_a_typing_mistake_is_taken_back_and_what_is_done_with_is_put_away(page: Page) -> None:
    page.goto("/effects")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Fogbank")
    page.get_by_role("button", name="build 1.1: actions", exact=True).click()
    expect(page.get_by_text("A machine has it, and gives it its name.")).to_be_visible()
    page.keyboard.press("Escape")
    _do(page, "setting All of it", "Rename…")
    dialog = page.get_by_role("dialog", name="Rename setting All of it")
    dialog.get_by_label("Name").fill("All\u202eof it")
    dialog.get_by_role("button", name="Rename").click()
    expect(dialog.get_by_role("alert")).to_contain_text("no marks that turn the direction of text")
    dialog.get_by_label("Name").fill("Deepest")
    dialog.get_by_role("button", name="Rename").click()
    expect(dialog).to_be_hidden()
    expect(page.get_by_role("row", name=re.compile("^Deepest"))).to_contain_text("depth 120 dB")
    _do(page, "build 1.1", "Archive")
    expect(page.get_by_role("row", name=re.compile("^1.1"))).to_be_hidden()
    page.get_by_label("Show 1 archived").check()
    _do(page, "build 1.1", "Bring back")
    expect(page.get_by_label("Show 1 archived")).to_be_hidden()
    page.get_by_label("Version", exact=True).fill("1.2")
    page.get_by_role("button", name="Add the build").click()
    builds = page.get_by_role("table", name="Builds, newest first").get_by_role("row")
    expect(builds.first).to_contain_text("1.2")
    _do(page, "build 1.2", "Note…")
    page.get_by_role("dialog", name="Note of build 1.2").get_by_label("Note").fill("older than it looks")
    page.get_by_role("dialog", name="Note of build 1.2").get_by_role("button", name="Save").click()
    expect(builds.first).to_contain_text("older than it looks")
    _do(page, "build 1.2", "Move down")
    expect(builds.nth(1)).to_contain_text("1.2")

    page.get_by_role("link", name="Overview", exact=True).click()
    oldest = page.get_by_role("row", name=re.compile("run 1,"))
    expect(oldest).to_be_visible()
    _do(page, "run 1", "Delete…")
    dialog = page.get_by_role("dialog", name="Delete run 1?")
    dialog.get_by_role("button", name="Delete").click()
    expect(dialog.get_by_role("alert")).to_contain_text("Run 1 is not deleted")
    page.keyboard.press("Escape")
    _do(page, "run 1", "Archive")
    expect(oldest).to_be_hidden()
    page.get_by_label("Archived").click()
    expect(page.get_by_text("1 archived run of")).to_be_visible()
    expect(oldest).to_be_visible()


def test_what_a_plan_would_miss_is_found_and_a_gap_is_closed(page: Page) -> None:
    page.goto("/plans/new?template=null&effect=Plumb")
    page.get_by_role("tab", name="As YAML").click()
    page.get_by_label("The plan as YAML").fill(
        "plan: One cell\neffect: Plumb\ncases:\n- {signal: Steady tone 997 Hz, setting: Default}\nconditions:\n"
        "- {host: Almanac, version: '7', modes: [offline], rates: [48000]}\n"
        "limits: {residual_rms: {at_most: -50}, gain: {}}\n"
    )
    page.get_by_role("button", name="Apply to the form").click()
    page.get_by_role("tab", name="What would it miss?").click()
    missed = page.get_by_role("region", name="What no cell notices")
    expect(missed).to_contain_text("Channels swapped: nothing in these cells can have it.", timeout=90_000)
    expect(missed).to_contain_text("under conditions of two channels")
    expect(missed.get_by_role("listitem").filter(has_text="Noise: noticed from −")).to_contain_text("−100.0 dBFS is")
    assert axe(page) == []
    table = page.get_by_role("table", name="The least size of each fault")
    expect(table.get_by_role("row", name=re.compile("^Noise"))).to_contain_text("Residual, RMS")
    missed.get_by_role("button", name="Hold the residual to −101 dBFS").click()
    expect(missed.get_by_role("listitem").filter(has_text="Noise")).to_have_count(0, timeout=90_000)
    expect(missed.get_by_role("listitem").filter(has_text="Channels swapped")).to_have_count(1)
    page.get_by_label("Gain, dB", exact=True).fill("0.00001")
    page.get_by_label("Gain, dB", exact=True).press("Enter")
    expect(missed).to_contain_text("0.000010 dB is wanted", timeout=90_000)
    page.get_by_role("tab", name="What would it miss?").press("Home")
    expect(page.get_by_role("tab", name="As a form")).to_be_focused()
    expect(page.get_by_role("heading", name="Conditions")).to_be_visible()
    page.get_by_role("button", name="Save the plan").click()
    expect(page.get_by_text("Nothing is changed here")).to_be_visible()
    page.get_by_role("tab", name="As YAML").click()
    text = page.get_by_label("The plan as YAML")
    expect(text).to_have_value(re.compile("at_most: -101"))
    text.fill("plan: half typed")
    page.get_by_role("tab", name="As a form").click()
    expect(page.get_by_role("button", name="Save as revision 2")).to_be_disabled()
    page.get_by_role("tab", name="As YAML, not applied").click()
    expect(text).to_have_value("plan: half typed")
    page.get_by_role("button", name="Drop what was typed").click()
    expect(text).to_have_value(re.compile("at_most: -101"))
    assert axe(page) == []
