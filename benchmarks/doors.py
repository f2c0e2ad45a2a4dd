"""What strangers at the door cost a server: bodies held back, passwords guessed, connections opened.

`python -m benchmarks.doors` starts a server on a database of its own and tries it, from addresses of loopback. For each
it prints how much memory the server took more than before, what became of the tries, and how long the page took others.
Called by the Python of an earlier version's environment it tries that version's server.
"""

import json
import os
import re
import socket
import subprocess
import sys
import threading
import time
import urllib.request
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

from ops.cluster import free_port
from tests.signing import token

from benchmarks.runs import own_database

BODIES, BODY = 150, 8 << 20
GUESSERS, SECONDS = 24, 20.0
CONNECTIONS = 3000
_PATIENCE = 60.0


def report() -> list[str]:
    """The figures, a line each."""
    with own_database():
        submit = token("submit")
        return [line for what in (_held_by_nobody, lambda: _held_by(submit), _guesses, _connections) for line in what()]


def _held_by_nobody() -> list[str]:
    head = f"POST /api/machines HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer x\r\nContent-Length: {BODY}\r\n\r\n"
    return _held("from who is not let in", head, BODY)


def _held_by(secret: str) -> list[str]:
    size = 2 << 20
    head = f"POST /api/runs HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {secret}\r\nContent-Length: {size}\r\n\r\n"
    return _held("from a program that is let in", head, size)


def _held(who: str, head: str, size: int) -> list[str]:
    """Bodies that lack their last byte."""
    with _server() as (port, memory), ExitStack() as stack:
        before, counted = memory(), Counter[str]()
        ready = []
        for number in range(BODIES):
            one = stack.enter_context(_connect(port, number))
            with suppress(OSError):
                one.sendall(head.encode())
                one.sendall(bytes(size - 1))
            ready.append(one)
        for one in ready:
            one.settimeout(0.05)
            try:
                counted[one.recv(64).decode(errors="replace").split(" ")[1]] += 1
            except (TimeoutError, IndexError):
                counted["held"] += 1
            except OSError:
                counted["closed"] += 1
        took = _page(port)
        return [f"{BODIES} bodies of {size >> 20} MB held back {who}: {memory() - before:+.0f} MB; "
                f"{_said(counted)}; the page took {took}"]  # fmt: skip


def _guesses() -> list[str]:
    """Wrong passwords under ever other names, from one address."""
    with _server() as (port, memory):
        before, counted, over = memory(), Counter[str](), time.monotonic() + SECONDS
        most, pages = [before], []

        def guess(guesser: int) -> None:
            number = 0
            while time.monotonic() < over:
                number += 1
                counted[_try(port, f"name {guesser} {number}")] += 1

        threads = [threading.Thread(target=guess, args=(number,), daemon=True) for number in range(GUESSERS)]
        for thread in threads:
            thread.start()
        while time.monotonic() < over:
            pages.append(_page(port))
            most.append(memory())
            time.sleep(0.2)
        slow = max(pages, key=lambda words: float(words.split(" ")[0]) if words[0].isdigit() else 1e9)
        return [f"{GUESSERS} guessers from one address for {SECONDS:.0f} s: {max(most) - before:+.0f} MB; "
                f"{_said(counted)}; the page took {slow} at the most"]  # fmt: skip


def _try(port: int, name: str) -> str:
    """The status of one wrong password, with the token that the page would send."""
    opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor())
    address = f"http://127.0.0.1:{port}"
    try:
        with opener.open(f"{address}/api/me", timeout=_PATIENCE) as answer:
            forgery = json.loads(answer.read())["forgery_token"]
        body = json.dumps({"name": name, "password": "a guess of some length"}).encode()
        head = {"Content-Type": "application/json", "X-CSRFToken": forgery, "Referer": address}
        with opener.open(urllib.request.Request(f"{address}/api/sign-in", body, head), timeout=_PATIENCE) as answer:
            return str(answer.status)
    except urllib.error.HTTPError as error:
        return str(error.code)
    except OSError:
        return "no answer"


def _connections() -> list[str]:
    """Connections of one address that say nothing."""
    with _server() as (port, memory), ExitStack() as stack:
        before, counted = memory(), Counter[str]()
        held = []
        for _ in range(CONNECTIONS):
            try:
                one = socket.create_connection(("127.0.0.1", port), 5, ("127.0.0.9", 0))
                held.append(stack.enter_context(one))
            except OSError:
                counted["not connected"] += 1
        for one in held:
            one.settimeout(0.01)
            try:
                counted["sent away" if one.recv(16) else "closed"] += 1
            except TimeoutError:
                counted["held"] += 1
            except OSError:
                counted["closed"] += 1
        said = f"{CONNECTIONS} connections of one address: {memory() - before:+.0f} MB; {_said(counted)}"
        return [f"{said}; the page took {_page(port)}"]


def _page(port: int) -> str:
    """How long the page takes somebody who means no harm, in words."""
    begun = time.monotonic()
    try:
        with socket.create_connection(("127.0.0.1", port), 40, ("127.0.0.77", 0)) as one:
            one.sendall(b"GET /api/me HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")
            answered = one.recv(64).startswith(b"HTTP/1.1 200")
    except OSError:
        answered = False
    return f"{time.monotonic() - begun:.2f} s" if answered else "no answer within 40 s"


def _connect(port: int, number: int) -> socket.socket:
    return socket.create_connection(("127.0.0.1", port), 10, (f"127.0.0.{2 + number % 60}", 0))


def _said(counted: Counter[str]) -> str:
    return ", ".join(f"{count} × {what}" for what, count in sorted(counted.items()))


@contextmanager
def _server() -> Iterator[tuple[int, Callable[[], float]]]:
    """A server in a process of its own: its port, and what tells its memory in MB."""
    port = free_port()
    environment = os.environ | {"OPENBLAS_NUM_THREADS": "1"}
    command = [sys.executable, "-m", "kind_echo.web.serving", f"127.0.0.1:{port}", "24"]
    process = subprocess.Popen(command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

    def memory() -> float:
        found = re.search(r"^VmRSS:\s+(\d+) kB", Path(f"/proc/{process.pid}/status").read_text(), re.MULTILINE)
        return int(found.group(1)) / 1000 if found else 0.0

    try:
        until = time.monotonic() + _PATIENCE
        while not _page(port).endswith(" s") or "no answer" in _page(port):
            if time.monotonic() > until:
                raise SystemExit("the server does not answer")
            time.sleep(0.2)
        yield port, memory
    finally:
        process.kill()
        process.wait()


if __name__ == "__main__":
    print("\n".join(report()))
