"""Sets of files and the jobs that measure them: workers that die, jobs that never end, demo sets as planted."""

import time
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pytest
import soundfile
from flask.testing import FlaskClient

from kind_echo.bench.kits.packing import places_of
from kind_echo.bench.sets import (
    NewFile,
    PlanNames,
    SetOptions,
    add_files,
    change_options,
    choose_columns,
    chosen_columns,
    find_set,
    new_set,
    options_from,
    plan_of_set,
    set_csv,
)
from kind_echo.bench.sets.planned import NoSignal
from kind_echo.bench.signals import keep_upload
from kind_echo.core.comparison.pair import CompareOptions
from kind_echo.core.registry.errors import Conflict
from kind_echo.database.sessions import transaction
from tests.conftest import as_service, drain, query, wait_until, working

NOW = datetime(2026, 11, 27, tzinfo=UTC)


def _kept(folder: Path, samples: np.ndarray, name: str) -> int:
    path = folder / name
    soundfile.write(path, samples, 48_000, subtype="PCM_24")
    with transaction() as session:
        return keep_upload(session, path, name, who="Nora F.", now=NOW).id


def _set(folder: Path, files: int = 4, seconds: float = 0.5) -> int:
    """Noise, each file 1 dB softer than the one before; the first is the reference."""
    noise = np.random.default_rng(5).uniform(-0.5, 0.5, (int(48_000 * seconds), 2))
    uploads = [_kept(folder, noise * 10 ** (-n / 20), f"{n}.wav") for n in range(files)]
    with transaction() as session:
        made = new_set(session, "Softer", SetOptions(), who="Nora F.", now=NOW)
        add_files(session, made, [NewFile(upload, "takes") for upload in uploads])
        change_options(session, made, SetOptions(), {made.files[0].id: "reference"})
        return made.id


def _gains(number: int) -> list[float | None]:
    with transaction() as session:
        return [
            next((r["value"] for r in file.readings if r["measure"] == "gain"), None)
            for file in find_set(session, number).files
        ]


def test_workers_that_are_killed_leave_no_row_behind_and_none_twice(empty: str, tmp_path: Path) -> None:
    from kind_echo.database.grants import grant

    with transaction() as session:
        for service in ("web", "worker"):
            grant(session, service, f"kind_echo_{service}")
    number = _set(tmp_path, files=10, seconds=3.0)
    worker, log = as_service(empty, "worker"), tmp_path / "worker.log"
    done = "SELECT count(*) FROM set_file WHERE state = 'done'"
    for so_many in (2, 5):
        with working(url=worker, log=log) as one:
            wait_until(lambda: query(empty, done)[0][0] >= so_many, 60, "rows that are done", every=0.02)  # type: ignore[operator]  # noqa: B023
            one.kill()
            time.sleep(0.1)
    with working(url=worker, log=log):
        wait_until(lambda: query(empty, done) == [(10,)], 60, "all rows", moves=lambda: query(empty, done))
    assert _gains(number)[0] is None
    assert _gains(number)[1:] == pytest.approx([-float(n) for n in range(1, 10)], abs=0.001)
    assert query(empty, "SELECT count(*) FROM pair") == [(9,)]


def test_a_file_over_which_workers_die_is_given_up_and_says_so(empty: str, tmp_path: Path) -> None:
    number = _set(tmp_path, files=2)
    query(empty, "UPDATE procrastinate_jobs SET attempts = 50 RETURNING id")
    drain()
    with transaction() as session:
        files = find_set(session, number).files
        assert {file.state for file in files} == {"failed"}
        assert all("never came to an end" in file.why for file in files)
        lines = set_csv(find_set(session, number)).splitlines()
    assert lines[1].startswith("takes/0.wav,,,,,,,")
    assert "never came to an end" in lines[1]


def test_a_set_that_was_deleted_while_it_was_measured_is_no_failure(
    blank_set: int, client_of_empty: FlaskClient
) -> None:
    assert client_of_empty.delete(f"/api/sets/{blank_set}").status_code == 204
    drain()
    assert client_of_empty.get("/api/sets").json == {"sets": [], "more": False}


