"""The command line's contract: keys, JSON, exit status, one line on standard error."""

import hashlib
import io
import json
import subprocess
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile

from kind_echo.cli.main import main
from tests.conftest import BIN


def run(*arguments: str | Path) -> subprocess.CompletedProcess[str]:
    """A command in this process: its output, its errors and its status; without how far it is, on a slow machine."""
    out, err = io.StringIO(), io.StringIO()
    with redirect_stdout(out), redirect_stderr(err), pytest.raises(SystemExit) as left:
        main([str(argument) for argument in arguments])
    said = "".join(line for line in err.getvalue().splitlines(keepends=True) if not line.endswith(" s so far\n"))
    return subprocess.CompletedProcess(arguments, int(str(left.value.code)), out.getvalue(), said)


def readings(*arguments: str | Path) -> dict[str, Any]:
    """The overall readings of a command, from strict JSON on standard output and nothing else."""
    done = run(*arguments, "--json")
    assert (done.returncode, done.stderr) == (0, ""), done.stderr

    def refuse(text: str) -> None:
        raise AssertionError(f"{text} is no JSON")

    document = json.loads(done.stdout, parse_constant=refuse)
    told = {"causes", "verdict"} if arguments[0] == "compare" else set()
    assert set(document) == {"command", "inputs", "options", "readings", "curves"} | told
    for cause in document.get("causes", []):
        assert set(cause) == {"cause", "channel", "amount", "unit", "takes_off", "why"}
    return {r["measure"]: r for r in document["readings"] if r["channel"] == "all"}


@pytest.fixture
def pair(tmp_path: Path) -> tuple[Path, Path]:
    samples = np.random.default_rng(5).uniform(-0.5, 0.5, (48_000, 2))
    late = -np.concatenate([np.zeros((17, 2)), samples[:-17]]) * 10 ** (-0.5 / 20)
    paths = tmp_path / "a.wav", tmp_path / "b.wav"
    for path, data in zip(paths, (samples, late), strict=True):
        soundfile.write(path, data, 48_000, subtype="FLOAT")
    return paths


def test_compare_gives_delay_gain_and_polarity(pair: tuple[Path, Path]) -> None:
    found = readings("compare", *pair)
    assert found["delay"]["value"] == pytest.approx(17, abs=0.01)
    assert found["delay"]["uncertainty"] < 0.01
    assert found["gain"]["value"] == pytest.approx(-0.5, abs=0.001)
    assert found["polarity"]["value"] == -1
    assert found["identical"]["value"] == 0
    matched = readings("compare", *pair, "--match-gain", "--match-polarity")
    assert matched["residual_rms"]["value"] < -140


def test_a_file_against_itself_is_digital_silence_and_meets_every_upper_limit(pair: tuple[Path, Path]) -> None:
    found = readings("compare", pair[0], pair[0])
    assert found["identical"]["value"] == 1
    assert found["null_depth"]["why"] == "the residual is digital silence"
    assert run("compare", pair[0], pair[0], "--limit", "residual_rms<=-300").returncode == 0


@pytest.mark.parametrize(("limit", "status"), [("residual_rms<=-120", 1), ("gain>=-1", 0), ("residual_peak<=6", 0)])
def test_a_broken_limit_is_the_exit_status(pair: tuple[Path, Path], limit: str, status: int) -> None:
    assert run("compare", *pair, "--limit", limit).returncode == status


def test_a_process_of_its_own_leaves_with_the_status(pair: tuple[Path, Path]) -> None:
    for limit, status in (("residual_rms<=-120", 1), ("residual_peak<=6", 0), ("nonsense<=1", 2)):
        command = [BIN / "kind-echo", "compare", *pair, "--limit", limit]
        assert subprocess.run(command, capture_output=True, check=False).returncode == status  # type: ignore[arg-type]


def test_a_limit_on_a_reading_that_is_not_there_is_broken(tmp_path: Path) -> None:
    rng = np.random.default_rng(8)
    for name in ("a", "b"):
        soundfile.write(tmp_path / f"{name}.wav", rng.uniform(-0.5, 0.5, 48_000), 48_000, subtype="FLOAT")
    done = run("compare", tmp_path / "a.wav", tmp_path / "b.wav", "--limit", "delay<=5")
    words = "Delay: nothing in the render correlates with the reference, limit ≤ 5.000: broken, for there is no reading"
    assert (done.returncode, done.stderr) == (1, f"kind-echo: {words}\n")


