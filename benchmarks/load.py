"""Many at once: readers of a sheet beside open and half-sent requests and uploads; and strangers at the door.

`python -m benchmarks.load readers ADDRESS RUN TOKEN [--link SECRET]` asks a server that runs, with a read token, and
prints medians and 95 % of the waiting; with the secret of a link that signs somebody in, it uploads ten files of 17 MB
at once as well, while others read.

`python -m benchmarks.load strangers` starts a server on a database of its own and tries it from addresses of loopback:
bodies held back, passwords guessed, connections opened. For each it prints how much memory the server took more than
before, what became of the tries, and how long the page took others. Called by the Python of an earlier version's
environment it tries that version's server.
"""

import http.client
import http.cookiejar
import io
import json
import os
import re
import socket
import statistics
import subprocess
import sys
import threading
import time
import urllib.request
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path
from urllib.parse import urlsplit

import click
import numpy as np
import soundfile
from ops.cluster import free_port
from tests.signing import token

from benchmarks.runs import own_database

STREAMS, HALF, READERS, LOOKS = 500, 200, 50, 4
UPLOADS, UPLOAD_SECONDS = 10, 60  # of noise in two channels of 24 bits at 48 kHz: 17 MB, and none of it alike
BODIES, BODY = 150, 8 << 20
GUESSERS, SECONDS = 24, 20.0
CONNECTIONS = 3000
_PATIENCE = 60.0


@click.group()
def main() -> None:
    """Readers, or strangers."""


@main.command()
@click.argument("address")
@click.argument("run", type=int)
@click.argument("secret", metavar="TOKEN")
@click.option("--link", help="The secret of a link that signs somebody in.")
def readers(address: str, run: int, secret: str, link: str | None) -> None:
    """Ask a server that runs, and print how long it took."""
    host = urlsplit(address)
    place = (host.hostname or "", host.port or 80)
    sheet = f"/api/runs/{run}"

    def look(path: str) -> Callable[[], float]:
        return lambda: _seconds_to(address, path, secret)

    _report("the page, by itself", [look("/")() for _ in range(20)])
    _report("a sheet, by itself", [look(sheet)() for _ in range(20)])
    for count in (10, READERS):
        _report(f"a sheet, {count} readers", _many(count, look(sheet)))
    _report("the list of runs, 20 readers", _many(20, look("/api/runs")))
    with ExitStack() as stack:
        head = f"GET {sheet}/events HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {secret}\r\n\r\n"
        for i in range(STREAMS):
            stack.enter_context(_connect(place, i)).sendall(head.encode())
        half = b"POST /api/sign-in HTTP/1.1\r\nHost: x\r\nContent-Length: 99\r\n\r\n{"
        for i in range(HALF):
            stack.enter_context(_connect(place, i)).sendall(half if i % 2 else half[:12])
        time.sleep(4.0)
        beside = f"beside {STREAMS} open sheets and {HALF} half-sent requests"
        _report(f"/healthz {beside}", [look("/healthz")() for _ in range(40)])
        _report(f"the page {beside}", [look("/")() for _ in range(40)])
    if link:
        spent, over = _uploads(address, link)
        beside_uploads: list[float] = []
        while not over():
            beside_uploads += _many(5, look(sheet))
        _report(f"{UPLOADS} uploads of 17 MB at once, each", spent)
        _report("a sheet beside them, 5 readers", beside_uploads)


def _seconds_to(address: str, path: str, token: str) -> float:
    """How long one answer takes, its body with it."""
    host = urlsplit(address)
    begun = time.perf_counter()
    connection = http.client.HTTPConnection(host.hostname or "", host.port, timeout=120)
    connection.request("GET", path, headers={"Authorization": f"Bearer {token}", "Accept-Encoding": "gzip"})
    answer = connection.getresponse()
    answer.read()
    connection.close()
    if answer.status != 200:
        raise SystemExit(f"{path} answered {answer.status}")
    return time.perf_counter() - begun


def _connect(place: tuple[str, int], number: int) -> socket.socket:
    """A connection as from one of many machines: those of one address are limited."""
    return socket.create_connection(place, 10, (f"127.0.0.{2 + number % 60}", 0))


def _report(name: str, seconds: list[float]) -> None:
    """A line of the median and of 95 %."""
    high = statistics.quantiles(seconds, n=20)[-1] if len(seconds) > 1 else seconds[0]
    print(f"{name:58} median {1000 * statistics.median(seconds):7.0f} ms   95 % {1000 * high:7.0f} ms", flush=True)


def _many(readers: int, look: Callable[[], float]) -> list[float]:
    """Each of some readers looks a few times, all at once."""
    with ThreadPoolExecutor(readers) as pool:
        return list(pool.map(lambda _: look(), range(readers * LOOKS)))


def _uploads(address: str, secret: str) -> tuple[list[float], Callable[[], bool]]:
    """Begin to upload files at once, as one person; their seconds, filled in as they end, and whether all have."""
    jar = http.cookiejar.CookieJar()
    opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(jar))

    def asked(path: str, body: bytes | None = None, kind: str = "application/json", **headers: str) -> bytes:
        request = urllib.request.Request(address + path, body, {"Content-Type": kind, "Referer": address, **headers})
        with opener.open(request, timeout=300) as answer:
            return bytes(answer.read())

    def token() -> dict[str, str]:
        return {"X-CSRFToken": json.loads(asked("/api/me"))["forgery_token"]}

    asked("/api/links/use", json.dumps({"secret": secret}).encode(), **token())
    signed_in, spent = token(), []

    def send(number: int) -> None:
        samples = np.random.default_rng(number).uniform(-0.5, 0.5, (48_000 * UPLOAD_SECONDS, 2))
        file = io.BytesIO()
        soundfile.write(file, samples, 48_000, format="WAV", subtype="PCM_24")
        begun = time.perf_counter()
        asked(f"/api/uploads?name=noise-{number}.wav", file.getvalue(), "application/octet-stream", **signed_in)
        spent.append(time.perf_counter() - begun)

    threads = [threading.Thread(target=send, args=(time.time_ns() + n,)) for n in range(UPLOADS)]
    for thread in threads:
        thread.start()
    return spent, lambda: not any(thread.is_alive() for thread in threads)


def _from_many(place: tuple[str, int], number: int) -> socket.socket:
    """A connection as from one of fifty machines: those of one address are limited."""
    return socket.create_connection(place, source_address=(f"127.0.0.{2 + number % 50}", 0))


@main.command()
def strangers() -> None:
    """Try a server of its own, and print what it cost."""
    with own_database():
        submit = token("submit")
        for what in (_held_by_nobody, lambda: _held_by(submit), _guesses, _connections):
            click.echo("\n".join(what()))


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
            one = stack.enter_context(_connect(("127.0.0.1", port), number))
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
    main()