@pytest.fixture
def blank_set(empty: str, tmp_path: Path) -> int:
    return _set(tmp_path, files=2)


@pytest.fixture
def client_of_empty(empty: str) -> FlaskClient:
    from kind_echo.web.app import create_app
    from tests.signing import sign

    return sign(create_app().test_client())


@pytest.mark.parametrize(
    "options",
    [
        SetOptions(),
        SetOptions(CompareOptions("fraction", match_gain=True, match_polarity=True, max_delay=7, ceiling=-3.0)),
        SetOptions(resample=True, also="lossy", codec="opus", bitrate=96.0),
        SetOptions(also="tone", frequency=997.0),
        SetOptions(also="signal", signal_id=3),
    ],
)
def test_options_come_back_as_they_were_kept(options: SetOptions) -> None:
    assert options_from(options.document()) == options


def test_the_columns_are_those_that_the_files_are_measured_for(blank_set: int) -> None:
    with transaction() as session:
        found = find_set(session, blank_set)
        assert chosen_columns(session, found)[:2] == ["residual_rms", "delay"]
        change_options(session, found, SetOptions(CompareOptions(ceiling=-4.0)), {found.files[0].id: "reference"})
        assert "changed_below" in chosen_columns(session, found)
        change_options(session, found, SetOptions(also="tone", frequency=997.0), {})
        assert chosen_columns(session, found)[0] == "fundamental_frequency"
        change_options(session, found, SetOptions(), {found.files[0].id: "input"})
        assert "wall_frequency" in chosen_columns(session, found)
        found.columns = ["rms"]
        assert chosen_columns(session, found) == ["rms"]


def test_the_sets_of_the_demo_show_what_was_planted(seen: str) -> None:
    """Walls at 15 and 16 kHz; of four ways of taking 3 dB off a peak only cutting leaves what is under it alone."""
    numbers = dict(query(seen, "SELECT name, id FROM file_set"))  # type: ignore[arg-type, var-annotated]
    with transaction() as session:
        players = find_set(session, int(str(numbers["Players and quality steps"])))
        walls = {
            file.upload.name: next((r["value"] for r in file.readings if r["measure"] == "wall_frequency"), None)
            for file in players.files
        }
        ways = find_set(session, int(str(numbers["3 dB off one peak"])))
        below = {
            file.upload.name: next((r["value"] for r in file.readings if r["measure"] == "changed_below"), None)
            for file in ways.files
        }
    assert walls["Dunlin, best.wav"] is None
    assert walls["Dunlin, middle.wav"] == pytest.approx(16_000, abs=150)
    assert walls["Dunlin, low.wav"] == pytest.approx(15_000, abs=150)
    assert below["cut off.wav"] == 0
    assert all(below[name] > 1000 for name in ("turned down.wav", "bent.wav", "held down around the peak.wav"))


def _planned(folder: Path, *files: tuple[str, np.ndarray, int]) -> tuple[int, list[int]]:
    """A set of an input and its answers; the numbers of the set and of its files."""
    uploads = []
    for name, samples, rate in files:
        path = folder / name
        soundfile.write(path, samples, rate, subtype="FLOAT")
        with transaction() as session:
            uploads.append(keep_upload(session, path, name, who="Nora F.", now=NOW).id)
    with transaction() as session:
        made = new_set(session, "Answers", SetOptions(), who="Nora F.", now=NOW)
        add_files(session, made, [NewFile(upload) for upload in uploads])
        change_options(session, made, SetOptions(), {made.files[0].id: "input"})
        choose_columns(made, [], {"residual_rms": {"at_least": None, "at_most": -80.0}})
        return made.id, [file.id for file in made.files]


NAMES = PlanNames("Answers again", "Lantern", "0.9", "Ferry", "2")