def test_bad_use_is_one_line_and_status_two(pair: tuple[Path, Path], tmp_path: Path) -> None:
    mono, slow, text = tmp_path / "mono.wav", tmp_path / "slow.wav", tmp_path / "text.wav"
    soundfile.write(mono, np.zeros(100), 48_000)
    soundfile.write(slow, np.zeros((100, 2)), 44_100)
    text.write_text("a letter")
    drawl = tmp_path / "drawl.wav"
    soundfile.write(drawl, np.zeros(100), 1000)
    cut = tmp_path / "cut.wav"
    cut.write_bytes(pair[0].read_bytes()[:-1000])
    calls: list[tuple[tuple[str | Path, ...], str]] = [
        (("compare", pair[0], mono), "The reference has 2 channels and the render 1 channel"),
        (("compare", pair[0], slow), "The reference is at 48000 Hz and the render at 44100 Hz"),
        (("compare", pair[0], text), "its format is not known, or its header is damaged"),
        (("compare", pair[0], cut), "it breaks off 1000 bytes before its header says it ends"),
        (("compare", pair[0], tmp_path / "none.wav"), "there is no such file"),
        (("measure", pair[0], "--limit", "nonsense<=1"), "There is no measure named 'nonsense'"),
        (("measure", pair[0], "--limit", "rms=1"), "of the form MEASURE<=NUMBER"),
        (("measure",), "Missing argument"),
        (("nothing",), "No such command"),
        (("signal", "tone", tmp_path / "x.wav", "--frequency", "24000"), "below half the rate"),
        (("signal", "bells", tmp_path / "x.wav", "--seconds", "0.01"), "at least 0.08 for a strike"),
        (("measure", drawl), "its rate is 1000 Hz, and audio begins at 4000"),
    ]
    for arguments, words in calls:
        done = run(*arguments)
        assert done.returncode == 2, arguments
        assert done.stdout == "", arguments
        assert words in done.stderr, arguments
        assert len(done.stderr.strip().splitlines()) == 1, done.stderr
        assert "Traceback" not in done.stderr, arguments


def test_a_signal_is_written_at_its_level_and_again_the_same(tmp_path: Path) -> None:
    out = tmp_path / "t.wav"
    for _ in range(2):
        done = run("signal", "tone", out, "--rate", "96000", "--seconds", "1", "--level", "-20", "--json")
        assert done.returncode == 0
    document = json.loads(done.stdout)
    assert document["inputs"][0]["rate"] == 96_000
    assert readings("measure", out)["sample_peak"]["value"] == pytest.approx(-20, abs=0.01)
    assert readings("compare", out, out)["identical"]["value"] == 1


def _write(path: Path, samples: Any, rate: int = 48_000, subtype: str = "FLOAT") -> Path:
    soundfile.write(path, samples, rate, subtype=subtype)
    return path


def _signal(tmp_path: Path, kind: str, *options: str) -> Path:
    out = tmp_path / f"{kind}.wav"
    done = run("signal", kind, out, *options)
    assert done.returncode == 0, done.stderr
    return out


def _samples(path: Path) -> Any:
    return soundfile.read(path, always_2d=True)[0]


def test_tone_and_imd(tmp_path: Path) -> None:
    clean = _signal(tmp_path, "tone", "--frequency", "2220", "--level", "0")
    cubic = _write(tmp_path / "c.wav", _samples(clean) - _samples(clean) ** 3 / 3)
    found = readings("tone", cubic, "--frequency", "2220")
    assert found["harmonic_3"]["value"] == pytest.approx(-19.08, abs=0.01)
    # The tone repeats every 400 samples, and so does the rounding to 24 bits: its lines lie near −170 dBFS.
    worst = found["alias_worst_level"]
    assert (worst["value"] if worst["value"] is not None else worst["at_most"]) < -150
    assert run("tone", cubic, "--frequency", "2220", "--limit", "alias_worst_level<=-96").returncode == 0
    assert run("tone", cubic, "--frequency", "2220", "--limit", "alias_worst_level<=-300").returncode == 1
    gone = readings("tone", cubic, "--frequency", "5000")
    assert gone["thd"]["why"] == "the test signal is not in the render"
    pair = _signal(tmp_path, "pair", "--frequency", "60", "--second", "7000")
    squared = _write(tmp_path / "s.wav", _samples(pair) + 0.2 * _samples(pair) ** 2)
    assert readings("imd", squared, "--tones", "60", "7000")["imd_smpte_percent"]["value"] > 1
    assert run("imd", squared, "--tones", "60", "30000").returncode == 2


