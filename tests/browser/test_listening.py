"""Listening in a real browser: sides in sync to the sample, a whole sitting by keyboard, a panel of three."""

import base64
import json
import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from ops.cluster import Cluster
from playwright.sync_api import Browser, Page, expect

from kind_echo.audio_io.encoding import ENCODINGS
from kind_echo.core.audio.source import ArraySource
from kind_echo.core.levels.needles import needles_of
from kind_echo.core.levels.running_bands import running_bands
from kind_echo.core.listening.clips import loop_of
from kind_echo.database.blobs import store_content
from kind_echo.database.models import Sitting
from kind_echo.database.sessions import engine, transaction
from tests.browser.conftest import axe, choose_option, signed_in
from tests.conftest import Server, drop_database, fresh_database, point_at, serving
from tests.signing import person

OFFLINE = """
window.AudioContext = class extends OfflineAudioContext {
  constructor(options) {
    super(2, Math.round(options.sampleRate * 1.5), options.sampleRate);
    window.offline = this;
  }
  async resume() {}
  async close() {}
};
window.rendered = async () => {
  const buffer = await window.offline.startRendering();
  const out = [0, 1].map((channel) => new Uint8Array(buffer.getChannelData(channel).buffer));
  const text = (bytes) => { let s = ""; for (const byte of bytes) s += String.fromCharCode(byte); return btoa(s); };
  return out.map(text);
};
"""
"""In place of the sound device: what the page would play, rendered to samples."""


@pytest.fixture(scope="module")
def room(cluster: Cluster, finished_demo: str, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    """One server for all of them: each listens to sounds of its own."""
    url = fresh_database(cluster, finished_demo)
    point_at(url)
    with serving(url, tmp_path_factory.mktemp("listening")) as running:
        yield running
    engine().dispose()
    drop_database(cluster, url)


@pytest.fixture
def listener(browser: Browser, room: Server) -> Iterator[Page]:
    """Somebody who listens, with a page of her own."""
    with _come_in(browser, room, "Nora F.") as page:
        yield page


@contextmanager
def _come_in(browser: Browser, room: Server, name: str) -> Iterator[Page]:
    point_at(room.database)
    context = browser.new_context(
        viewport={"width": 1280, "height": 800}, base_url=room.address, storage_state=signed_in(browser, room, name)
    )
    page = context.new_page()
    errors: list[str] = []
    page.on("pageerror", lambda error: errors.append(str(error)))
    yield page
    context.close()
    assert errors == []


def _keep(samples: np.ndarray, rate: int) -> str:
    with transaction() as session:
        return store_content(session, ArraySource(samples, rate), ENCODINGS["FLOAT"]).sha256


def _sound(rate: int, seed: int, channels: int = 2) -> np.ndarray:
    noise = np.random.default_rng(seed).normal(size=(2 * rate, channels)) * 0.05
    return noise.astype(np.float32).astype(float)


def _played(page: Page) -> np.ndarray:
    left, right = page.evaluate("window.rendered()")
    return np.stack([np.frombuffer(base64.b64decode(side), "<f4") for side in (left, right)], axis=1)


def _lined_up(page: Page, kept: Sequence[str]) -> dict[str, Any]:
    """What the server says of these sides from 0.5 to 0.9 s, matched in RMS level."""
    answer: dict[str, Any] = page.evaluate(
        """async (body) => {
            const me = await (await fetch("/api/me")).json();
            const headers = { "Content-Type": "application/json", "X-CSRFToken": me.forgery_token };
            return (await fetch("/api/listening/sides", { method: "POST", body, headers })).json();
        }""",
        json.dumps({
            "sides": [{"spec": spec, "name": "x"} for spec in kept], "by": "rms", "passage": None,
            "start": 0.5, "end": 0.9,
        }),
    )  # fmt: skip
    return answer


def _off(out: np.ndarray, clip: np.ndarray, rate: int) -> float:
    """The greatest difference of what was played from a looped clip, past the fade on the start and the switch."""
    begin, ramp = round(0.05 * rate), round(0.04 * rate)
    frames = np.arange(begin + ramp, len(out) - 1)
    return float(np.abs(out[frames] - clip[(frames - begin) % len(clip)]).max())


REFUSED = {"type": "x", "title": "BadParameter", "status": 422, "detail": "Not today."}


def _listen(page: Page, *sides: str, also: str = "") -> None:
    query = "&".join(f"side={spec}|Side {i}" for i, spec in enumerate(sides, 1))
    page.goto(f"/listen?{query}{also}")
    expect(page.get_by_role("button", name="Play")).to_be_enabled()


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000, 192_000])
def test_eight_sides_are_in_sync_to_the_sample_and_switching_changes_nothing_but_the_side(
    listener: Page, rate: int
) -> None:
    """Each rendered offline and nulled against the core's own clip: at its gain, from the same frame on."""
    sounds = [_sound(rate, seed) * 10 ** (-seed / 20) for seed in range(8)]
    late = np.concatenate([np.zeros((512, 2)), sounds[0][:-512]])
    kept = [_keep(sound, rate) for sound in [*sounds[:7], late]]
    page = listener
    page.add_init_script(OFFLINE)
    loudest = None
    for number in (1, 2, 5, 8) if rate == 48_000 else (1, 8):
        _listen(page, *kept, also="&passage=0.5-0.9&by=rms")
        page.keyboard.press(" ")
        expect(page.get_by_role("button", name="Stop")).to_be_visible()
        page.keyboard.press(str(number))
        expect(page.get_by_role("radio", name=f"{number} Side {number}", exact=False)).to_be_checked()
        heard = _lined_up(page, kept)
        if number == 8:
            assert heard["sides"][7]["delay"] == 512
        source = ArraySource(sounds[number - 1] if number < 8 else sounds[0], rate)
        clip = loop_of(source, heard["start"], heard["stop"]) * 10 ** (heard["sides"][number - 1]["gain"] / 20)
        out = _played(page)
        left = _off(out, clip, rate)
        assert left < 1e-6 * 20, (number, left)
        level = 10 * np.log10(np.mean(out[round(0.09 * rate) : -1] ** 2))
        loudest = loudest or level
        assert abs(level - loudest) < 0.1  # one RMS level; the loop is cut where the offline render ends


