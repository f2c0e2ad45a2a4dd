"""Running another program within limits: no shell, its own process group, and what it printed and took."""

import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from kind_echo.renderers.contract import RenderFailed

_MB = 1_000_000
_MOST_LOG = 64_000  # bytes of the log's end that are kept
_LOOK_SECONDS = 0.005
_WATCH_SECONDS = 0.05


@dataclass(frozen=True)
class Limits:
    """What a program may take: seconds by the clock, MB of address space, MB of any file it writes."""

    seconds: float = 120.0
    memory: int = 2048
    file_size: int = 2048


@dataclass(frozen=True)
class Finished:
    """What a program that ended well left: its log; the processor time and memory (MB) it took, None where unknown."""

    log: str
    cpu_seconds: float | None
    memory: float | None


def run_limited(
    command: Sequence[str], limits: Limits, folder: Path, environment: Mapping[str, str] | None = None
) -> Finished:
    """Run a program to its end.

    Its time and memory are limited on every system: memory by the system itself where there is `prlimit`, on Linux, and
    else by looking at it some times a second. The size of files is limited where there is `prlimit`.

    Args:
        command: the program and its arguments; never read by a shell.
        environment: all that it gets of it; PATH and the language alone unless given.

    Raises:
        RenderFailed: it cannot be started, passes a limit, or ends with another status than 0.
    """
    bounded = [*_bounds(limits), *command]
    plain = {"PATH": os.environ.get("PATH", os.defpath), "LC_ALL": "C.UTF-8"}
    with tempfile.TemporaryFile(dir=folder) as output:
        try:
            process = subprocess.Popen(
                bounded, stdin=subprocess.DEVNULL, stdout=output, stderr=output, cwd=folder,
                env={**plain, **(environment or {})},
                process_group=None if sys.platform == "win32" else 0,
            )  # fmt: skip
        except OSError as error:
            raise RenderFailed(f"{command[0]} cannot be started ({error.strerror})") from error
        ended = _wait(process, limits, watched=not _limits_memory())
        size = output.seek(0, os.SEEK_END)
        output.seek(max(0, size - _MOST_LOG))
        log = output.read().decode(errors="replace")
    name = Path(command[0]).name
    if ended.passed == "memory":
        raise RenderFailed(f"{name} was stopped with more than {limits.memory} MB, its memory limit", log)
    if ended.status is None:
        raise RenderFailed(f"{name} was stopped after {limits.seconds:g} s, its time limit", log)
    if ended.status < 0:
        raise RenderFailed(f"{name} was ended by {_signal_words(-ended.status, limits)}", log)
    if ended.status > 0:
        last = log.strip().splitlines()[-1] if log.strip() else "it printed nothing"
        raise RenderFailed(f"{name} ended with status {ended.status}: {last}", log)
    return Finished(log, ended.cpu, ended.memory)


def own_memory() -> float | None:
    """Greatest resident memory of this process so far, in MB; None where the system does not tell it."""
    if sys.platform == "win32":
        return None
    import resource

    unit = 1 if sys.platform == "darwin" else 1024  # macOS counts it in bytes, Linux in KiB
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * unit / 1e6


def limit_own_memory(megabytes: float) -> None:
    """Let this process allocate so much more than it has; beyond that MemoryError is raised. Where the system can."""
    if not sys.platform.startswith("linux"):
        return
    import resource

    status = Path("/proc/self/status").read_text()
    held = next(int(line.split()[1]) for line in status.splitlines() if line.startswith("VmData:")) * 1024
    _, hard = resource.getrlimit(resource.RLIMIT_DATA)
    most = held + round(megabytes * 1e6)
    resource.setrlimit(resource.RLIMIT_DATA, (most if hard == resource.RLIM_INFINITY else min(most, hard), hard))


def _limits_memory() -> bool:
    """Whether the system holds a program to its memory and files by itself."""
    return shutil.which("prlimit") is not None


def _bounds(limits: Limits) -> list[str]:
    if not _limits_memory():
        return []
    # Only its parent ends it in time: without one it must not go on for ever.
    orphaned = ["setpriv", "--pdeathsig", "KILL", "--"] if shutil.which("setpriv") is not None else []
    return [*orphaned, "prlimit", f"--as={limits.memory * _MB}", f"--fsize={limits.file_size * _MB}", "--core=0", "--"]


def _signal_words(number: int, limits: Limits) -> str:
    name = signal.Signals(number).name
    return f"{name}; it may write files of up to {limits.file_size} MB" if name == "SIGXFSZ" else name


@dataclass(frozen=True)
class _Ended:
    """How a program came to its end: status, processor seconds and MB, None where unknown; a limit that it passed."""

    status: int | None
    cpu: float | None
    memory: float | None
    passed: Literal["", "time", "memory"] = ""


def _wait(process: "subprocess.Popen[bytes]", limits: Limits, *, watched: bool) -> _Ended:
    """Wait until it ends, or end it at a limit; whatever it started is ended with it.

    Args:
        watched: nothing else limits its memory.
    """
    memory = None
    begun = looked = time.monotonic()
    passed: Literal["", "time", "memory"] = ""
    while True:
        status, cpu = _ended(process)
        if status is not None:
            break
        now = time.monotonic()
        if not passed and now > begun + limits.seconds:
            passed = "time"
        if watched and not passed and now > looked + _WATCH_SECONDS:
            looked = now
            passed = "memory" if _held_memory(process.pid) > limits.memory else ""
        if passed:
            _end(process)
        memory = _greatest_memory(process.pid) or memory
        time.sleep(_LOOK_SECONDS)
    process.returncode = status
    _end_group(process.pid)
    return _Ended(None if passed else status, cpu, memory, passed)


def _ended(process: "subprocess.Popen[bytes]") -> tuple[int | None, float | None]:
    """Status of a program that has ended, and its processor seconds, None where the system does not tell."""
    if sys.platform == "win32":
        return process.poll(), None
    pid, raw, usage = os.wait4(process.pid, os.WNOHANG)
    return (os.waitstatus_to_exitcode(raw), usage.ru_utime + usage.ru_stime) if pid else (None, None)


def _end(process: "subprocess.Popen[bytes]") -> None:
    if sys.platform == "win32":
        process.kill()
    else:
        _end_group(process.pid)


def _held_memory(pid: int) -> float:
    """MB that a program and what it started hold now; 0 where it is gone."""
    import psutil  # where nothing limits memory by itself

    try:
        one = psutil.Process(pid)
        return sum(each.memory_info().rss for each in (one, *one.children(recursive=True))) / 1e6
    except psutil.Error:
        return 0.0


def _greatest_memory(pid: int) -> float | None:
    """MB so far, as it was last seen: the kernel's own sum counts this process too, which started it."""
    try:
        found = re.search(r"^VmHWM:\s+(\d+) kB", Path(f"/proc/{pid}/status").read_text(), re.MULTILINE)
    except OSError:
        return None
    return int(found.group(1)) * 1024 / 1e6 if found else None


def _end_group(group: int) -> None:
    if sys.platform == "win32":
        return
    try:
        os.killpg(group, signal.SIGKILL)
    except ProcessLookupError:
        return