def test_response_latency_and_alias_sweep(tmp_path: Path) -> None:
    noise = _signal(tmp_path, "noise", "--seconds", "5")
    late = np.concatenate([np.zeros((64, 1)), _samples(noise)])[:-64]
    output = _write(tmp_path / "late.wav", 0.5 * late)
    found = readings("response", noise, output)
    assert found["gain_1k"]["value"] == pytest.approx(-6.02, abs=0.01)
    assert found["latency"]["value"] == pytest.approx(64, abs=0.05)
    assert found["edge_low"]["value"] is None
    timed = readings("latency", noise, output, "--reported", "60", "--buffer", "128", "2")
    assert timed["latency_error"]["value"] == pytest.approx(4, abs=0.05)
    assert timed["latency_buffer"]["value"] == pytest.approx(5.33, abs=0.01)
    steps = _signal(tmp_path, "steps", "--from", "9000", "--to", "14000", "--step-seconds", "0.3", "--level", "0")
    swept = _write(tmp_path / "swept.wav", _samples(steps) - 0.1 * _samples(steps) ** 3)
    document = json.loads(run("alias-sweep", steps, swept, "--json").stdout)
    assert len(document["curves"]["alias_by_frequency"]["x"]["values"]) > 5
    assert run("alias-sweep", noise, noise).returncode == 2


def test_curve_and_dynamics(tmp_path: Path) -> None:
    stairs = _signal(tmp_path, "staircase", "--frequency", "1000", "--level", "0")
    options = ("--threshold", "-20", "--ratio", "4")
    through = readings("curve", stairs, stairs, *options)
    assert through["curve_error_worst"]["value"] == pytest.approx(15.0, abs=0.05)
    assert through["engages"]["value"] == 0
    assert run("curve", stairs, stairs, "--threshold", "-20").returncode == 2
    burst = _signal(tmp_path, "burst", "--seconds", "4", "--frequency", "1000")
    idle = readings("dynamics", burst, burst)
    assert idle["settled_gain_high"]["value"] == pytest.approx(0, abs=0.01)
    assert idle["attack_time"]["value"] is None


def test_lossy_match_fold_and_abx(tmp_path: Path) -> None:
    noise = _signal(tmp_path, "noise", "--seconds", "3", "--channels", "2", "--level", "-3")
    lossy = readings("lossy", noise, "--codec", "vorbis", "--bitrate", "96")
    assert lossy["lossy_overs"]["value"] > 0
    assert run("lossy", noise, "--codec", "mp3", "--bitrate", "999").returncode == 2
    out = tmp_path / "matched.wav"
    matched = readings("match", noise, "--target", "-20", "--by", "loudness_integrated")
    assert not out.exists()
    assert matched["match_error"]["value"] == pytest.approx(0, abs=0.001)
    readings("match", noise, "--target", "-20", "--by", "loudness_integrated", "--out", out)
    assert readings("measure", out)["loudness_integrated"]["value"] == pytest.approx(-20, abs=0.01)
    assert readings("fold", "24420", "--rate", "48000")["fold_frequency"]["value"] == pytest.approx(23_580)
    assert readings("abx", "7", "10")["abx_p"]["value"] == pytest.approx(0.1719, abs=1e-4)
    assert readings("abx", "7+11", "10+15")["abx_p"]["value"] == pytest.approx(0.0216, abs=1e-4)
    assert run("abx", "11", "10").returncode == 2


def test_sums_and_takes(tmp_path: Path) -> None:
    rng = np.random.default_rng(4)
    low, high = rng.uniform(-0.4, 0.4, (24_000, 1)), rng.uniform(-0.4, 0.4, (24_000, 1))
    paths = [_write(tmp_path / f"{n}.wav", d) for n, d in (("whole", low + high), ("low", low), ("high", high))]
    assert readings("compare", *paths, "--sum")["residual_rms"]["value"] < -140
    minus = readings("compare", paths[1], paths[0], "--minus", paths[2])
    assert minus["residual_rms"]["value"] < -140
    again = _write(tmp_path / "again.wav", low + high + rng.standard_normal((24_000, 1)) * 1e-3)
    spread = readings("compare", paths[0], paths[0], again, "--takes")["take_spread"]
    assert spread["value"] == pytest.approx(-57, abs=0.2)
    refused = run("compare", *paths)
    assert refused.returncode == 2
    assert "unless --sum or --takes" in refused.stderr


def test_alignment_and_ceiling_do_what_they_say(pair: tuple[Path, Path]) -> None:
    found = {align: readings("compare", *pair, "--align", align) for align in ("none", "samples", "fraction")}
    assert found["none"]["residual_rms"]["value"] > found["samples"]["residual_rms"]["value"] - 10
    assert {f["delay"]["value"] for f in found.values()} == {found["none"]["delay"]["value"]}
    assert "without a partner left out" in found["samples"]["residual_rms"]["why"]
    assert readings("compare", *pair, "--ceiling", "0")["changed_below"]["value"] > 45_000