def test_any_band_is_typed_and_heard_and_one_that_holds_nothing_is_not(listener: Page) -> None:
    sound = _sound(44_100, 8)
    page = listener
    page.add_init_script(OFFLINE)
    kept = _keep(sound, 44_100)
    _listen(page, kept, also="&passage=0.5-0.9&by=none")
    page.get_by_role("button", name="Band: all frequencies").click()
    page.get_by_role("menuitemradio", name="another band…").click()
    fields = page.get_by_role("form", name="Another band")
    lowest, highest = fields.get_by_label("Lowest frequency"), fields.get_by_label("Highest frequency")
    expect(lowest).to_be_focused()
    for typed, why in (("4k", "above the lowest"), ("low", "Hz or kHz"), ("22050", "nothing above 22.05 kHz")):
        lowest.fill(typed)
        highest.fill("3.4k")
        page.keyboard.press("Enter")
        expect(fields.get_by_role("alert")).to_contain_text(why)
    lowest.fill("300")
    page.keyboard.press("Enter")
    expect(page.get_by_role("button", name="Band: the band from 300 Hz to 3.4 kHz")).to_be_visible()
    assert "band=300-3400" in page.url
    page.keyboard.press("Escape")
    expect(fields).to_be_hidden()
    expect(page.get_by_text("Preparing…")).to_be_hidden()
    page.keyboard.press(" ")
    expect(page.get_by_role("button", name="Stop")).to_be_visible()
    out = _played(page)
    heard = _lined_up(page, [kept])
    assert _off(out, loop_of(ArraySource(sound, 44_100), heard["start"], heard["stop"], (300.0, 3400.0)), 44_100) < 2e-6
    for choice in ("another band…", "all frequencies"):
        page.get_by_role("button", name="Band: the band from 300 Hz to 3.4 kHz").click()
        page.get_by_role("menuitemradio", name=choice).click()
    expect(fields).to_be_hidden()  # they would keep the band that was typed


def test_channels_and_the_difference_are_heard_as_they_say(listener: Page) -> None:
    sound = _sound(48_000, 3)
    first, second = _keep(sound, 48_000), _keep(sound * [0.9, 1.0], 48_000)
    page = listener
    page.add_init_script(OFFLINE)
    _listen(page, first, second, also="&passage=0.5-0.9&by=none")
    page.get_by_role("button", name="Include the difference").click()
    expect(page.get_by_role("radio", name="3 Side 2 less Side 1", exact=False)).to_be_visible()
    choose_option(page, "Which channels are heard", "swapped")
    expect(page.get_by_text("limited to −6 dBFS, for your ears")).to_be_visible()
    page.keyboard.press("3")
    page.keyboard.press("+")
    page.get_by_role("button", name="Play").click()
    expect(page.get_by_role("button", name="Stop")).to_be_visible()
    out = _played(page)[round(0.1 * 48_000) :]
    assert np.abs(out[:, 0]).max() < 1e-6  # swapped: what differs is in the second channel now
    assert 20 * np.log10(np.std(out[:, 1]) / (0.1 * np.std(sound[:, 0]))) == pytest.approx(3.0, abs=0.3)


