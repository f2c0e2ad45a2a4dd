"""What the bench keeps, drawn from the command line: a measure over builds, and renders over each other."""

import json
import subprocess
from pathlib import Path

import pytest
from sqlalchemy import select

from kind_echo.database.models import Build, Cell, Run
from kind_echo.database.sessions import URL_VARIABLE, transaction
from tests.conftest import kind_echo, newest_run


def _asked(url: str, *arguments: str | Path) -> subprocess.CompletedProcess[str]:
    return kind_echo(*arguments, **{URL_VARIABLE: url})  # type: ignore[arg-type]


def test_a_measure_over_builds_is_told_with_its_changes_and_drawn(seen: str, tmp_path: Path) -> None:
    """The second build of the demo's clipper is a sample late, and the third is not."""
    picture = tmp_path / "delay.svg"
    told = _asked(seen, "trend", "Null regression", "--measure", "delay", "--json", "--plot", picture)
    assert told.returncode == 0, told.stderr
    document = json.loads(told.stdout)
    assert (document["builds"], document["unit"]) == (["2.0.3", "2.1.0-rc1", "2.1.0-rc2"], "samples")
    late = [line for line in document["lines"] if line["values"] == [0.0, 1.0, 0.0]]
    assert late != []
    assert late[0]["changes"] == [{"build": "2.1.0-rc1", "by": 1.0}, {"build": "2.1.0-rc2", "by": -1.0}]
    sentence = f"Delay, samples, of {document['signal']} through {document['setting']} over the builds of Skerry"
    printed = _asked(seen, "trend", "Null regression", "--measure", "delay").stdout
    assert printed.startswith(sentence)
    assert "1.000!" in printed
    assert document["lines"][0]["condition"] in printed


def test_a_cell_is_drawn_over_its_builds(seen: str, tmp_path: Path) -> None:
    with transaction() as session:
        run = newest_run(session, "2.1.0-rc2")
        cell = session.scalars(select(Cell.id).where(Cell.run_id == run.id).order_by(Cell.id)).first()
        builds = session.scalars(
            select(Build.version).join(Run).join(Cell).where(Cell.case_id == session.get_one(Cell, cell).case_id)
        ).all()
    picture = tmp_path / "builds.svg"
    drawn = _asked(seen, "overlay", "--builds", str(cell), "--by", "spectrum", "--plot", picture)
    assert drawn.returncode == 0, drawn.stderr
    assert f"of {len(set(builds))} builds (Skerry," in drawn.stdout
    assert "against approved reference, 2.0.3" in drawn.stdout
    assert picture.stat().st_size > 10_000


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("trend", "Nothing"), "There is no plan 'Nothing'"),
        (("trend", "Null regression", "--measure", "hum"), "hum"),
        (("trend", "Null regression", "--signal", "A"), "both, or neither"),
        (("trend", "Null regression", "--signal", "A", "--setting", "B"), "a case of the plan's newest run"),
        (("trend", "Null regression", "--plot", "a.pdf"), "ends in .svg or .png"),
        (("overlay", "--plot", "a.svg"), "by one of --cells, --builds and --set"),
        (("overlay", "--cells", "1,x", "--plot", "a.svg"), "whole numbers"),
        (("overlay", "--cells", "999999", "--plot", "a.svg"), "999999"),
        (("overlay", "--cells", "1", "--files", "2", "--plot", "a.svg"), "given with --set"),
        (("overlay", "--set", "999999", "--plot", "a.svg"), "There is no set of files 999999"),
        (
            ("overlay", "--builds", "1", "--by", "waveform", "--from", "99", "--plot", "a.svg"),
            "has nothing in this passage",
        ),
    ],
)
def test_what_cannot_be_drawn_is_said_in_a_line(seen: str, arguments: tuple[str, ...], words: str) -> None:
    refused = _asked(seen, *arguments)
    assert (refused.returncode, refused.stdout) == (2, "")
    assert words in refused.stderr
    assert len(refused.stderr.splitlines()) == 1