def test_the_verdict_in_words_stands_beside_what_is_left(pair: tuple[Path, Path]) -> None:
    found = readings("compare", *pair)["account_remainder"]
    assert found["why"].endswith("17 samples late, polarity inverted, 0.50 dB down")


@pytest.mark.parametrize("subtype", ["PCM_16", "PCM_24", "FLOAT"])
@pytest.mark.parametrize("channels", [1, 2, 6, 8])
def test_every_word_length_and_up_to_eight_channels(tmp_path: Path, subtype: str, channels: int) -> None:
    samples = np.random.default_rng(channels).uniform(-0.5, 0.5, (24_000, channels))
    reference = _write(tmp_path / "a.wav", samples, subtype=subtype)
    render = _write(tmp_path / "b.wav", np.roll(samples, 3, axis=0), subtype=subtype)
    found = readings("compare", reference, render)
    assert found["delay"]["value"] == pytest.approx(3, abs=0.01)
    document = json.loads(run("measure", reference, "--json").stdout)
    peaks = [r["channel"] for r in document["readings"] if r["measure"] == "sample_peak"]
    assert peaks == ["all", *(str(c + 1) for c in range(channels))]


def test_clipped_runs_by_the_rail_of_the_word_length(tmp_path: Path) -> None:
    tone = 1.5 * np.sin(2 * np.pi * 100 * np.arange(48_000) / 48_000)
    for subtype in ("PCM_16", "PCM_24"):
        clipped = _write(tmp_path / f"{subtype}.wav", np.clip(tone, -1, 1), subtype=subtype)
        assert readings("measure", clipped)["clipped_runs"]["value"] == 200
    floats = _write(tmp_path / "f.wav", np.clip(tone, -0.99, 0.99))
    assert readings("measure", floats)["clipped_runs"]["value"] == 0


def test_a_file_with_nan_gives_its_count_and_nothing_else(tmp_path: Path) -> None:
    samples = np.zeros((1000, 1))
    samples[10] = np.nan
    path = _write(tmp_path / "nan.wav", samples)
    document = json.loads(run("measure", path, "--json").stdout)
    values = {r["measure"]: r["value"] for r in document["readings"] if r["channel"] == "all"}
    assert values.pop("non_finite") == 1
    assert set(values.values()) == {None}


def test_every_input_is_named_by_the_digest_of_its_bytes(pair: tuple[Path, Path]) -> None:
    """FIPS 180-4, by hashlib on the bytes read whole; a file that is given twice as well."""
    wanted = [hashlib.sha256(path.read_bytes()).hexdigest() for path in pair]
    for first, second in ((0, 1), (1, 1)):
        document = json.loads(run("compare", pair[first], pair[second], "--json").stdout)
        assert [given["sha256"] for given in document["inputs"]] == [wanted[first], wanted[second]]
    pair[0].unlink()
    gone = run("compare", *pair)
    assert (gone.returncode, len(gone.stderr.splitlines())) == (2, 1)


def test_commands_import_no_library_that_they_do_not_need() -> None:
    script = (
        "import sys; from kind_echo.cli.main import cli; cli.get_command(None, 'fold');"
        "cli.get_command(None, 'compare');"
        "print([m for m in ('scipy', 'sqlalchemy', 'flask') if m in sys.modules])"
    )
    done = subprocess.run([BIN / "python", "-c", script], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"


def test_the_table_is_for_people(pair: tuple[Path, Path]) -> None:
    done = run("compare", *pair)
    assert "What explains the difference: 17 samples late, polarity inverted, 0.50 dB down." in done.stdout
    assert "−0.500 dB" in done.stdout
    assert "all channels" in done.stdout


def test_files_too_long_to_be_held_are_compared_in_blocks(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Several threads read each file: none may move another's place in it."""
    monkeypatch.setattr("kind_echo.core.audio.source.in_memory.__defaults__", (1000,))
    samples = np.random.default_rng(3).uniform(-0.5, 0.5, (1_200_000, 2))
    reference = _write(tmp_path / "a.wav", samples)
    render = _write(tmp_path / "b.wav", np.roll(samples, 9, axis=0) * 0.9)
    found = readings("compare", reference, render)
    assert found["delay"]["value"] == pytest.approx(9, abs=0.01)
    assert found["gain"]["value"] == pytest.approx(20 * np.log10(0.9), abs=0.001)
    assert found["gaps"]["value"] == 0
