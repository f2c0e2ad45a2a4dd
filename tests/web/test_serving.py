"""The server itself: streams that hold no thread, slow and hostile clients, and what is limited before it is read."""

import asyncio
import json
import re
import socket
import threading
import time
from collections.abc import Coroutine, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any

import pytest

from kind_echo.bench.runs import tell_change
from kind_echo.core.registry.errors import BadParameter
from kind_echo.database.sessions import transaction
from kind_echo.web.http.cache import AnswerCache
from kind_echo.web.serving import bodies, connections, streams
from kind_echo.web.serving.changes import Listener
from tests.conftest import Server, query, serving, wait_until
from tests.signing import token


@pytest.fixture
def served(shared_server: Server, seen: str) -> Server:
    """A server that nothing is changed on."""
    return shared_server


@pytest.fixture
def own_served(demo: str, tmp_path: Path) -> Iterator[Server]:
    with serving(demo, tmp_path, worker=False) as running:
        yield running


_HALF_A_BODY = b"POST /api/sign-in HTTP/1.1\r\nHost: x\r\nContent-Length: 99\r\n\r\n{"
_FORM = {"Content-Length": "5", "Content-Type": "multipart/form-data; boundary=x"}
_END_LISTENING = (
    "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE query LIKE 'LISTEN%' AND datname = current_database()"
)


def _connect(served: Server) -> socket.socket:
    host, port = served.address.removeprefix("http://").split(":")
    return socket.create_connection((host, int(port)), timeout=30)


def _heard(connection: socket.socket, until: bytes) -> bytes:
    """What comes until some bytes are in it, or the other side closes."""
    found = b""
    while until not in found:
        piece = connection.recv(1 << 16)
        if not piece:
            break
        found += piece
    return found


@contextmanager
def _asked(served: Server, head: str, body: bytes = b"") -> Iterator[socket.socket]:
    with _connect(served) as connection:
        connection.sendall(f"{head}\r\nHost: x\r\n".encode() + b"\r\n" * (not body) + body)
        yield connection


def _answer(served: Server, method: str, path: str, headers: dict[str, str], body: bytes = b"") -> tuple[int, Any]:
    """Status and body of one request, sent as it is: no library may mend it."""
    with _connect(served) as connection:
        lines = [
            f"{method} {path} HTTP/1.1",
            "Host: x",
            "Connection: close",
            *(f"{k}: {v}" for k, v in headers.items()),
        ]
        connection.sendall("\r\n".join([*lines, "", ""]).encode() + body)
        answer = _heard(connection, b"never")
        found = re.match(rb"HTTP/1.1 (\d+)", answer)
        assert found is not None, answer
        text = answer.partition(b"\r\n\r\n")[2]
        return int(found[1]), json.loads(text) if b"json" in answer.partition(b"\r\n\r\n")[0] else text


def test_100_open_streams_and_60_half_requests_hold_no_thread_and_each_hears_a_change(served: Server) -> None:
    allowed = f"Authorization: Bearer {token('read')}"
    with ExitStack() as stack:
        listening = [
            stack.enter_context(_asked(served, f"GET /api/runs/1/events HTTP/1.1\r\n{allowed}")) for _ in range(100)
        ]
        for one in listening:
            assert b"text/event-stream" in _heard(one, b"retry: 2000\n\n")
        waiting = [stack.enter_context(_connect(served)) for _ in range(60)]
        for i, half in enumerate(waiting):
            half.sendall(
                b"GET /api/ru" if i % 2 else b"POST /api/sign-in HTTP/1.1\r\nHost: x\r\nContent-Length: 99\r\n\r\n{"
            )
        assert _answer(served, "GET", "/healthz", {})[0] == 200  # 16 threads would all be held
        for half in waiting:  # and none of them has been given up yet
            half.setblocking(False)
            with pytest.raises(BlockingIOError):
                half.recv(1)
        with transaction() as session:
            tell_change(session, 2)
            tell_change(session, 1)
        assert all(_heard(one, b"\n\n").count(b"event: change") == 1 for one in listening)


