"""A folder of renders checked against a folder of references, without a server: verdicts, limits, outputs, approval."""

import base64
import csv
import hashlib
import io
import json
import os
import re
import shutil
import subprocess
import sys
import tomllib
import zipfile
from collections.abc import Callable
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import jsonschema
import numpy as np
import pytest
import soundfile
import xmlschema
from junitparser import Error, Failure, JUnitXml, Skipped
from scipy import signal

from kind_echo.core.audio.resampling import resample
from tests.conftest import PROJECT, kind_echo

R = 48_000
_NOISE = np.random.default_rng(5).uniform(-0.5, 0.5, (R, 2))
Samples = Any


def _write(path: Path, samples: Samples, rate: int = R) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    soundfile.write(path, samples, rate, subtype="FLOAT")


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """References and renders: the same, late, softer, with a little noise, missing, surplus, broken, silent."""
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    monkeypatch.delenv("CI", raising=False)
    quiet = np.random.default_rng(6).standard_normal(_NOISE.shape)
    made: dict[str, Samples] = {
        "same": _NOISE, "mix/late": np.concatenate([np.zeros((3, 2)), _NOISE[:-3]]), "mix/softer": 0.9 * _NOISE,
        "mix/noisy": _NOISE + 1e-7 * quiet, "surplus": _NOISE, "silent": 0 * _NOISE,
    }  # fmt: skip
    for name, samples in made.items():
        _write(tmp_path / "renders" / f"{name}.wav", samples)
        if name != "surplus":
            _write(tmp_path / "references" / f"{name}.wav", _NOISE)
    _write(tmp_path / "references" / "missing.wav", _NOISE)
    _write(tmp_path / "references" / "broken.wav", _NOISE)
    (tmp_path / "renders" / "broken.wav").write_bytes((tmp_path / "renders" / "same.wav").read_bytes()[:30_000])
    (tmp_path / "references" / "notes.txt").write_text("no audio")
    return tmp_path


def _check(folder: Path, *words: str) -> Any:
    return kind_echo("check", "references", "renders", *words, folder=folder)


def _rows(folder: Path, *words: str) -> dict[str, Any]:
    return {row["path"]: row for row in json.loads(_check(folder, "--json", *words).stdout)["rows"]}


_EXPECTED = {
    "broken.wav": "error", "missing.wav": "error", "mix/late.wav": "fail", "mix/noisy.wav": "changed",
    "mix/softer.wav": "fail", "same.wav": "pass", "silent.wav": "fail", "surplus.wav": "waiting",
}  # fmt: skip


def test_each_pair_has_a_status_a_reason_and_the_readings_of_compare(folder: Path) -> None:
    done = _check(folder)
    assert done.returncode == 2  # a file could not be read, as of `compare --each`
    assert "8 pairs: 2 not compared, 3 failed, 1 changed, 1 waiting, 1 passed" in done.stdout
    rows = _rows(folder)
    assert {name: row["status"] for name, row in rows.items()} == _EXPECTED
    assert list(rows) == sorted(rows)
    late = rows["mix/late.wav"]
    assert (late["verdict"], late["why"]) == ("3 samples late", "Late or early: +3.000 samples")
    own = json.loads(kind_echo("compare", "references/mix/late.wav", "renders/mix/late.wav", "--json",
                               folder=folder).stdout)  # fmt: skip
    assert late["causes"] == own["causes"]
    assert [r for r in late["readings"] if r in own["readings"]] == own["readings"]
    broken = [one for one in late["limits"] if not one["holds"]]
    assert [(one["measure"], one["bound"]) for one in broken] == [("delay", 0.05)]
    assert rows["missing.wav"]["error"] == "There is no render of it"


@pytest.mark.parametrize(("left", "words", "status"), [
    (("same",), (), 0), (("same", "mix/late"), (), 1), (("same", "mix/noisy"), (), 0),
    (("same", "mix/noisy"), ("--fail-on", "changed"), 1), (("same", "mix/late"), ("--fail-on", "changed"), 0),
    (("same", "surplus"), (), 0), (("same", "surplus"), ("--fail-on", "waiting"), 1), (("same", "missing"), (), 2),
])  # fmt: skip
def test_the_exit_status_says_what_came_of_it(
    folder: Path, left: tuple[str, ...], words: tuple[str, ...], status: int
) -> None:
    for side in ("references", "renders"):
        for file in (folder / side).rglob("*.wav"):
            if file.relative_to(folder / side).with_suffix("").as_posix() not in left:
                file.unlink()
    assert _check(folder, *words).returncode == status