def test_a_sound_device_that_refuses_the_rate_a_lost_side_and_nothing_at_all(listener: Page) -> None:
    kept = _keep(_sound(44_100, 4), 44_100)
    page = listener
    page.add_init_script(
        "const Real = window.AudioContext; window.AudioContext = class extends Real {"
        " constructor(options) { if (options) throw new Error('refused'); super(); } };"
    )
    _listen(page, kept)
    page.keyboard.press(" ")
    expect(page.get_by_role("button", name="Stop")).to_be_visible()
    page.goto("/listen?side=" + "0" * 64 + "|gone")
    expect(page.get_by_text("There is no")).to_be_visible()
    page.goto("/listen")
    expect(page.get_by_text("Nothing was chosen to listen to")).to_be_visible()


def _hidden() -> int:
    """What stands behind X of the newest trial: the database knows, the page does not."""
    with transaction() as session:
        sitting = session.query(Sitting).filter(Sitting.state == "open").order_by(Sitting.id.desc()).first()
        assert sitting is not None
        return int(sitting.drawn[-1].slots[1]["side"])


def test_a_whole_sitting_by_keyboard_through_a_lost_connection(listener: Page) -> None:
    sound = _sound(48_000, 5)
    page = listener
    asked: list[str] = []
    page.on("request", lambda request: asked.append(request.url))
    _listen(page, _keep(sound, 48_000), _keep(sound * [0.8, 1.0], 48_000), also="&passage=0.5-0.7")
    page.keyboard.press("b")
    form = page.get_by_role("form", name="Listen blind")
    form.get_by_label("Trials").fill("5")
    expect(form.get_by_text("5 trials: 5 right are needed")).to_be_visible()
    form.get_by_role("button", name="Make the test").click()
    page.get_by_role("button", name="Begin a sitting").click()
    for number in range(1, 6):
        expect(page.get_by_text(f"{number - 1} of 5")).to_be_visible()
        expect(page.get_by_role("button", name="It is the first")).to_be_enabled()
        page.keyboard.press("ArrowUp")
        page.keyboard.press("ArrowLeft")
        if number == 2:  # the page is opened anew in the middle: the same trial is there
            page.reload()
            expect(page.get_by_text("1 of 5")).to_be_visible()
            expect(page.get_by_role("button", name="It is the first")).to_be_enabled()
        if number == 3:  # the connection is lost as the answer is sent, and comes back
            page.context.set_offline(True)
            page.keyboard.press("a" if _hidden() == 0 else "s")
            page.wait_for_timeout(500)
            page.context.set_offline(False)
        else:
            page.keyboard.press("a" if _hidden() == 0 else "s")
        if number < 5:
            expect(page.get_by_text(f"{number} of 5")).to_be_visible()
    result = page.get_by_role("region", name="this sitting")
    expect(result.get_by_text("5 of 5 right")).to_be_visible()
    expect(result.get_by_text("Evidence against guessing")).to_be_visible()
    expect(page.get_by_role("img", name="5 right, 0 wrong")).to_be_visible()
    heard = [url for url in asked if "/heard/" in url]
    assert len(heard) == len(set(heard)) + 3  # three clips a trial, each asked for once but those of the reload


