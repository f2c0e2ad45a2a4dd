"""Plug-ins of the CLAP standard: described, set, run in blocks, and held back when they misbehave.

The plug-in is of C, built here with the declarations of the host. That these are the standard's was tried by hand, on
seventeen plug-ins of a package of Debian's.
"""

import json
import shutil
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile

from kind_echo.renderers.contract import RenderFailed, RenderRequest
from kind_echo.renderers.machine import Machine
from kind_echo.renderers.plugins import hosting, scanning
from kind_echo.renderers.plugins.hosting import PluginRun, describe
from kind_echo.renderers.plugins.offering import PluginRenderer, plugin_offer, render_file
from kind_echo.renderers.plugins.standards import CLAP
from kind_echo.renderers.process import Limits
from tests.conftest import kind_echo
from tests.renderers.plugins import NOISE, R, build_clap, run

CRASH, HANG, NOT_A_NUMBER, SAY_FAILED, BY_BLOCK = 1, 2, 3, 4, 5


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The plug-ins."""
    return build_clap(tmp_path_factory.mktemp("clap"))


@pytest.fixture
def sound(tmp_path: Path) -> Path:
    soundfile.write(tmp_path / "in.wav", NOISE, R, subtype="FLOAT")
    return tmp_path / "in.wav"


def test_a_plugin_says_what_it_is(built: Path) -> None:
    gain, late, mono = describe(built)[:3]
    assert (gain.id, gain.name, gain.version, gain.features) == ("test.gain", "Gain", "2.1.0", ("audio-effect",))
    assert (gain.inputs, gain.outputs, mono.inputs, late.keeps_state) == ((2,), (2,), (1,), True)
    level, fault = gain.parameters
    assert (level.name, level.least, level.greatest, level.default, level.text) == ("Gain", -60, 12, 0, "0.0 dB")
    assert (fault.stepped, level.stepped) == (True, False)


@pytest.mark.parametrize("block", [1, 7, 512, R])
def test_what_comes_out_is_what_went_in_through_the_gain_at_every_block(built: Path, sound: Path, block: int) -> None:
    out, ran = run(built, sound, PluginRun("test.gain", {"Gain": -6.0}, block))
    assert ran.latency == 0
    assert np.array_equal(out, NOISE * np.float32(np.power(np.float32(10), np.float32(-6.0 / 20))))


def test_a_condition_takes_the_latency_off_or_goes_by_the_clock(built: Path) -> None:
    request = RenderRequest("Late", "1", {}, CLAP.host, "", "real time", R, 480, NOISE.astype(float))
    as_it_comes = render_file(built, "test.late", request)
    off = render_file(built, "test.late", replace(request, hosting=("latency off", "by the clock")))
    assert (as_it_comes.claimed_latency, as_it_comes.compensated) == (64, False)
    assert (off.claimed_latency, off.compensated, len(off.samples)) == (64, True, len(NOISE))
    assert np.array_equal(as_it_comes.samples[64:], off.samples[:-64])
    assert as_it_comes.blocks is not None
    assert off.blocks is not None
    assert as_it_comes.blocks.late is None
    assert off.blocks.late is not None  # none on an idle machine: how many is the machine's


def test_a_text_is_read_by_the_plugin_blocks_are_drawn_and_the_latency_is_told(built: Path, sound: Path) -> None:
    out, ran = run(built, sound, PluginRun("test.late", {"Gain": "half"}, 100, seed=3))
    assert ran.latency == 64
    assert np.allclose(out[64:], 0.5 * NOISE[:-64], atol=1e-7)
    assert not out[:64].any()
    again, _ = run(built, sound, PluginRun("test.late", {"Gain": "half"}, 100, seed=4))
    assert np.array_equal(out, again)  # it does not depend on the blocks
    one, _ = run(built, sound, PluginRun("test.gain", {"Fault": BY_BLOCK}, 100, seed=3))
    other, _ = run(built, sound, PluginRun("test.gain", {"Fault": BY_BLOCK}, 100, seed=4))
    same, _ = run(built, sound, PluginRun("test.gain", {"Fault": BY_BLOCK}, 100, seed=3))
    assert not np.array_equal(one, other)
    assert np.array_equal(one, same)


def test_a_state_that_was_saved_gives_the_same_again(built: Path, sound: Path) -> None:
    kept = sound.with_name("state")
    first, _ = run(built, sound, PluginRun("test.gain", {"Gain": -12.5}, 64, save=kept))
    again, _ = run(built, sound, PluginRun("test.gain", {}, 64, state=kept))
    assert np.array_equal(first, again)


@pytest.mark.parametrize(("asked", "says"), [
    (PluginRun("test.gain", {"Fault": CRASH}, 64), "gain.clap was ended by SIGSEGV"),
    (PluginRun("test.gain", {"Fault": SAY_FAILED}, 64), "says that it failed at 0.00 s"),
    (PluginRun("test.gain", {"Gain": 99.0}, 64), "Gain is from -60 to 12, and not 99"),
    (PluginRun("test.gain", {"Drive": 1.0}, 64), "has no parameter Drive, but Gain, Fault"),
    (PluginRun("test.gain", {"Gain": "loud"}, 64), "does not know what Gain 'loud' is"),
    (PluginRun("test.mono", {}, 64), "takes 1 channels in and 1 out, and the signal has 2 channels"),
    (PluginRun("", {}, 64), "plug-ins; name one of test.gain, test.late, test.mono"),
    (PluginRun("test.none", {}, 64), "holds no plug-in test.none"),
])  # fmt: skip
def test_what_goes_wrong_is_told_with_what_the_plugin_printed(
    built: Path, sound: Path, asked: PluginRun, says: str
) -> None:
    with pytest.raises(RenderFailed) as failed:
        run(built, sound, asked)
    assert says in failed.value.reason
    assert "hello from the plug-in" in failed.value.log or not asked.id or asked.id == "test.none"


def test_one_that_hangs_is_stopped(built: Path, sound: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(hosting, "_RENDERING", Limits(seconds=3.0, memory=4096))
    with pytest.raises(RenderFailed, match=r"gain\.clap was stopped after 3 s"):
        run(built, sound, PluginRun("test.gain", {"Fault": HANG}, 64))


def test_what_is_no_plugin_is_said_to_be_none(tmp_path: Path) -> None:
    path = tmp_path / "text.clap"
    path.write_text("no library")
    with pytest.raises(RenderFailed, match="is no plug-in of the CLAP standard that can be loaded"):
        describe(path)


@pytest.fixture
def here(built: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """A folder in which plug-ins are found: one, and one that is none."""
    folder = tmp_path / "plug-ins"
    folder.mkdir()
    shutil.copy(built, folder / "gain.clap")
    (folder / "broken.clap").write_text("no library")
    monkeypatch.setenv(CLAP.variable, str(folder))
    scanning.forget()
    yield folder
    scanning.forget()


def _request(version: str, **others: object) -> RenderRequest:
    asked = RenderRequest(
        "Gain", version, {"Gain": -6.0}, CLAP.host, "", "offline", R, 64, NOISE.astype(float), "test.gain"
    )
    return replace(asked, **others)  # type: ignore[arg-type]


def test_what_a_machine_has_is_offered_and_two_builds_lie_side_by_side(here: Path) -> None:
    offer = plugin_offer(CLAP)
    gain = next(one for one in offer.effects if one.handle == "test.gain")
    assert {one.handle for one in offer.effects} >= {"test.gain", "test.late", "test.mono"}
    assert (gain.name, gain.channels, offer.hosts[0].modes) == ("Gain (CLAP)", (2,), ("offline", "real time"))
    (first,) = gain.versions
    rendered = PluginRenderer(CLAP).render(_request(first))
    assert np.allclose(rendered.samples, 0.5012 * NOISE, atol=1e-4)
    assert (rendered.claimed_latency, rendered.compensated) == (0, True)
    late = PluginRenderer(CLAP).render(_request(first, handle="test.late"))
    assert (late.claimed_latency, late.compensated) == (64, False)
    newer = here / "next" / "gain.clap"
    newer.parent.mkdir()
    newer.write_bytes((here / "gain.clap").read_bytes() + b"another build")
    scanning.forget()
    both = next(one for one in plugin_offer(CLAP).effects if one.handle == "test.gain").versions
    assert len(both) == 2
    assert first in both
    renderer = PluginRenderer(CLAP)
    assert {renderer.artefact("Gain", "test.gain", version) is None for version in both} == {False}
    assert renderer.artefact("Gain", "test.gain", "000000000000") is None
    with pytest.raises(RenderFailed, match=r"has no build 000000000000 of test\.gain, but"):
        renderer.render(_request("000000000000"))


def test_a_plugin_that_comes_is_noticed_without_a_restart(here: Path) -> None:
    machine = Machine()
    assert not machine.look_again()
    (here / "gain.clap").unlink()
    assert machine.look_again()
    assert not any(one.handle == "test.gain" for offer in machine.offers.values() for one in offer.effects)


def test_the_command_line_describes_and_renders(built: Path, sound: Path) -> None:
    told = kind_echo("plugin", built)
    assert told.returncode == 0, told.stderr
    assert "Gain 2.1.0 (test.gain): 2 channels in, 2 out; keeps state" in told.stdout
    assert "  Gain: -60 to 12; 0 unless set, 0.0 dB" in told.stdout
    plugins = json.loads(kind_echo("plugin", built, "--json").stdout)["plugins"]
    assert [one["id"] for one in plugins][:3] == ["test.gain", "test.late", "test.mono"]
    out = sound.with_name("out.wav")
    words = ("--id", "test.late", "--set", "Gain=half", "--block", "37", "--seed", "2", "--json")
    done = kind_echo("render", built, sound, out, *words)
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout)["latency"] == 64
    compared = json.loads(kind_echo("compare", sound, out, "--json").stdout)
    found = {one["measure"]: one["value"] for one in compared["readings"] if one["channel"] == "all"}
    assert (found["delay"], round(found["gain"], 3)) == (64, -6.021)


@pytest.mark.parametrize(("words", "says"), [
    (("--id", "test.gain", "--set", "Gain"), "NAME=VALUE"),
    (("--id", "test.gain", "--set", f"Fault={CRASH}"), "was ended by SIGSEGV"),
    (("--id", "test.gain", "--set", f"Fault={NOT_A_NUMBER}"), ""),
    (("--id", "test.gain", "--preset", "/etc/hostname"), "refused the state"),
])  # fmt: skip
def test_a_render_that_fails_leaves_nothing_behind(built: Path, sound: Path, words: tuple[str, ...], says: str) -> None:
    out = sound.with_name("out.wav")
    done = kind_echo("render", built, sound, out, *words)
    assert (done.returncode, says in done.stderr) == (2 if says else 0, True), done.stderr
    assert out.exists() == (not says)
    assert {path.name for path in sound.parent.iterdir()} <= {"in.wav", "out.wav"}
    assert "Traceback" not in done.stderr
