"""The short form of `benchmarks.chaos`: processes are killed while a run is rendered; nothing is lost or doubled."""

from pathlib import Path
from tempfile import mkdtemp

from tests.support.chaos import disturb


def test_a_run_outlives_kills_of_workers_web_server_and_database() -> None:
    folder = Path(mkdtemp(prefix="kind-echo-chaos-", dir="/tmp"))  # PostgreSQL's own account must reach it
    folder.chmod(0o755)
    found = disturb(folder, cells=24, kills=8, seed=3, disk=False)
    assert found.wrong == []
    assert sum(found.kills.values()) >= 6
    assert len([kind for kind, count in found.kills.items() if count]) >= 3