def test_a_panel_of_three_sees_nothing_before_its_day(browser: Browser, room: Server) -> None:
    point_at(room.database)
    person("Ansel R.", "work")
    sound, address = _sound(48_000, 6), ""
    specs = _keep(sound, 48_000), _keep(sound * [0.7, 1.0], 48_000)
    for name in ("Nora F.", "Tove L.", "Ansel R."):
        with _come_in(browser, room, name) as page:
            if not address:
                _listen(page, *specs, also="&passage=0.5-0.7")
                page.keyboard.press("b")
                form = page.get_by_role("form", name="Listen blind")
                form.get_by_label("Trials").fill("5")
                form.get_by_role("textbox", name="Name").fill("A panel")
                form.get_by_label("Panel until").fill(f"{datetime.now(UTC) + timedelta(days=20):%Y-%m-%d}")
                form.get_by_role("button", name="Make the test").click()
                expect(page.get_by_text("Results are hidden from everybody until")).to_be_visible()
                address = page.url
            else:
                page.goto("/listen/tests")
                page.get_by_role("link", name="A panel").click()
            page.get_by_role("button", name="Begin a sitting").click()
            for number in range(1, 6):
                expect(page.get_by_role("button", name="It is the first")).to_be_enabled()
                page.keyboard.press("a")
                if number < 5:
                    expect(page.get_by_text(f"{number} of 5")).to_be_visible()
            expect(page.get_by_text("Thank you: your answers are in.")).to_be_visible()
            expect(page.get_by_text("of 5 right")).to_have_count(0)
    with transaction() as session:
        session.connection().exec_driver_sql("UPDATE listening_test SET until = now() - interval '1 minute'")
    with _come_in(browser, room, "Nora F.") as page:
        page.goto(address)
        expect(page.get_by_role("region", name="3 people, each once, added up")).to_be_visible()
        expect(page.get_by_role("button", name="Begin another sitting")).to_be_disabled()


def test_grades_are_given_and_their_means_shown(listener: Page) -> None:
    sound = _sound(48_000, 7)
    page = listener
    _listen(page, _keep(sound, 48_000), _keep(sound * [0.7, 1.0], 48_000), also="&passage=0.5-0.7")
    page.keyboard.press("b")
    form = page.get_by_role("form", name="Listen blind")
    form.get_by_label("Grades, 0 to 100").check()
    form.get_by_label("Rounds").fill("1")
    form.get_by_role("button", name="Make the test").click()
    page.get_by_role("button", name="Begin a sitting").click()
    give = page.get_by_role("button", name="Give these 4 grades")
    expect(give).to_be_disabled()
    with transaction() as session:
        sitting = session.query(Sitting).filter(Sitting.state == "open").order_by(Sitting.id.desc()).first()
        assert sitting is not None
        names = {s["label"]: sitting.test.sides[s["side"]]["name"] for s in sitting.drawn[-1].slots if s["graded"]}
    for letter, name in names.items():
        page.get_by_label(f"Grade of {letter} as a number").fill("100" if name == "hidden reference" else "55")
    page.get_by_label("Note on B").fill("dull")
    give.click()
    means = page.get_by_role("region", name="Mean grades")
    expect(means.get_by_text("hidden reference")).to_be_visible()
    expect(means.get_by_text("one grade")).to_have_count(4)
    with page.expect_download() as download:
        page.get_by_role("button", name="Download the results").click()
        page.get_by_role("menuitem", name="Every trial, CSV").click()
    assert len(Path(download.value.path()).read_text().splitlines()) == 5


def test_a_passage_is_dragged_no_longer_than_may_be_heard_and_a_refusal_leaves_the_page(listener: Page) -> None:
    page = listener
    kept = _keep(np.tile(_sound(8000, 8), (20, 1)), 8000)
    _listen(page, kept, also="&passage=0.5-0.9")
    box = page.get_by_role("slider", name="Passage").bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + 2, box["y"] + 20)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] - 2, box["y"] + 20, steps=4)
    page.mouse.up()
    expect(page.get_by_text(re.compile(r"^0\.\d+ to 30\.\d+ s of"))).to_be_visible()
    expect(page.get_by_role("alert")).to_have_count(0)
    page.route("**/api/listening/sides", lambda route: route.fulfill(status=422, json=REFUSED))
    page.get_by_role("button", name=re.compile("^Level:")).click()
    page.get_by_role("menuitemradio", name="matched in RMS level").click()
    expect(page.get_by_role("alert")).to_contain_text("Not today.")
    page.unroute("**/api/listening/sides")
    page.get_by_role("button", name=re.compile("^Level:")).click()
    page.get_by_role("menuitemradio", name="matched in sample peak").click()
    expect(page.get_by_role("alert")).to_have_count(0)


