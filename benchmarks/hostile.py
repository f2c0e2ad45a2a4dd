"""Ten thousand damaged files, and as many spoiled requests: how many end a process, and how many are answered with 500.

Both are to be none. The files are those of the tests' seeded mutator, over every format: each is decoded as the server
does it, each is sent to the server in a ZIP of a hundred for a render kit, and each fiftieth as an upload of its own.
Requests are JSON of every route that takes any, plans in YAML, forms, and what render machines offer.
"""

import argparse
import tempfile
import time
from collections import Counter
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from ops.stack import PROJECT
from tests.mutating import mutated, zip_file
from tests.mutating_bodies import spoiled_plans, spoiled_requests
from tests.signing import sign, token

from benchmarks.runs import own_database
from kind_echo.audio_io.decoding import Decoder, Most
from kind_echo.audio_io.files import UnreadableAudio

FILES = 10_000
_SEED = 11
_IN_A_ZIP = 100
_ALONE = 50  # fewer than are taken in a minute
_ENDED = ("reading it took too long", "reading it took more than it may", "reading it went wrong")


def report(files: int = FILES) -> list[str]:
    """The counts, a line each."""
    begun = time.monotonic()
    decoded = _decoded(files)
    with own_database():
        kit, upload = _doors()
        zips: Counter[int] = Counter(kit(zip_file(dict(some))) for some in _batches(files))
        spoiled = _spoiled(files)
        alone: Counter[int] = Counter(upload(data) for _, data in list(mutated(_SEED, files))[::_ALONE])
    return [
        f"{files} damaged files, decoded: {_said(decoded)}",
        f"the same, {_IN_A_ZIP} in a ZIP, answers by status: {_said(zips)}",
        f"each {_ALONE}th by itself, answers by status: {_said(alone)}",
        f"{files} spoiled requests, answers by status: {_said(spoiled)} ({time.monotonic() - begun:.0f} s for all)",
    ]


def _batches(files: int) -> Iterator[list[tuple[str, bytes]]]:
    held: list[tuple[str, bytes]] = []
    for one in mutated(_SEED, files):
        held.append(one)
        if len(held) == _IN_A_ZIP:
            yield held
            held = []
    if held:
        yield held


def _decoded(files: int) -> Counter[str]:
    outcomes: Counter[str] = Counter({"ended the process that read it": 0})
    with Decoder() as decoder, tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "file"
        for name, data in mutated(_SEED, files):
            path.write_bytes(data)
            try:
                with decoder.decoded(path, name, Most(2, 1800.0)):
                    outcomes["read"] += 1
            except UnreadableAudio as error:
                outcomes["ended the process that read it" if error.reason in _ENDED else "refused"] += 1
    return outcomes


def _doors() -> tuple[Any, Any]:
    """Two ways in for files, of a server in this process: to a render kit, and as an upload. Each tells the status."""
    from kind_echo.bench.plans import find_build, find_plan
    from kind_echo.bench.runs import start_run
    from kind_echo.database.sessions import transaction
    from kind_echo.web.app import create_app

    client = sign(create_app().test_client())
    client.application.config["RATELIMIT_ENABLED"] = False
    with transaction() as session:
        plan = find_plan(session, "By hand")
        build = find_build(session, plan, "2.0.3")
        run = start_run(session, plan.id, build.id, who="Benchmark", now=datetime.now(UTC)).id
    kit = f"/api/runs/{run}/kit/files?name=returned.zip"
    return (
        lambda data: client.post(kit, data=data).status_code,
        lambda data: client.post("/api/uploads?name=file", data=data).status_code,
    )


def _spoiled(count: int) -> Counter[int]:
    """How a server in this process answers spoiled requests of a keeper and of a render machine."""
    import json

    from kind_echo.web.app import create_app

    document = json.loads((PROJECT / "docs" / "openapi.json").read_text())
    app = create_app()
    app.config["RATELIMIT_ENABLED"] = False
    keeper, machine = sign(app.test_client()), app.test_client()
    bearer = {"Authorization": f"Bearer {token('render')}"}
    answers: Counter[int] = Counter()
    for one in spoiled_requests(document, _SEED, count):
        client, headers = (machine, bearer) if one.path.startswith("/api/machines") else (keeper, {})
        answers[client.open(one.path, method=one.method, data=one.body, content_type=one.content_type,
                            headers=headers).status_code] += 1  # fmt: skip
    plan = keeper.get("/api/plans/1").get_json()["yaml"]
    for text in spoiled_plans(plan, _SEED, count // 10):
        answers[keeper.post("/api/plans/read", json={"yaml": text}).status_code] += 1
    return answers


def _said(counts: Counter[Any]) -> str:
    return ", ".join(f"{count} {what}" for what, count in sorted(counts.items(), key=str))


def main() -> None:
    """Print the counts."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=FILES)
    for line in report(parser.parse_args().files):
        print(line)


if __name__ == "__main__":
    main()