def test_a_set_becomes_a_plan_whose_references_are_its_files(empty: str, tmp_path: Path) -> None:
    rng = np.random.default_rng(8)
    given = rng.uniform(-0.5, 0.5, (24_000, 1))
    number, _ = _planned(
        tmp_path, ("given.wav", given, 48_000), ("soft.wav", given * 0.5, 48_000), ("loud.wav", given * 0.9, 48_000),
        ("other rate.wav", given[::2] * 0.5, 24_000), ("wide.wav", np.repeat(given, 2, axis=1), 48_000),
    )  # fmt: skip
    drain()
    with transaction() as session:
        made = plan_of_set(session, find_set(session, number), NAMES, who="Nora F.", now=NOW)
        run = made.run.id
        assert [(one.name, one.why) for one in made.left_out] == [("wide.wav", "it has 2 channels, and the plan 1")]
    drain()
    drain()  # the second answer of two at once finds nothing left to approve
    cells = query(
        empty,
        'SELECT s.name, c.rate, cell.verdict, cell.state FROM cell JOIN "case" k ON k.id = cell.case_id '
        "JOIN setting s ON s.id = k.setting_id JOIN condition c ON c.id = cell.condition_id ORDER BY 1",
    )
    assert cells == [("loud", 48_000, "Pass", "done"), ("other rate", 24_000, "Pass", "done"),
                     ("soft", 48_000, "Pass", "done")]  # fmt: skip
    assert query(empty, "SELECT count(*), count(DISTINCT act_id) FROM reference WHERE retired_at IS NULL") == [(3, 1)]
    assert query(empty, "SELECT why, who FROM act") == [("Made of the files “Answers”.", "Nora F.")]
    kept = query(empty, "SELECT document->'cases'->0->'limits' FROM plan_revision")
    assert kept == [({"residual_rms": {"at_least": None, "at_most": -80.0, "because": ""}},)]
    # Later builds are rendered by hand from the same signal, with a kit.
    with transaction() as session:
        assert [place.cell.case.signal.name for place in places_of(session, run)] == ["given"] * 3


def test_a_set_that_can_be_no_plan_says_why_and_leaves_nothing(empty: str, tmp_path: Path) -> None:
    given = np.random.default_rng(8).uniform(-0.5, 0.5, (4800, 1))
    number, files = _planned(tmp_path, ("given.wav", given, 48_000), ("wide.wav", given.repeat(6, axis=1), 48_000))
    drain()
    with transaction() as session, pytest.raises(Conflict, match=r"No file of this set can be a reference; wide\.wav"):
        plan_of_set(session, find_set(session, number), NAMES, who="Nora F.", now=NOW)
    with transaction() as session:
        change_options(session, find_set(session, number), SetOptions(), {files[1]: "reference"})
    with transaction() as session, pytest.raises(NoSignal, match="name one file as the input"):
        plan_of_set(session, find_set(session, number), NAMES, who="Nora F.", now=NOW)
    assert query(empty, "SELECT count(*) FROM effect") == query(empty, "SELECT count(*) FROM plan") == [(0,)]


def test_a_file_that_was_deleted_before_it_was_measured_fails_its_cell_alone(empty: str, tmp_path: Path) -> None:
    given = np.random.default_rng(8).uniform(-0.5, 0.5, (24_000, 1))
    files = [("given.wav", given, 48_000), ("a.wav", given * 0.5, 48_000), ("b.wav", given * 0.7, 48_000)]
    number, ids = _planned(tmp_path, *files)
    drain()
    with transaction() as session:
        plan_of_set(session, find_set(session, number), NAMES, who="Nora F.", now=NOW)
    query(empty, f"DELETE FROM set_file WHERE id = {ids[1]} RETURNING id")
    query(empty, "DELETE FROM upload WHERE name = 'a.wav' RETURNING id")
    drain()
    verdicts = query(empty, "SELECT verdict, why FROM cell ORDER BY id")
    assert [verdict for verdict, _ in verdicts] == ["No reading", "Pass"]
    assert "There is no uploaded file" in str(verdicts[0][1])