def test_from_a_pair_by_one_key_with_a_note_and_a_test_that_are_shown_on_it(listener: Page) -> None:
    page = listener
    page.goto("/comparisons/1")
    expect(page.get_by_role("button", name="Play")).to_be_visible()
    page.keyboard.press("j")
    expect(page.get_by_text("37 samples taken off", exact=False)).to_be_visible()
    page.get_by_role("button", name="harsh").click()
    page.get_by_role("button", name="Save the note").click()
    expect(page.get_by_role("region", name="Notes").get_by_role("listitem")).to_contain_text("harsh")
    page.keyboard.press("b")
    page.get_by_role("form", name="Listen blind").get_by_role("button", name="Make the test").click()
    expect(page).to_have_url(re.compile(r"/listen/tests/\d+$"))
    page.goto("/comparisons/1")
    heard = page.get_by_role("region", name="Listening notes")
    expect(heard).to_contain_text("Nora F.")
    expect(heard).to_contain_text("Listening test, 0 sittings")
    heard.get_by_role("link", name="Reference and Render").click()
    expect(page).to_have_url(re.compile(r"/listen/tests/\d+$"))


def test_marked_files_and_cells_are_listened_to(listener: Page) -> None:
    page = listener
    page.goto("/files/2")
    for name in ("cut off.wav", "bent.wav"):
        page.get_by_role("row", name=name).get_by_role("checkbox").check()
    page.keyboard.press("j")
    expect(page.get_by_role("radio", name="2 bent.wav", exact=False)).to_be_visible()
    page.goto("/runs/1")
    expect(page.get_by_text("No cell is chosen")).to_be_visible()
    page.keyboard.press("ArrowDown")
    expect(page.get_by_role("button", name="Listen", exact=True)).to_be_enabled()
    page.keyboard.press("j")
    expect(page.get_by_role("radio", name="1 Re", exact=False).first).to_be_visible()


def test_a_page_that_is_left_does_not_change_the_address_of_the_next(listener: Page) -> None:
    """The sheet puts its chosen cell in the address after 200 ms: here that comes when another page is there."""
    page = listener
    page.add_init_script(
        "const real = window.setTimeout; window.late = [];"
        "window.setTimeout = (act, wait, ...rest) =>"
        " wait === 200 ? (window.late.push(act), 0) : real(act, wait, ...rest);"
    )
    page.goto("/runs/1")
    expect(page.get_by_text("No cell is chosen")).to_be_visible()
    page.keyboard.press("ArrowDown")
    expect(page.get_by_role("button", name="Listen", exact=True)).to_be_enabled()
    page.keyboard.press("j")
    expect(page).to_have_url(re.compile("/listen.side="))
    assert page.evaluate("window.late.map((act) => act()).length") >= 1
    expect(page.get_by_role("radio", name="1 Re", exact=False).first).to_be_visible()
    expect(page).to_have_url(re.compile("/listen.side="))


def test_needles_show_at_ten_places_what_the_core_has_there(listener: Page) -> None:
    """A sound that swells, so that each tenth of a second has values of its own; played as rendered, and matched."""
    rate = 48_000
    swelling = _sound(rate, 5) * np.linspace(0.2, 2.0, 2 * rate)[:, None]
    kept = [_keep(swelling, rate), _keep(0.5 * swelling, rate)]
    page = listener
    _listen(page, *kept, also="&passage=0.5-1.5&by=none")
    page.keyboard.press(" ")
    table = page.get_by_role("table", name="Needles at the place that sounds")
    shown = needles_of(ArraySource(swelling, rate))
    steps = slice(5, 16)
    known = {
        "momentary": {round(float(v), 1) for v in shown.momentary[steps]},
        "peak": {round(float(v), 1) for v in shown.peak.max(axis=0)[steps]},
    }
    expect(table.locator('[data-figure="peak"]').first).not_to_have_text("–")
    bands = table.locator("[data-bands]").first
    expect(bands).to_have_attribute("d", re.compile("M"))
    # From −90 dBFS at the bottom to full scale at 20 up: all as the core has them in one of the tenths that sound.
    drawn = 4.5 * np.array([float(v) for v in re.findall(r"v-?([\d.]+)h", bands.get_attribute("d") or "")]) - 90.0
    tenths = running_bands(ArraySource(swelling, rate), 5, 11).levels.clip(-90.0, 0.0)
    assert np.abs(tenths - drawn).max(axis=1).min() < 0.11
    seen = set()
    for _ in range(10):
        for key, values in known.items():
            first, second = (
                float(text.replace("−", "-")) for text in table.locator(f'[data-figure="{key}"]').all_inner_texts()
            )
            assert any(abs(first - value) < 0.11 for value in values), (key, first, values)
            assert first - second == pytest.approx(6.0, abs=0.21)
            seen.add((key, first))
        page.wait_for_timeout(90)
    assert len(seen) > 6  # they move
    page.keyboard.press(" ")
    expect(table.locator('[data-figure="peak"]').first).to_have_text("–")
    assert axe(page) == []
