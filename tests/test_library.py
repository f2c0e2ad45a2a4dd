"""Measuring from Python, and the fixture for pytest: the numbers of the command line, errors that say what to do."""

import doctest
import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile

import kind_echo
from kind_echo import library
from tests.conftest import kind_echo as command

pytest_plugins = ["pytester"]

R = 48_000
_NOISE = np.random.default_rng(3).uniform(-0.5, 0.5, (R, 2))


def test_the_examples_of_the_library_hold() -> None:
    assert doctest.testmod(library).failed == 0
    assert doctest.testmod(library).attempted > 4


def test_paths_and_arrays_give_what_the_command_line_gives(tmp_path: Path) -> None:
    for name, samples in (("a", _NOISE), ("b", 0.8 * np.roll(_NOISE, 5, axis=0))):
        soundfile.write(tmp_path / f"{name}.wav", samples, R, subtype="DOUBLE")
    told = json.loads(command("compare", "a.wav", "b.wav", "--json", folder=tmp_path).stdout)
    by_path = kind_echo.compare(tmp_path / "a.wav", str(tmp_path / "b.wav"))
    by_array = kind_echo.compare(_NOISE, 0.8 * np.roll(_NOISE, 5, axis=0), rate=R)
    for found in (by_path, by_array):
        values = {(one.measure, one.channel): one.value for one in found}
        assert {key: values[key] for key in ((r["measure"], r["channel"]) for r in told["readings"])} == {
            (r["measure"], r["channel"]): r["value"] for r in told["readings"]
        }
        assert found.explain() == told["verdict"]
        assert [cause.document() for cause in found.causes] == told["causes"]
    assert by_path.value("gain", 2) == pytest.approx(20 * np.log10(0.8), abs=1e-3)
    assert by_path["true_peak"].unit == "dBTP"


def test_each_function_measures_its_closed_form() -> None:
    t = np.arange(2 * R) / R
    sine = 0.5 * np.sin(2 * np.pi * 997 * t)
    assert kind_echo.measure(sine, R).value("rms") == pytest.approx(-6.02, abs=0.01)
    cubic = kind_echo.tone(sine - sine**3 / 3, R)  # a third harmonic of 1/96 beside 15/32: Chebyshev polynomials
    assert cubic.value("harmonic_3") == pytest.approx(20 * np.log10(1 / 45), abs=0.01)
    late = kind_echo.latency(_NOISE, np.concatenate([np.zeros((7, 2)), _NOISE[:-7]]), R)
    assert late.value("latency") == pytest.approx(7, abs=0.05)
    assert kind_echo.response(_NOISE, 0.5 * _NOISE, R).value("gain_1k") == pytest.approx(-6.02, abs=0.01)


def test_limits_are_judged_and_broken_ones_explained() -> None:
    found = kind_echo.compare(_NOISE, 0.9 * _NOISE, R, limits={"gain": (-0.5, 0.5), "delay": (None, 0.05)})
    assert (found.passes, [one.measure for one in found.broken]) == (False, ["gain"])
    assert found.explain() == "0.92 dB down; Gain −0.915 dB, limit −0.500 … 0.500: broken"
    assert "<td>Gain</td>" in found._repr_html_()
    assert kind_echo.compare(_NOISE, _NOISE, R, limits={"residual_rms": "<= -120"}).passes


@pytest.mark.parametrize(("call", "words"), [
    (lambda: kind_echo.measure(_NOISE), "rate"), (lambda: kind_echo.measure(_NOISE.T, R), "frames first"),
    (lambda: kind_echo.measure(np.zeros((2, 2, 2)), R), "shape"), (lambda: kind_echo.measure("nowhere.wav"), "nowhere"),
    (lambda: kind_echo.measure(np.zeros(9, np.int16), R), "int16"),
    (lambda: kind_echo.measure(np.zeros(0), R), "shape"),
    (lambda: kind_echo.compare(_NOISE, _NOISE[:, :1], R), "channel"),
    (lambda: kind_echo.compare(_NOISE, _NOISE, R, limits={"thd": "<= 1"}), "gives"),
    (lambda: kind_echo.compare(_NOISE, _NOISE, R, limits={"gain": "about 1"}), "form"),
    (lambda: kind_echo.curve(_NOISE, _NOISE, R, threshold=-20.0), "together"),
])  # fmt: skip
def test_bad_use_is_told(call: Any, words: str) -> None:
    with pytest.raises(kind_echo.KindEchoError, match=words):
        call()


_TESTS = """
    import numpy as np
    SOUND = np.random.default_rng(1).uniform(-0.5, 0.5, 24_000)

    def test_drive(audio):
        audio.matches("sub/drive", GAIN * SOUND, rate=48_000)

    def test_loose(audio):
        assert audio.matches("loose", GAIN * SOUND, 48_000, limits={"residual_rms": "<= 0"}).value("gain") is not None
"""


def test_renders_match_the_references_that_lie_beside_the_tests(
    pytester: pytest.Pytester, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.delenv("CI", raising=False)

    def run(gain: float, *words: str) -> pytest.RunResult:
        pytester.makepyfile(test_it=_TESTS.replace("GAIN", str(gain)))
        return pytester.runpytest_inprocess("-p", "no:playwright", *words)

    run(1.0).assert_outcomes(failed=2)
    run(1.0, "--audio-approve").assert_outcomes(passed=2)
    reference = pytester.path / "audio-references" / "test_it" / "sub" / "drive.wav"
    before = reference.read_bytes()
    run(1.0).assert_outcomes(passed=2)
    changed = run(0.5)
    changed.assert_outcomes(passed=1, failed=1)
    changed.stdout.fnmatch_lines(["*sub/drive differs from its reference: 6.02 dB down; *"])
    kept = pytester.path / "audio-failures" / "test_it" / "sub" / "drive"
    assert sorted(file.name for file in kept.iterdir()) == ["difference.wav", "reference.wav", "render.wav"]
    difference, _ = soundfile.read(kept / "difference.wav")
    assert np.abs(difference + 0.5 * soundfile.read(reference)[0]).max() < 1e-12
    assert reference.read_bytes() == before
    monkeypatch.setenv("CI", "true")
    assert run(0.5, "--audio-approve").ret == pytest.ExitCode.USAGE_ERROR
    monkeypatch.delenv("CI")
    run(0.5, "--audio-approve").assert_outcomes(passed=2)
    run(0.5).assert_outcomes(passed=2)
    assert not kept.exists()


def test_a_name_leads_to_no_other_folder(pytester: pytest.Pytester, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv("CI", raising=False)
    pytester.makepyfile("def test_it(audio):\n    audio.matches('../x', [0.0, 1.0], 48_000)")
    result = pytester.runpytest_inprocess("-p", "no:playwright", "--audio-approve")
    result.assert_outcomes(failed=1)
    assert not (pytester.path / "x.wav").exists()
