"""Many at once: open sheets, half-sent requests, readers of one sheet, uploads; medians and 95 % of the waiting.

`python -m benchmarks.load ADDRESS RUN TOKEN [--link SECRET]` asks a server that runs, with a read token; with the
secret of a link that signs somebody in, it uploads ten files of 17 MB at once as well, while others read.
"""

import argparse
import http.client
import http.cookiejar
import io
import json
import socket
import statistics
import threading
import time
import urllib.request
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from urllib.parse import urlsplit

import numpy as np
import soundfile

STREAMS, HALF, READERS, LOOKS = 500, 200, 50, 4
UPLOADS, UPLOAD_SECONDS = 10, 60  # of noise in two channels of 24 bits at 48 kHz: 17 MB, and none of it alike


def seconds_to(address: str, path: str, token: str) -> float:
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


def report(name: str, seconds: list[float]) -> None:
    """A line of the median and of 95 %."""
    high = statistics.quantiles(seconds, n=20)[-1] if len(seconds) > 1 else seconds[0]
    print(f"{name:58} median {1000 * statistics.median(seconds):7.0f} ms   95 % {1000 * high:7.0f} ms", flush=True)


def many(readers: int, look: Callable[[], float]) -> list[float]:
    """Each of some readers looks a few times, all at once."""
    with ThreadPoolExecutor(readers) as pool:
        return list(pool.map(lambda _: look(), range(readers * LOOKS)))


def uploads(address: str, secret: str) -> tuple[list[float], Callable[[], bool]]:
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


def main() -> None:
    """Ask, and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("address")
    parser.add_argument("run", type=int)
    parser.add_argument("token")
    parser.add_argument("--link", help="the secret of a link that signs somebody in")
    asked = parser.parse_args()
    host = urlsplit(asked.address)
    place = (host.hostname or "", host.port or 80)
    sheet = f"/api/runs/{asked.run}"

    def look(path: str) -> Callable[[], float]:
        return lambda: seconds_to(asked.address, path, asked.token)

    report("the page, by itself", [look("/")() for _ in range(20)])
    report("a sheet, by itself", [look(sheet)() for _ in range(20)])
    for readers in (10, READERS):
        report(f"a sheet, {readers} readers", many(readers, look(sheet)))
    report("the list of runs, 20 readers", many(20, look("/api/runs")))
    with ExitStack() as stack:
        head = f"GET {sheet}/events HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {asked.token}\r\n\r\n"
        for i in range(STREAMS):
            stack.enter_context(_from_many(place, i)).sendall(head.encode())
        half = b"POST /api/sign-in HTTP/1.1\r\nHost: x\r\nContent-Length: 99\r\n\r\n{"
        for i in range(HALF):
            stack.enter_context(_from_many(place, i)).sendall(half if i % 2 else half[:12])
        time.sleep(4.0)
        beside = f"beside {STREAMS} open sheets and {HALF} half-sent requests"
        report(f"/healthz {beside}", [look("/healthz")() for _ in range(40)])
        report(f"the page {beside}", [look("/")() for _ in range(40)])
    if asked.link:
        spent, over = uploads(asked.address, asked.link)
        beside_uploads: list[float] = []
        while not over():
            beside_uploads += many(5, look(sheet))
        report(f"{UPLOADS} uploads of 17 MB at once, each", spent)
        report("a sheet beside them, 5 readers", beside_uploads)


if __name__ == "__main__":
    main()