def test_a_file_of_limits_loosens_tightens_waives_and_brings_rates_together(folder: Path) -> None:
    today = date.today()  # noqa: DTZ011 - the day on which waivers end is the one of this machine
    for file in ("broken", "missing"):
        (folder / "references" / f"{file}.wav").unlink()
    (folder / "renders" / "broken.wav").unlink()
    half = signal.resample(np.pad(_NOISE[: R // 2], ((R // 8, R // 8), (0, 0))), 3 * R // 4)
    _write(folder / "renders" / "half.wav", half, R // 2)
    _write(folder / "references" / "half.wav", resample(half, R // 2, R))
    assert "rates_may_differ" in _rows(folder)["half.wav"]["error"]
    (folder / "team.toml").write_text(f"""
        [limits]
        true_peak = {{ at_most = 6, reason = "house rule" }}
        [[only]]
        paths = ["mix/*"]
        limits = {{ residual_rms = "<= -20", gain = false, delay = {{ at_least = -4, at_most = 4 }} }}
        [[only]]
        paths = ["half*"]
        rates_may_differ = true
        limits = {{ residual_rms = "<= -60", length_difference = {{ at_least = -2, at_most = 2 }} }}
        [[only]]
        paths = ["same*"]
        limits = {{ true_peak = {{ at_most = -20 }} }}
        [[waiver]]
        paths = ["silent*"]
        until = {today + timedelta(days=1)}
        reason = "mended in the next build"
    """)
    rows = _rows(folder, "--limits", "team.toml")
    assert {name: row["status"] for name, row in rows.items()} == {
        "mix/late.wav": "pass", "mix/noisy.wav": "changed", "mix/softer.wav": "changed", "same.wav": "fail",
        "silent.wav": "waived", "surplus.wav": "waiting", "half.wav": "pass",
    }  # fmt: skip
    assert "waived until" in rows["silent.wav"]["why"]
    text = (folder / "team.toml").read_text().replace(str(today + timedelta(days=1)), str(today - timedelta(days=1)))
    (folder / "team.toml").write_text(text)
    ended = _rows(folder, "--limits", "team.toml")["silent.wav"]
    assert (ended["status"], "its waiver ended" in ended["why"]) == ("fail", True)


@pytest.mark.parametrize(("text", "place"), [
    ("x = 1", "x: is none of limits"), ("[limits]\nfoo = {at_most=1}", "limits.foo: There is no measure"),
    ("[limits]\ngain = 3", "limits.gain: must be a table"), ("[limits]\ngain = {at_most='a'}", "limits.gain.at_most"),
    ("[limits]\ngain = {at_least=2, at_most=1}", "greater"), ("[[waiver]]\nreason='x'", "waiver[0].until"),
    ("[[waiver]]\nuntil=2030-01-01", "waiver[0].reason"), ("[[only]]\nlimits={}", "says neither"),
    ("[[only]]\nsignals=['hum']", "only[0].signals"), ("a = = 1", "this is no TOML"),
])  # fmt: skip
def test_what_is_wrong_in_a_file_of_limits_is_told_with_its_place(folder: Path, text: str, place: str) -> None:
    (folder / "team.toml").write_text(text)
    done = _check(folder, "--limits", "team.toml")
    assert (done.returncode, done.stdout) == (2, "")
    assert place in done.stderr
    assert done.stderr.count("\n") == 1


def test_a_first_file_of_limits_can_be_read_and_its_schema_holds_for_it(folder: Path) -> None:
    assert _check(folder, "--init", "--limits", "team.toml").returncode == 0
    text = (folder / "team.toml").read_text()
    schema = json.loads((folder / "kind-echo.schema.json").read_text())
    jsonschema.Draft7Validator.check_schema(schema)
    # What stands there as comments are proposals: taken out of them they are valid, and the check keeps them.
    wanted = ("# [[only]]", '# paths = ["mix', "# limits = { ", "[limits]")
    lines = [line.removeprefix("# ") for line in text.splitlines() if line.startswith(wanted)]
    proposed = "\n".join(lines).partition("[[only]]\nlimits = { residual_rms = { at_most = -80 } }")[0]
    for valid in (text, proposed, '[limits]\ngain = { at_most = 1, reason = "x" }\ndelay = false'):
        jsonschema.validate(tomllib.loads(valid), schema)
    for invalid in ("[limits]\nfoo = { at_most = 1 }", "[limits]\ngain = {}", "[[waiver]]\nreason = 'x'"):
        with pytest.raises(jsonschema.ValidationError):
            jsonschema.validate(tomllib.loads(invalid), schema)
    (folder / "team.toml").write_text(proposed)
    assert _rows(folder, "--limits", "team.toml")["mix/softer.wav"]["status"] == "changed"
    again = _check(folder, "--init", "--limits", "team.toml")
    assert (again.returncode, "not there yet" in again.stderr) == (2, True)


def test_takes_and_inputs_belong_to_their_pair(folder: Path) -> None:
    for side in ("references", "renders"):
        shutil.rmtree(folder / side)
        for take in (1, 2):
            noise = np.random.default_rng(10 * take + len(side)).standard_normal(_NOISE.shape)
            _write(folder / side / f"chorus.take{take}.wav", _NOISE + 1e-3 * noise)
    t = np.arange(2 * R) / R
    tone = 0.5 * np.sin(2 * np.pi * 997 * t)
    both = np.tanh(tone)[:, None].repeat(2, axis=1)  # one channel went in, and two came out
    _write(folder / "references" / "drive.wav", both)
    _write(folder / "references" / "drive.input.wav", tone)
    _write(folder / "renders" / "drive.wav", both)
    rows = _rows(folder)
    assert {name: row["status"] for name, row in rows.items()} == {"chorus.wav": "pass", "drive.wav": "pass"}
    assert "than its takes are from each other" in rows["chorus.wav"]["why"]
    third = next(r["value"] for r in rows["drive.wav"]["readings"] if r["measure"] == "harmonic_3")
    assert third < -30
    (folder / "team.toml").write_text("[limits]\nthd = '<= -60'\nresidual_rms = '<= -20'\nnoise_floor = '<= -80'")
    judged = _rows(folder, "--limits", "team.toml")
    assert {name: row["status"] for name, row in judged.items()} == {"chorus.wav": "pass", "drive.wav": "fail"}


def test_what_did_not_change_is_known_and_a_changed_byte_is_measured_again(folder: Path) -> None:
    first, kept = _rows(folder, "--known", "kept.sqlite"), folder / "kept.sqlite"
    assert _rows(folder, "--known", "kept.sqlite") == first
    path = folder / "renders" / "mix" / "late.wav"
    _write(path, _NOISE)
    os.utime(path, (1, 1))
    assert _rows(folder, "--known", "kept.sqlite")["mix/late.wav"]["status"] == "pass"
    kept.write_bytes(b"no database" * 1000)
    done = _check(folder, "--known", "kept.sqlite")
    assert "could not be used" in done.stderr
    assert "1 changed, 1 waiting, 2 passed" in done.stdout


def test_outputs_for_build_servers(folder: Path) -> None:
    _write(folder / "references" / "<b>&|.wav", _NOISE)
    _write(folder / "renders" / "<b>&|.wav", 0.5 * _NOISE)
    _check(folder, "--junit", "out/junit.xml", "--summary", "out/summary.md", "--report", "out/report.html")
    suites = JUnitXml.fromfile(str(folder / "out" / "junit.xml"))
    found = {f"{suite.name}/{case.name}": [type(one) for one in case.result] for suite in suites for case in suite}
    assert found == {
        "renders/broken.wav": [Error], "renders/missing.wav": [Error], "renders/same.wav": [], "mix/noisy.wav": [],
        "renders/silent.wav": [Failure], "renders/surplus.wav": [Skipped], "mix/late.wav": [Failure],
        "mix/softer.wav": [Failure], "renders/<b>&|.wav": [Failure],
    }  # fmt: skip
    assert (suites.tests, suites.failures, suites.errors, sum(suite.skipped for suite in suites)) == (9, 4, 2, 1)
    xmlschema.XMLSchema(str(PROJECT / "tests/support/junit.xsd")).validate(str(folder / "out" / "junit.xml"))
    summary = (folder / "out" / "summary.md").read_text()
    assert "**9 pairs: 2 not compared, 4 failed, 1 changed, 1 waiting, 1 passed**" in summary
    assert "| mix/late.wav | fail | Late or early: \\+3.000 samples; 3 samples late |" in summary
    assert "\\<b\\>&\\|.wav" in summary
    page = (folder / "out" / "report.html").read_text()
    assert "&lt;b&gt;&amp;|.wav" in page
    assert not any(word in page for word in ("http://", "https://", "<b>&", "src="))
    rows = list(csv.DictReader(io.StringIO(_check(folder, "--csv").stdout)))
    assert {row["path"] for row in rows} == {*_EXPECTED, "<b>&|.wav"}
    assert next(r["value"] for r in rows if (r["path"], r["measure"], r["channel"]) == ("mix/late.wav", "delay", "all"))


@pytest.fixture(scope="module")
def bundle(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Evidence of three pairs, of which one passes; the folders are gone."""
    made = tmp_path_factory.mktemp("evidence")
    for name, samples in (("same", _NOISE), ("mix/late", np.roll(_NOISE, 3, axis=0)), ("mix/softer", 0.9 * _NOISE)):
        _write(made / "references" / f"{name}.wav", _NOISE)
        _write(made / "renders" / f"{name}.wav", samples)
    _check(made, "--evidence", "out/evidence.zip", "--fresh")
    shutil.rmtree(made / "references")
    shutil.rmtree(made / "renders")
    return made / "out" / "evidence.zip"


def _changed(bundle: Path, other: Path, change: Callable[[dict[str, bytes]], None], *, signed: bool = True) -> Path:
    """The bundle with other files; `signed`: with a manifest that fits them."""
    with zipfile.ZipFile(bundle) as given:
        files = {name: given.read(name) for name in given.namelist()}
    change(files)
    if signed:
        manifest = json.loads(files["manifest.json"])
        others = {name: data for name, data in files.items() if name != "manifest.json"}
        manifest["files"] = {name: hashlib.sha256(data).hexdigest() for name, data in others.items()}
        files["manifest.json"] = json.dumps(manifest).encode()
    with zipfile.ZipFile(other, "w") as made:
        for name, data in files.items():
            made.writestr(name, data)
    return other


@pytest.mark.skipif(sys.platform != "linux", reason="names are text there")
def test_a_name_that_is_no_text_is_written_out(folder: Path) -> None:
    for side, level in (("references", 1.0), ("renders", 0.5)):
        shutil.rmtree(folder / side)
        _write(folder / side / "named.wav", level * _NOISE)
        (folder / side / "named.wav").rename(folder / side / os.fsdecode(b"bad\xff.wav"))
    outputs = ("--junit", "junit.xml", "--report", "report.html", "--evidence", "evidence.zip", "--plots", "plots")
    assert list(_rows(folder, *outputs)) == ["bad\\xff.wav"]
    assert next(iter(JUnitXml.fromfile(str(folder / "junit.xml")))).name == "renders"
    assert "bad\\xff.wav" in (folder / "report.html").read_text()
    assert kind_echo("verify", "evidence.zip", folder=folder).returncode == 0


def test_evidence_is_computed_again(bundle: Path) -> None:
    with zipfile.ZipFile(bundle) as given:
        names = set(given.namelist())
    assert {"manifest.json", "readings.json", "readings.csv", "junit.xml", "summary.md", "report.html"} < names
    assert "audio/renders/mix/late.wav" in names
    assert "audio/renders/same.wav" not in names
    done = kind_echo("verify", bundle, "--json")
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert (told["differences"], told["without_audio"]) == ([], 1)
    assert told["readings"] > 100


def _other_sample(files: dict[str, bytes]) -> None:
    audio = bytearray(files["audio/renders/mix/late.wav"])
    audio[-3] ^= 0x10
    files["audio/renders/mix/late.wav"] = bytes(audio)


def _other_number(files: dict[str, bytes]) -> None:
    told = json.loads(files["readings.json"])
    late = next(one for one in told["pairs"] if one["name"] == "mix/late.wav")
    reading = next(r for r in late["measured"]["comparison"] if (r["measure"], r["channel"]) == ("delay", "all"))
    reading["value"] = 0.0
    files["readings.json"] = json.dumps(told).encode()


def _outside(files: dict[str, bytes]) -> None:
    told = json.loads(files["readings.json"])
    next(one for one in told["pairs"] if one.get("audio"))["audio"] = ["/etc/hostname", "/etc/hostname"]
    files["readings.json"] = json.dumps(told).encode()


@pytest.mark.parametrize(("change", "signed", "status", "says"), [
    (_other_sample, False, 2, "audio/renders/mix/late.wav was changed"),
    (_other_sample, True, 1, "mix/late.wav residual_"),
    (_other_number, True, 1, "mix/late.wav delay of all: 0.0, and now"),
    (_outside, True, 2, "names a file that is not in the bundle"),
    (lambda files: files.pop("junit.xml"), False, 2, "junit.xml is missing"),
    (lambda files: files.update({"more.txt": b"x"}), False, 2, "more.txt is not in the manifest"),
    (lambda files: files.update({"audio/../../x.wav": b"x"}), True, 2, "would lie outside"),
    (lambda files: files.pop("manifest.json"), False, 2, "it has no manifest.json"),
    (lambda files: files.update({"readings.json": b'{"pairs": [{"measured": 1}]}'}), True, 2, "does not hold what"),
])  # fmt: skip
def test_evidence_that_was_changed_is_refused_in_the_right_words(
    tmp_path: Path, bundle: Path, change: Any, signed: bool, status: int, says: str
) -> None:
    done = kind_echo("verify", _changed(bundle, tmp_path / "changed.zip", change, signed=signed))
    assert done.returncode == status, done.stdout
    assert says in (done.stderr if status == 2 else done.stdout)
    assert "Traceback" not in done.stderr


def _openssl(*words: str | Path) -> None:
    subprocess.run(["openssl", *words], check=True, capture_output=True)


def test_a_signed_bundle_is_known_by_its_key_and_no_other(
    folder: Path, bundle: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in ("signing", "other"):
        _openssl("genpkey", "-algorithm", "ed25519", "-out", tmp_path / f"{name}.pem")
        _openssl("pkey", "-in", tmp_path / f"{name}.pem", "-pubout", "-out", tmp_path / f"{name}.pub")
    monkeypatch.setenv("KIND_ECHO_SIGNING_KEY", str(tmp_path / "signing.pem"))
    (tmp_path / "signing.pem").chmod(0o644)
    refused = _check(folder, "--evidence", "signed.zip")
    assert refused.returncode == 2
    assert "others than its owner can read" in refused.stderr
    (tmp_path / "signing.pem").chmod(0o600)
    _check(folder, "--evidence", "signed.zip")
    monkeypatch.delenv("KIND_ECHO_SIGNING_KEY")
    signed = folder / "signed.zip"
    raw = subprocess.run(
        ["openssl", "pkey", "-pubin", "-in", tmp_path / "signing.pub", "-outform", "DER"],
        check=True, capture_output=True,
    ).stdout[-32:]  # RFC 8410: the key is the last of SubjectPublicKeyInfo  # fmt: skip
    assert hashlib.sha256(raw).hexdigest() in kind_echo("verify", signed).stdout
    told = json.loads(kind_echo("verify", signed, "--key", tmp_path / "signing.pub", "--json").stdout)
    assert told["signed"] == {"fingerprint": hashlib.sha256(raw).hexdigest(), "is_known": True}
    with zipfile.ZipFile(signed) as given:
        (tmp_path / "message").write_bytes(given.read("manifest.json"))
        (tmp_path / "signature").write_bytes(base64.b64decode(json.loads(given.read("signature.json"))["signature"]))
    # The same by OpenSSL, which knows nothing of this product.
    _openssl("pkeyutl", "-verify", "-pubin", "-inkey", tmp_path / "signing.pub", "-rawin", "-in", tmp_path / "message",
             "-sigfile", tmp_path / "signature")  # fmt: skip
    forged = _changed(signed, tmp_path / "forged.zip", _other_number, signed=True)
    unsigned = _changed(bundle, tmp_path / "plain.zip", lambda _: None, signed=False)
    for path, key, says in (
        (signed, "other.pub", "signed with another key"), (forged, "signing.pub", "signature does not hold"),
        (unsigned, "signing.pub", "it is not signed"), (signed, "message", "holds no public key"),
    ):  # fmt: skip
        done = kind_echo("verify", path, "--key", tmp_path / key)
        assert (done.returncode, says in done.stderr) == (2, True), done.stderr


def test_what_is_no_bundle_is_said_to_be_none() -> None:
    done = kind_echo("verify", PROJECT / "README.md")
    assert (done.returncode, "cannot be read as a bundle" in done.stderr) == (2, True)


def test_what_did_not_pass_is_drawn(folder: Path) -> None:
    t = np.arange(2 * R) / R
    tone = 0.5 * np.sin(2 * np.pi * 997 * t)
    _write(folder / "references" / "drive.wav", tone)
    _write(folder / "renders" / "drive.wav", np.tanh(tone))
    _check(folder, "--plots", "plots")
    drawn = {file.relative_to(folder / "plots").as_posix() for file in (folder / "plots").rglob("*.svg")}
    assert drawn == {"mix/late.wav.svg", "mix/noisy.wav.svg", "mix/softer.wav.svg", "silent.wav.svg", "drive.wav.svg",
                     "drive.wav.measured.svg"}  # fmt: skip
    plot = (folder / "plots" / "mix" / "softer.wav.svg").read_text()
    assert all(word in plot for word in ("mix/softer.wav", "0.92 dB down", "reference", "difference", "dBFS"))
    _check(folder, "--plots", "again")
    assert (folder / "again" / "mix" / "softer.wav.svg").read_text() == plot


def test_a_result_is_drawn_as_its_kind(folder: Path) -> None:
    _write(folder / "in.wav", _NOISE[:, 0])
    _write(folder / "out.wav", 0.5 * _NOISE[:, 0])
    for words in (("response", "in.wav", "out.wav"), ("compare", "in.wav", "out.wav")):
        assert kind_echo(*words, "--plot", f"{words[0]}.png", folder=folder).returncode == 0
        assert (folder / f"{words[0]}.png").read_bytes().startswith(b"\x89PNG")
    for line, says in (
        ("compare in.wav out.wav --plot x.gif", ".svg or .png"),
        ("measure missing.wav --plot x.svg", "missing.wav"),
        ("dynamics in.wav in.wav in.wav --plot x.svg", "something was measured that can be drawn"),
    ):
        done = kind_echo(*line.split(), folder=folder)
        assert (done.returncode, says in done.stderr, (folder / "x.svg").exists()) == (2, True, False)


def test_several_files_are_drawn_over_each_other(folder: Path) -> None:
    for n in range(10):
        _write(folder / f"{n}.wav", 0.9**n * _NOISE[:, 0])
    few, many = [f"{n}.wav" for n in range(3)], [f"{n}.wav" for n in range(10)]
    for words, says in (
        (("measure", *few, "--plot-by", "third_octaves"), "Third octaves of 3 files."),
        (("measure", *many), "Spectra of 10 files."),
        (("measure", *few, "--plot-by", "waveform"), "Waveforms of 3 files."),
        (("measure", "0.wav", "--plot-by", "level"), "Peak level over time of 1 file."),
        (("response", *few), "Responses of 2 files."),
        (("compare", *few, "--each"), "Spectra of 2 files against 0.wav: 2.wav lies farthest from it, −1.83 dB"),
    ):
        done = kind_echo(*words, "--plot", "over.svg", folder=folder)
        assert done.returncode == 0, done.stderr
        svg = (folder / "over.svg").read_text()
        assert says in svg
        assert ("0.wav" if words[0] == "measure" else "1.wav") in svg
        (folder / "over.svg").unlink()
    (folder / "broken.wav").write_bytes(b"RIFF")
    some = kind_echo("measure", "0.wav", "broken.wav", "1.wav", "--plot", "over.svg", "--csv", folder=folder)
    assert some.returncode == 2
    assert "broken.wav" in some.stdout
    assert "Spectra of 2 files." in (folder / "over.svg").read_text()


def test_approved_renders_are_the_references_of_the_next_check(folder: Path) -> None:
    (folder / "renders" / "broken.wav").unlink()
    (folder / "references" / "broken.wav").unlink()
    (folder / "references" / "missing.wav").unlink()
    softer = folder / "renders" / "mix" / "softer.wav"
    soundfile.write(softer.with_suffix(".flac"), 0.9 * _NOISE, R, subtype="PCM_24")
    softer.unlink()
    refused = _check(folder, "--approve")
    assert (refused.returncode, "--yes" in refused.stderr) == (2, True)
    done = _check(folder, "--approve", "--yes")
    assert done.returncode == 0
    assert "renders/surplus.wav → references/surplus.wav (new)" in done.stderr
    assert "silent" not in done.stderr.replace("Approved", "")  # an unfit render becomes no reference
    assert {row["status"] for name, row in _rows(folder).items() if name != "silent.wav"} == {"pass"}
    assert not (folder / "references" / "mix" / "softer.wav").exists()
    assert kind_echo("check", "references", "renders", "--approve", folder=folder, CI="true").returncode == 2


@pytest.mark.parametrize("words", [("check", "references", "nowhere"), ("check", "references/same.wav", "renders"),
                                   ("check", "references", "renders", "--json", "--csv"),
                                   ("check", "references", "renders", "--limits", "nowhere.toml")])  # fmt: skip
def test_bad_use_is_one_line(folder: Path, words: tuple[str, ...]) -> None:
    done = kind_echo(*words, folder=folder)
    assert (done.returncode, done.stderr.count("\n")) == (2, 1)


def test_the_limits_of_a_team_hold_for_other_commands_where_they_measure(folder: Path) -> None:
    (folder / "team.toml").write_text("[limits]\ntrue_peak = { at_least = -60, at_most = -20 }\nthd = '<= -60'")
    done = kind_echo("measure", "renders/same.wav", "--limits", "team.toml", "--json", folder=folder)
    judged = json.loads(done.stdout)["limits"]
    assert done.returncode == 1
    assert [(one["measure"], one["sign"], one["holds"]) for one in judged] == [
        ("true_peak", ">=", True), ("true_peak", "<=", False),
    ]  # fmt: skip


def test_the_tutorial_does_what_it_says(folder: Path) -> None:
    """docs/gate.md: each command that it indents, one after the other, and the file of limits that it shows."""
    for side in ("references", "renders"):
        shutil.rmtree(folder / side)
    text = (PROJECT / "docs" / "gate.md").read_text()
    commands = re.findall(r"^    (\S.*)$", text, re.MULTILINE)
    assert len(commands) >= 10
    limits = re.findall(r"```toml\n(.*?)```", text, re.DOTALL)[0]
    said = ""
    for command in commands:
        if "--limits kind-echo.toml --junit" in command:
            (folder / "kind-echo.toml").write_text(limits)
        path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
        done = subprocess.run(["bash", "-c", command], cwd=folder, env=os.environ | {"PATH": path}, text=True,
                              capture_output=True, check=False)  # fmt: skip
        assert done.returncode == 0, (command, done.stdout, done.stderr)
        said += done.stdout
    for expected in ("2 pairs: 2 passed", "1.00 dB up", "held back", "2 pairs: 1 waived, 1 passed"):
        assert expected in said
    assert {file.name for file in (folder / "out").iterdir()} == {
        "junit.xml", "summary.md", "report.html", "known.sqlite",
    }  # fmt: skip
    assert _check(folder).returncode == 0


def test_the_lines_for_build_servers_run(folder: Path) -> None:
    """docs/build-servers.md: its shell lines, and every `kind-echo check` in its other examples."""
    for name in ("broken", "missing", "mix/late", "mix/softer", "silent"):
        (folder / "references" / f"{name}.wav").unlink()
        (folder / "renders" / f"{name}.wav").unlink(missing_ok=True)
    (folder / "kind-echo.toml").write_text("[limits]\ntrue_peak = { at_most = 6 }")
    text = (PROJECT / "docs" / "build-servers.md").read_text()
    lines = [line for block in re.findall(r"```sh\n(.*?)```", text, re.DOTALL) for line in block.splitlines()]
    lines += re.findall(r"kind-echo check [^'\n]*", text.partition("```yaml")[2])
    assert len(lines) >= 5
    path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
    for line in lines:
        done = subprocess.run(["bash", "-c", line], cwd=folder, env=os.environ | {"PATH": path}, text=True,
                              capture_output=True, check=False)  # fmt: skip
        assert done.returncode == 0, (line, done.stdout, done.stderr)
    assert JUnitXml.fromfile(str(folder / "out" / "junit.xml")).tests == 3
