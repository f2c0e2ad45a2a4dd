"""Commands that a file declares: rendered for real with Debian's sox, and held within their limits."""

import sys
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from ops.stack import PROJECT
from scipy import signal

from kind_echo.core.signals import make_request, synthesise
from kind_echo.renderers import process
from kind_echo.renderers.contract import Offer, RenderFailed, RenderRequest
from kind_echo.renderers.declared import BadDeclaration, read_declarations
from kind_echo.renderers.machine import offers
from kind_echo.renderers.process import Limits, run_limited

RATE = 48_000
NOISE = synthesise(make_request("noise", level=-20.0, seconds=0.5), RATE)


_WRITE = "open(sys.argv[2], 'wb').write(bytes(9_000_000))"


def _request(**changes: Any) -> RenderRequest:
    usual: dict[str, Any] = {
        "effect": "Low-pass by command", "version": "14.4.2", "values": {}, "host": "Sound processor",
        "host_version": "14.4", "mode": "offline", "rate": RATE, "block_size": 512, "signal": NOISE,
    }  # fmt: skip
    return RenderRequest(**(usual | changes))


def _declared(folder: Path, script: str, **changes: Any) -> Offer:
    """A renderer that runs a few lines of Python, in which argv is: input, output, and what else is asked for."""
    (folder / "script.py").write_text("import sys, shutil, time\n" + script)
    lines = {
        "title": '"Bench"', "version": '"1"', "effect": '"Thing"', "builds": '["1.0"]',
        "command": f'["{sys.executable}", "{folder}/script.py", "{{input}}", "{{output}}", "{{word}}"]',
    } | changes  # fmt: skip
    text = "[renderer.bench]\n" + "".join(f"{key} = {value}\n" for key, value in lines.items())
    text += '[renderer.bench.parameters.word]\ndefault = "plain"\nchoices = ["plain", "$(touch /tmp/x); rm *"]\n'
    (folder / "renderers.toml").write_text(text)
    return read_declarations(folder / "renderers.toml")[0]


def _fails(offer: Offer, **changes: Any) -> RenderFailed:
    with pytest.raises(RenderFailed) as failed:
        offer.renderer.render(_request(**({"effect": "Thing", "version": "1.0"} | changes)))
    return failed.value


@pytest.mark.parametrize("corner", [500.0, 4000.0])
def test_the_example_filters_as_its_formula_says(corner: float) -> None:
    """sox lowpass -1: y += (1 − e^(−2π·corner/rate))·(x − y), computed here by scipy.signal.lfilter."""
    (offer,) = read_declarations(PROJECT / "examples/renderers.toml")
    result = offer.renderer.render(_request(values={"corner": corner}))
    share = -np.expm1(-2 * np.pi * corner / RATE)
    expected = signal.lfilter([share], [1.0, share - 1.0], NOISE, axis=0)
    assert np.abs(result.samples - expected).max() < 1e-6
    assert (result.claimed_latency, result.compensated) == (0, False)
    assert result.cpu_seconds is not None
    assert result.cpu_seconds >= 0.0


def test_a_value_is_one_argument_and_never_a_line_for_a_shell(tmp_path: Path) -> None:
    offer = _declared(tmp_path, "print(repr(sys.argv[3]))\nshutil.copy(sys.argv[1], sys.argv[2])\n")
    result = offer.renderer.render(_request(effect="Thing", version="1.0", values={"word": "$(touch /tmp/x); rm *"}))
    assert result.log.strip() == "'$(touch /tmp/x); rm *'"
    assert np.array_equal(result.samples, NOISE.astype(np.float32))
    assert "is none of plain" in str(_fails(offer, values={"word": "else"}))
    assert "has no parameter loud" in str(_fails(offer, values={"loud": 1.0}))
    assert "declares no build 9" in str(_fails(offer, version="9"))


def test_latency_is_read_from_what_is_printed(tmp_path: Path) -> None:
    script = "print('latency: 96 frames')\nshutil.copy(sys.argv[1], sys.argv[2])\n"
    offer = _declared(tmp_path, script, latency="{ pattern = 'latency: ([0-9]+)' }")
    assert offer.renderer.render(_request(effect="Thing", version="1.0")).claimed_latency == 96
    silent = _declared(tmp_path, "shutil.copy(sys.argv[1], sys.argv[2])\n", latency="{ pattern = 'lat ([0-9]+)' }")
    assert silent.renderer.render(_request(effect="Thing", version="1.0")).claimed_latency is None


