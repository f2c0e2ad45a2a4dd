"""Folders of builds, the cache of what plug-ins were described as, packages, and checks that render with a plug-in."""

import json
import os
import re
import shutil
import subprocess
import sys
import zipfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile

from kind_echo.renderers import machine
from kind_echo.renderers.contract import (
    Offer,
    OfferedHost,
    RemoteRenderer,
    RenderFailed,
    RenderRequest,
    UploadedBuild,
)
from kind_echo.renderers.declared import BadDeclaration
from kind_echo.renderers.plugins import artefacts, scanning
from kind_echo.renderers.plugins.artefacts import ACCEPT_VARIABLE, CACHE_VARIABLE, unpacked
from kind_echo.renderers.plugins.model import HostFailed
from kind_echo.renderers.plugins.offering import PluginRenderer, plugin_offer, render_file
from kind_echo.renderers.plugins.packing import pack, unpack
from kind_echo.renderers.plugins.standards import CLAP
from kind_echo.renderers.plugins.watched import read_watched
from tests.conftest import PROJECT, kind_echo
from tests.renderers.plugins import NOISE, R, build_clap

FACTOR = np.float32(10 ** (-6 / 20))


@pytest.fixture(scope="module")
def alone(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A plug-in alone in its file."""
    return build_clap(tmp_path_factory.mktemp("alone"), "-DALONE")


@pytest.fixture
def builds(alone: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """A folder of builds that the file of renderers names from beside it."""
    folder = tmp_path / "builds"
    folder.mkdir()
    file = tmp_path / "renderers.toml"
    file.write_text('[builds.skerling]\neffect = "Skerling"\nfolder = "builds"\n')
    monkeypatch.setenv(scanning.FILE_VARIABLE, str(file))
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    scanning.forget()
    yield folder
    scanning.forget()


def _request(version: str, **others: object) -> RenderRequest:
    asked = RenderRequest("Skerling", version, {"Gain": -6.0}, CLAP.host, "", "offline", R, 64, NOISE.astype(float))
    return replace(asked, **others)  # type: ignore[arg-type]


def test_what_appears_in_a_folder_is_a_build(builds: Path, alone: Path) -> None:
    before = scanning.stamp()
    (builds / "2.1.0").mkdir()
    shutil.copy(alone, builds / "2.1.0" / "skerling.clap")
    (builds / "2.1.1.clap").write_bytes(alone.read_bytes() + b"another")
    (builds / "not a version").mkdir()
    shutil.copy(alone, builds / "not a version" / "skerling.clap")
    assert scanning.stamp() != before
    scanning.forget()
    offer = plugin_offer(CLAP)
    (effect,) = (one for one in offer.effects if one.name == "Skerling")
    assert (effect.handle, set(effect.versions)) == ("", {"2.1.0", "2.1.1"})
    assert any("cannot be the name of a build" in one.reason for one in offer.failed)
    renderer = PluginRenderer(CLAP)
    out = renderer.render(_request("2.1.1")).samples
    assert np.allclose(out, NOISE * FACTOR, atol=1e-6)
    assert renderer.artefact("Skerling", "", "2.1.0") != renderer.artefact("Skerling", "", "2.1.1")
    with pytest.raises(RenderFailed, match=r"has no build 3\.0 of Skerling, but 2\.1\.[01], 2\.1\.[01]"):
        renderer.render(_request("3.0"))


def test_the_version_may_be_what_the_plugin_tells_and_twice_is_once(builds: Path, alone: Path) -> None:
    file = builds.parent / "renderers.toml"
    file.write_text(file.read_text() + 'version = "plug-in"\n')
    shutil.copy(alone, builds / "a.clap")
    shutil.copy(alone, builds / "b.clap")
    scanning.forget()
    offer = plugin_offer(CLAP)
    (effect,) = (one for one in offer.effects if one.name == "Skerling")
    assert effect.versions == ("2.1.0",)
    assert any("build 2.1.0 is there already" in one.reason for one in offer.failed)


def test_a_file_is_described_once_until_it_changes(builds: Path, alone: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    shutil.copy(alone, builds / "1.0.clap")
    scanning.forget()
    assert plugin_offer(CLAP) is not None
    kept = list((builds.parent / "cache" / "kind-echo" / "plugins").glob("*.json"))
    assert kept

    def never(path: Path) -> None:
        raise AssertionError(path)

    monkeypatch.setattr(scanning, "describe", never)
    monkeypatch.setattr(scanning, "_DESCRIBED", {})
    scanning.forget()
    assert any(one.name == "Skerling" for one in plugin_offer(CLAP).effects)
    for one in kept:
        one.write_text("{")  # a file of the cache that cannot be read is made anew
    monkeypatch.setattr(scanning, "_DESCRIBED", {})
    scanning.forget()
    with pytest.raises(AssertionError):
        plugin_offer(CLAP)


@pytest.mark.parametrize(("text", "says"), [
    ('[builds.x]\neffect = "E"\n', "builds.x.folder"), ("[builds.x]\nspeed = 1\n", "builds.x"),
    ("[builds", "cannot be read"),
])  # fmt: skip
def test_a_folder_of_builds_that_is_declared_wrong_is_told(text: str, says: str, tmp_path: Path) -> None:
    path = tmp_path / "renderers.toml"
    path.write_text(text)
    with pytest.raises(BadDeclaration, match=says):
        read_watched(path)


def test_a_folder_is_packed_and_unpacked_and_the_same_each_time(tmp_path: Path) -> None:
    plugin = tmp_path / "skerry.vst3"
    (plugin / "Contents" / "x86_64-linux").mkdir(parents=True)
    (plugin / "Contents" / "x86_64-linux" / "skerry.so").write_bytes(b"binary")
    (plugin / "Contents" / "moduleinfo.json").write_text("{}")
    for name in ("one", "two"):
        pack(plugin, tmp_path / name)
    assert (tmp_path / "one").read_bytes() == (tmp_path / "two").read_bytes()
    found = unpack(tmp_path / "one", "skerry.vst3", tmp_path / "out")
    assert (found / "Contents" / "x86_64-linux" / "skerry.so").read_bytes() == b"binary"
    bomb = tmp_path / "bomb.zip"
    with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as packed, packed.open("skerry.vst3/x", "w") as member:
        for _ in range(2100):
            member.write(bytes(1_000_000))
    with pytest.raises(HostFailed, match="unpacks to more than 2 GB"):
        unpack(bomb, "skerry.vst3", tmp_path / "no")
    assert not (tmp_path / "no").exists()


def test_an_uploaded_build_is_fetched_once_checked_and_dropped_when_there_is_no_room(
    alone: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    fetched: list[str] = []

    def build(data: bytes, sha256: str | None = None) -> UploadedBuild:
        import hashlib

        digest = sha256 or hashlib.sha256(data).hexdigest()

        def fetch(target: Path) -> None:
            fetched.append(digest)
            target.write_bytes(data)

        return UploadedBuild(digest, "gain.clap", fetch)

    one = build(alone.read_bytes())
    with pytest.raises(RenderFailed, match="does not run what build servers upload"):
        unpacked(one)
    monkeypatch.setenv(ACCEPT_VARIABLE, "1")
    with pytest.raises(RenderFailed, match="arrived with other bytes"):
        unpacked(build(b"something else", "0" * 64))
    path = unpacked(one)
    assert unpacked(one) == path
    assert fetched == ["0" * 64, one.sha256]
    out = render_file(path, "another.identifier", _request("")).samples  # it is alone in its file
    assert np.allclose(out, NOISE * FACTOR, atol=1e-6)
    path.unlink()  # somebody tidied up
    assert unpacked(one).exists()
    monkeypatch.setenv(CACHE_VARIABLE, "0.000001")
    unpacked(build(alone.read_bytes() + b"another"))
    assert not path.parent.exists()
    assert len(list(artefacts._root().iterdir())) == 1


def test_samples_of_64_bits_tails_and_the_clock(alone: Path, tmp_path: Path) -> None:
    sound, out = tmp_path / "in.wav", tmp_path / "out.wav"
    soundfile.write(sound, NOISE[:4800], R, subtype="FLOAT")
    refused = kind_echo("render", alone, sound, out, "--double")
    assert (refused.returncode, "takes samples of 32 bits only" in refused.stderr) == (2, True)
    told = json.loads(kind_echo("render", alone, sound, out, "--tail", "0.05", "--paced", "--json").stdout)
    assert soundfile.info(out).frames == 4800 + 2400
    assert told["blocks"]["count"] == 15
    assert 0 <= told["blocks"]["missed"] <= 15
    assert (told["wrote_input"], told["latency"], told["latency_taken_off"]) == (False, 0, False)
    kind_echo("render", alone, sound, out, "--set", "Gain=0:0,0.05:-6").check_returncode()
    moved = soundfile.read(out, dtype="float32", always_2d=True)[0]
    assert np.array_equal(moved[:2400], NOISE[:2400])  # to the sample
    assert np.allclose(moved[2400:], NOISE[2400:4800] * FACTOR, atol=1e-6)


def test_a_latency_is_taken_off_when_asked(tmp_path: Path) -> None:
    built, sound = build_clap(tmp_path), tmp_path / "in.wav"
    soundfile.write(sound, NOISE, R, subtype="FLOAT")
    out = tmp_path / "out.wav"
    kind_echo("render", built, sound, out, "--id", "test.late", "--compensate", "--block", "50").check_returncode()
    assert np.array_equal(soundfile.read(out, dtype="float32", always_2d=True)[0], NOISE)


LIMITS = """
[plugin]
file = "gain.clap"

[[plugin.render]]
name = "sweep/usual"
signal = { kind = "sweep", level = -12.0, seconds = 0.5, channels = 2 }

[[plugin.render]]
name = "own"
signal = "own.wav"
values = { Gain = GAIN }
"""


def test_a_check_renders_with_the_plugin_that_the_limits_name(alone: Path, tmp_path: Path) -> None:
    shutil.copy(alone, tmp_path / "gain.clap")
    soundfile.write(tmp_path / "own.wav", NOISE, R, subtype="FLOAT")
    limits, references = tmp_path / "kind-echo.toml", tmp_path / "references"
    references.mkdir()
    limits.write_text(LIMITS.replace("GAIN", "-6.0"))
    words = ("check", references, "--limits", limits, "--fresh")
    first = kind_echo(*words, "--approve", "--yes", CI="")
    assert first.returncode == 0, first.stderr
    assert np.allclose(soundfile.read(references / "own.wav", dtype="float32")[0], NOISE * FACTOR, atol=1e-6)
    assert kind_echo(*words).returncode == 0
    limits.write_text(LIMITS.replace("GAIN", "-6.5"))
    changed = kind_echo(*words)
    assert (changed.returncode, "0.50 dB down" in changed.stdout) == (1, True), changed.stdout
    limits.write_text(LIMITS.replace("GAIN", '"loud"'))
    failed = kind_echo("check", references, tmp_path / "gain.clap", "--limits", limits, "--fresh")
    assert failed.returncode == 2
    assert "It could not be rendered: gain.clap ended with status 1: test.gain does not know" in failed.stdout
    for wrong, says in (
        (LIMITS.replace("[plugin]", "[plugin]\nspeed = 3"), "plugin.speed"),
        (LIMITS.replace('"own"', '"../own"'), "must be a path in the folder of renders"),
        (LIMITS.replace('"own.wav"', '"gone.wav"').replace("GAIN", "0.0"), "a file beside the limits"),
        (LIMITS.replace('"sweep"', '"swoop"').replace("GAIN", "0.0"), "swoop"),
        (LIMITS.replace("gain.clap", "gone.clap").replace("GAIN", "0.0"), "a plug-in's file that is there"),
        ("", "a folder, a plug-in, or limits that name one"),
    ):  # fmt: skip
        limits.write_text(wrong.replace("GAIN", "0.0"))
        refused = kind_echo(*words)
        assert (refused.returncode, says in refused.stderr) == (2, True), (says, refused.stderr)
    # Without renders asked for, what lies beside each reference as its input goes in.
    limits.write_text('[plugin]\nfile = "gain.clap"\n')
    soundfile.write(references / "own.input.wav", NOISE * FACTOR, R, subtype="FLOAT")
    again = kind_echo(*words, "--json")
    rows = {one["path"]: one["status"] for one in json.loads(again.stdout)["rows"]}
    assert rows == {"own.wav": "pass", "sweep/usual.wav": "error"}


def test_the_tutorial_does_what_it_says(alone: Path, tmp_path: Path) -> None:
    """docs/first-effect.md: each command that it indents, one after the other, with the file that it shows."""
    (tmp_path / "build").mkdir()
    for folder in (tmp_path, tmp_path / "build"):
        shutil.copy(alone, folder / "skerry.clap")
    text = (PROJECT / "docs" / "first-effect.md").read_text()
    (limits,) = re.findall(r"```toml\n(.*?)```", text, re.DOTALL)
    (tmp_path / "kind-echo.toml").write_text(limits)
    commands = re.findall(r"^    (\S.*)$", text, re.MULTILINE)
    assert len(commands) >= 10
    own = {"PATH": f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}", "CI": ""}
    said = ""
    for command in commands:
        words = ["bash", "-c", command]
        done = subprocess.run(words, cwd=tmp_path, env=os.environ | own, text=True, capture_output=True, check=False)
        assert done.returncode == 0, (command, done.stdout, done.stderr)
        said += done.stdout
    for expected in ("Gain: -60 to 12", "something to mend", "6.00 dB down", "3 pairs: 3 passed"):
        assert expected in said, said


def test_a_renderer_from_outside_is_noticed_when_it_changes(builds: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(machine, "_added", [])
    versions = ["1"]

    def offer() -> Offer:
        host = OfferedHost("Outside", versions[-1], "", ("offline",))
        return Offer("outside", "", RemoteRenderer({}), (host,), ())

    machine.add_renderer(offer, lambda: versions[-1])
    here = machine.Machine()
    assert not here.look_again()
    versions.append("2")
    assert here.look_again()
    assert here.offers["outside"].hosts[0].version == "2"
    assert here.look_again(anyway=True)


def test_a_file_that_is_replaced_or_a_declaration_that_breaks_mislabels_nothing(builds: Path, alone: Path) -> None:
    shutil.copy(alone, builds / "1.0.clap")
    scanning.forget()
    renderer = PluginRenderer(CLAP)
    assert renderer.render(_request("1.0")).samples.any()
    (builds / "1.0.clap").write_bytes(alone.read_bytes() + b"another")
    with pytest.raises(RenderFailed, match="was replaced since it was looked at"):
        renderer.render(_request("1.0"))
    here = machine.Machine()
    (builds.parent / "renderers.toml").write_text("[builds")
    scanning.stamp()  # every few seconds, which must not end a worker
    assert not here.look_again(anyway=True)  # things stay as they were
    assert renderer.render(_request("1.0")).samples.any()