def test_a_stream_ends_when_the_database_goes_away_and_the_next_one_hears_again(own_served: Server) -> None:
    allowed = f"Authorization: Bearer {token('read')}"
    with _asked(own_served, f"GET /api/runs/1/events HTTP/1.1\r\n{allowed}") as listening:
        _heard(listening, b"retry: 2000\n\n")
        query(own_served.database, _END_LISTENING)
        assert _heard(listening, b"never").endswith(b"0\r\n\r\n")

    def hears() -> bool:
        with _asked(own_served, f"GET /api/runs/1/events HTTP/1.1\r\n{allowed}") as again:
            _heard(again, b"retry: 2000\n\n")
            with transaction() as session:
                tell_change(session, 1)
            return b"event: change" in _heard(again, b"\n\n")

    wait_until(hears, 20, "a change on a new stream")


@pytest.mark.parametrize(
    ("path", "headers", "status", "title"),
    [
        ("/api/sign-in", {"Content-Length": "300000000"}, 413, "TooLarge"),
        ("/api/uploads?name=x", {"Content-Length": "300000000"}, 413, "TooLarge"),
        ("/api/plans/check", {"Content-Length": "20000000", "Authorization": "Bearer x"}, 413, "TooLarge"),
        ("/api/uploads?name=x", {"Content-Length": "9" * 15, "Authorization": "Bearer x"}, 413, "TooLarge"),
        ("/api/sign-in", _FORM, 415, "UnsupportedMediaType"),
    ],
)  # fmt: skip
def test_what_is_too_large_is_refused_before_it_is_sent(
    served: Server, path: str, headers: dict[str, str], status: int, title: str
) -> None:
    found, body = _answer(served, "POST", path, headers)
    assert (found, body["title"]) == (status, title)
    assert set(body) == {"type", "title", "status", "detail"}


@pytest.mark.parametrize("headers", [{"Authorization": "Bearer x"}, {"Cookie": "kind_echo=x"}])
def test_no_byte_of_a_file_is_read_for_whoever_is_not_let_in(served: Server, headers: dict[str, str]) -> None:
    """The answer comes although none of the body was sent."""
    found, body = _answer(served, "POST", "/api/uploads?name=x", headers | {"Content-Length": "3000000000"})
    assert (found, "title" in body) == (401, True)
    reader = {"Authorization": f"Bearer {token('read')}", "Content-Length": "3000000000"}
    assert _answer(served, "POST", "/api/uploads?name=x", reader)[0] == 403


@pytest.mark.parametrize("header", [{"Authorization": "Bearer x"}, {"Cookie": "kind_echo=x"}])
def test_no_byte_of_a_large_body_is_read_for_whoever_is_not_let_in(served: Server, header: dict[str, str]) -> None:
    """The answer comes although none of the body was sent: a header that looks like a session is none."""
    large = {"Content-Length": str(bodies.MOST_JSON), "Content-Type": "application/json"} | header
    assert _answer(served, "POST", "/api/plans/check", large)[0] == 401
    offered = large | {"Content-Length": str(bodies.MOST_OFFERED)}
    assert _answer(served, "POST", "/api/machines", offered)[0] == 401


def test_all_bodies_together_take_no_more_memory_than_is_set(served: Server) -> None:
    """Held back before their last byte by somebody who is let in; what comes beyond is to come again, and can."""
    head = (
        f"POST /api/runs HTTP/1.1\r\nAuthorization: Bearer {token('submit')}\r\n"
        f"Content-Type: application/json\r\nContent-Length: {bodies.MOST_JSON}"
    )
    most = bodies.MOST_TOGETHER // bodies.MOST_JSON
    with ExitStack() as stack:
        refused = 0
        for _ in range(most + 6):
            connection = stack.enter_context(_connect(served))
            connection.sendall(f"{head}\r\nHost: x\r\n\r\n".encode() + b"[" * (bodies.MOST_JSON - 1))
            connection.settimeout(0.3)
            try:
                refused += b"503" in connection.recv(4096)
            except TimeoutError:
                connection.settimeout(30)
        assert refused >= 5
        assert _answer(served, "GET", "/healthz", {})[0] == 200
    wait_until(lambda: _answer(served, "POST", "/api/sign-in", {"Content-Length": "0"})[0] != 503, 20, "room again")


def test_connections_are_limited_of_one_address_and_others_are_answered(served: Server) -> None:
    each = connections._OF_AN_ADDRESS
    host, port = served.address.removeprefix("http://").split(":")
    with ExitStack() as stack:
        held = []
        for _ in range(each + 5):
            one = stack.enter_context(socket.create_connection((host, int(port)), 10, source_address=("127.0.0.2", 0)))
            one.sendall(b"GET /healthz HT")
            held.append(one)
        last = held[-1]
        last.settimeout(10)
        assert b"503" in _heard(last, b"\r\n\r\n")
        assert _answer(served, "GET", "/healthz", {})[0] == 200  # from 127.0.0.1