@pytest.mark.parametrize(
    ("script", "limits", "says"),
    [
        ("time.sleep(60)", {"time_limit": 0.5}, "was stopped after 0.5 s, its time limit"),
        ("x = bytearray(900_000_000)", {"memory_limit": 400}, "ended with status 1: MemoryError"),
        (_WRITE, {"size_limit": 2}, "File too large"),
        (f"import signal; signal.signal(signal.SIGXFSZ, signal.SIG_DFL); {_WRITE}", {"size_limit": 2}, "up to 2 MB"),
        ("sys.exit('the licence has run out')", {}, "ended with status 1: the licence has run out"),
        ("pass", {}, "wrote no output"),
        ("open(sys.argv[2], 'w').write('no audio')", {}, "cannot be read as audio"),
        ("print('why'); sys.exit(3)", {}, "ended with status 3: why"),
        ("import os; os.kill(os.getpid(), 11)", {}, "was ended by SIGSEGV"),
    ],
)
def test_failure_is_told_with_its_reason(tmp_path: Path, script: str, limits: dict[str, Any], says: str) -> None:
    assert says in str(_fails(_declared(tmp_path, script, **limits)))


def test_what_it_printed_is_kept_when_it_fails_and_children_end_with_it(tmp_path: Path) -> None:
    script = (
        "import subprocess\nprint('working', flush=True)\n"
        "child = subprocess.Popen(['sleep', '60'])\nprint(child.pid, flush=True)\ntime.sleep(60)\n"
    )
    failed = _fails(_declared(tmp_path, script, time_limit=1.0))
    words = failed.log.split()
    assert words[0] == "working"
    assert not Path(f"/proc/{words[1]}").exists() or "Z" in Path(f"/proc/{words[1]}/stat").read_text()


def test_it_sees_nothing_of_the_workers_environment(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("KIND_ECHO_DATABASE_URL", "postgresql://secret")
    command = [sys.executable, "-c", "import os; print(sorted(os.environ))"]
    log = run_limited(command, Limits(), tmp_path, {"BENCH": "1"}).log
    assert "BENCH" in log
    assert "KIND_ECHO" not in log
    with pytest.raises(RenderFailed, match="ended with status"):
        run_limited(["no-such-program-anywhere"], Limits(), tmp_path)


@pytest.mark.parametrize(
    ("changes", "says"),
    [
        ({"command": '["x", "{input}"]'}, "the command needs {input} and {output}"),
        ({"command": '["x", "{input}", "{output}", "{volume}"]'}, "names volume, which is no parameter"),
        ({"command": '["{input}", "{output}"]'}, "may not be a placeholder"),
        ({"builds": "[]"}, "bench.builds"),
        ({"time_limit": "-1"}, "bench.time_limit"),
        ({"latency": "{ frames = 1, pattern = '(a)' }"}, "give either frames or pattern"),
        ({"latency": "{ pattern = 'no group' }"}, "the pattern needs one group"),
        ({"colour": '"red"'}, "bench.colour"),
    ],
)
def test_a_file_that_cannot_be_used_says_where(tmp_path: Path, changes: dict[str, str], says: str) -> None:
    with pytest.raises(BadDeclaration) as refused:
        _declared(tmp_path, "", **changes)
    assert says in str(refused.value)


@pytest.mark.parametrize("text", ["not toml [", "[other]\na = 1\n", '[renderer.lv2]\ntitle = "x"\n', "[renderer.A]\n"])
def test_a_file_of_another_kind_is_refused(tmp_path: Path, text: str) -> None:
    (tmp_path / "renderers.toml").write_text(text)
    with pytest.raises(BadDeclaration):
        read_declarations(tmp_path / "renderers.toml")
    with pytest.raises(BadDeclaration):
        read_declarations(tmp_path / "none.toml")


def test_a_machine_offers_what_it_has(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("KIND_ECHO_RENDERERS", str(PROJECT / "examples/renderers.toml"))
    assert {"stand-in", "sox-lowpass"} <= set(offers())
    monkeypatch.delenv("KIND_ECHO_RENDERERS")
    assert "sox-lowpass" not in offers()


_HOLDS = "held = bytearray(400_000_000); held[::4096] = b'x' * len(held[::4096]); import time; time.sleep(60)"


@pytest.mark.parametrize("by", ["itself", "a program that it started"])
def test_memory_is_limited_where_the_system_does_not_do_it(
    by: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As on macOS and Windows, where there is no `prlimit`."""
    monkeypatch.setattr(process, "_limits_memory", lambda: False)
    code = _HOLDS if by == "itself" else f"import subprocess, sys; subprocess.run([sys.executable, '-c', {_HOLDS!r}])"
    begun = time.monotonic()
    with pytest.raises(RenderFailed, match="was stopped with more than 200 MB, its memory limit"):
        run_limited([sys.executable, "-c", code], Limits(seconds=30, memory=200), tmp_path)
    assert time.monotonic() - begun < 25  # and not by the clock
    finished = run_limited([sys.executable, "-c", "print('small')"], Limits(memory=200), tmp_path)
    assert (finished.log, finished.memory is None or finished.memory < 200) == ("small\n", True)
    with pytest.raises(RenderFailed, match="its time limit"):
        run_limited([sys.executable, "-c", "import time; time.sleep(9)"], Limits(seconds=0.4, memory=200), tmp_path)
