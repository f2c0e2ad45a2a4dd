"""Many at once: open sheets, half-sent requests, readers of one sheet; medians and 95 % of what a person waits.

`python -m benchmarks.load ADDRESS RUN TOKEN` asks a server that runs, with a read token.
"""

import argparse
import http.client
import socket
import statistics
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from urllib.parse import urlsplit

STREAMS, HALF, READERS, LOOKS = 500, 200, 50, 4


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


def main() -> None:
    """Ask, and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("address")
    parser.add_argument("run", type=int)
    parser.add_argument("token")
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
        for _ in range(STREAMS):
            stack.enter_context(socket.create_connection(place)).sendall(head.encode())
        half = b"POST /api/sign-in HTTP/1.1\r\nHost: x\r\nContent-Length: 99\r\n\r\n{"
        for i in range(HALF):
            stack.enter_context(socket.create_connection(place)).sendall(half if i % 2 else half[:12])
        time.sleep(4.0)
        beside = f"beside {STREAMS} open sheets and {HALF} half-sent requests"
        report(f"/healthz {beside}", [look("/healthz")() for _ in range(40)])
        report(f"the page {beside}", [look("/")() for _ in range(40)])


if __name__ == "__main__":
    main()