@pytest.mark.parametrize("said", ["", "many", "100", "10/100", "0/0", "-1/1"])
def test_limits_of_connections_that_are_none_are_refused(monkeypatch: pytest.MonkeyPatch, said: str) -> None:
    monkeypatch.setenv(connections.CONNECTIONS_VARIABLE, said)
    with pytest.raises(BadParameter):
        connections.limits_of_connections()


def test_behind_a_proxy_no_address_is_limited(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("KIND_ECHO_PROXIES", "1")
    monkeypatch.setenv(connections.CONNECTIONS_VARIABLE, "500/50")
    assert connections.limits_of_connections() == connections.ConnectionLimits(500, None)


def test_a_body_that_does_not_say_how_long_it_is_is_stopped_at_the_limit(served: Server) -> None:
    piece = b"10000\r\n" + b"[" * 65536 + b"\r\n"
    with _connect(served) as connection:
        connection.sendall(b"POST /api/sign-in HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n" + piece * 2)
        assert b"413" in _heard(connection, b"\r\n\r\n")


def test_a_head_that_never_ends_is_refused_and_one_that_does_not_come_is_given_up(served: Server) -> None:
    with _connect(served) as connection:
        connection.sendall(b"GET / HTTP/1.1\r\n" + b"X: " + b"y" * 70_000)
        assert b"400" in _heard(connection, b"\r\n\r\n")
    begun = time.monotonic()
    with _connect(served) as connection:
        connection.sendall(b"GET /api/ru")
        assert _heard(connection, b"never") == b""
    assert time.monotonic() - begun > connections._HEAD_SECONDS - 1.0


def _run(what: Coroutine[Any, Any, None] | Coroutine[Any, Any, bytes]) -> None:
    """In a thread of its own: Playwright leaves an event loop running in the tests' thread."""
    with ThreadPoolExecutor(1) as pool:
        pool.submit(asyncio.run, what).result()


def test_one_makes_an_answer_that_many_ask_for_and_the_oldest_go_first() -> None:
    made: list[str] = []

    def make(name: str) -> bytes:
        made.append(name)
        time.sleep(0.05)
        return name.encode() * 10

    cache = AnswerCache(most_bytes=25, seconds=60.0)  # type: ignore[var-annotated]
    asking = [threading.Thread(target=cache.get, args=("a", lambda: make("a"))) for _ in range(8)]
    for one in asking:
        one.start()
    for one in asking:
        one.join()
    assert made == ["a"]
    for name in ("b", "c", "a"):
        assert cache.get(name, lambda name=name: make(name)) == name.encode() * 10  # type: ignore[misc]
    assert made == ["a", "b", "c", "a"]
    for number in range(9):
        with pytest.raises(ZeroDivisionError):
            cache.get(number, lambda: bytes(1 // 0))
    assert len(cache._kept) <= 2  # what could not be made takes no place
    assert len(cache._making) == 0
    assert AnswerCache(1, 0.0).get("a", lambda: make("d")) == b"d" * 10  # type: ignore[arg-type, return-value]


def test_a_stream_asks_again_whether_who_listens_is_still_let_in(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(streams, "_HEARTBEAT_SECONDS", 0.01)
    answers, sent = iter([True, True, False]), []

    async def receive() -> dict[str, str]:
        await asyncio.sleep(60)
        return {"type": "http.disconnect"}

    async def send(message: Any) -> None:
        sent.append(message["body"])

    async def run() -> None:
        await asyncio.wait_for(streams._stream(Listener(), lambda: next(answers), receive, send), 5)

    _run(run())
    assert sent == [b": still here\n\n"] * 2 + [b""]


def test_a_sender_must_keep_a_least_pace(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(bodies, "_SILENT_SECONDS", 0.05)

    async def receive() -> dict[str, str]:
        await asyncio.sleep(60)
        return {}

    with pytest.raises(bodies._Refused) as slow:
        _run(bodies._receive_small(receive, 100, bodies._Held(bodies.Room(1000))))
    assert slow.value.status == 408
