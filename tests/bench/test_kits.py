"""A render kit goes out, is rendered elsewhere by one hand or another, and comes back: nothing is matched silently."""

import csv
import html
import io
import zipfile
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st

from kind_echo.bench.kits import assign, discard, kit_files, places_of, receive, write_kit
from kind_echo.bench.kits.packing import NothingByHand, signal_start
from kind_echo.bench.kits.returns import CannotAssign, Receipt
from kind_echo.bench.machines import BY_HAND
from kind_echo.bench.plans import find_build, find_plan, save_plan
from kind_echo.bench.plans.document import check_document
from kind_echo.bench.queue import analyse_cells
from kind_echo.bench.runs import RunNotFound, cells_of, start_run
from kind_echo.core.audio.source import Samples
from kind_echo.core.levels.marks import find_sound, sync_mark
from kind_echo.database.blobs import BlobSource
from kind_echo.database.models import Cell, KitFile
from kind_echo.database.sessions import transaction
from kind_echo.standins.catalogue import load_effect
from tests.conftest import drain, newest_run

NOW = datetime(2026, 11, 25, tzinfo=UTC)
WHO = "Nora F."


@pytest.fixture
def run(demo: str) -> int:
    """A run of the plan that is rendered by hand: two cases at two rates."""
    with transaction() as session:
        plan = find_plan(session, "By hand")
        return start_run(session, plan.id, find_build(session, plan, "2.0.3").id, who=WHO, now=NOW).id


@pytest.fixture
def kit(run: int, tmp_path: Path) -> Path:
    """The unpacked kit."""
    with transaction() as session:
        write_kit(session, run, tmp_path / "kit.zip")
    with zipfile.ZipFile(tmp_path / "kit.zip") as archive:
        assert archive.testzip() is None
        archive.extractall(tmp_path / "kit")
    return tmp_path / "kit"


def _rows(kit: Path) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO((kit / "manifest.csv").read_text("utf-8-sig"))))


def _render(samples: Samples, rate: int, setting: str) -> Samples:
    """What a person at a host that compensates gets from Skerry 2.0.3."""
    hard = setting.startswith("Hard")
    values = {"shape": "hard" if hard else "soft", "ceiling": -6.0 if hard else -3.0, "drive": 6.0, "oversampling": 8}
    effect = load_effect("Skerry", "2.0.3", values, rate, samples.shape[1])
    late = np.concatenate([samples, np.zeros((effect.claimed_latency, samples.shape[1]))])
    return effect.process(late)[effect.claimed_latency :]


def _rendered(kit: Path, row: dict[str, str]) -> tuple[Samples, int]:
    samples, rate = soundfile.read(kit / row["signal_file"], always_2d=True)
    return _render(samples, rate, row["setting"]), rate


def _send(run: int, path: Path, name: str) -> Receipt:
    with transaction() as session:
        receipt = receive(session, run, path, name, who=WHO, now=NOW)
        session.expunge_all()
    drain()
    return receipt


def _return(run: int, folder: Path, samples: Samples, rate: int, name: str) -> KitFile:
    """Send one file back, and what was made of it."""
    path = folder / "returned.wav"
    soundfile.write(path, samples, rate, "FLOAT")
    _send(run, path, name)
    with transaction() as session:
        file = kit_files(session, run)[0]
        session.expunge_all()
    assert file.name == name
    return file


def _cell(cell_id: int | None) -> Cell:
    with transaction() as session:
        cell = session.get_one(Cell, cell_id)
        _ = cell.render, cell.case.signal, cell.condition
        session.expunge_all()
        return cell


def test_names_that_would_be_a_formula_or_a_script_are_neither(run: int, tmp_path: Path) -> None:
    """CSV injection as OWASP describes it: a cell that begins with =, +, −, @ or a tab is taken for a formula."""
    names = ("=HYPERLINK(1)", "+1", "-1", "@SUM(1)", "\tx", "<script>alert(1)</script>")
    for name in names:
        with transaction() as session:
            cells = cells_of(session, run)
            cells[0].case.setting.name = name
            session.flush()
            write_kit(session, run, tmp_path / "kit.zip")
            session.rollback()
        with zipfile.ZipFile(tmp_path / "kit.zip") as archive:
            rows = csv.DictReader(io.StringIO(archive.read("manifest.csv").decode("utf-8-sig")))
            shown = {row["setting"] for row in rows}
            page = archive.read("instructions.html").decode()
        assert (name if name.startswith("<") else f"'{name}") in shown
        assert not any(setting[:1] in "=+-@\t" for setting in shown)
        assert "<script" not in page
        assert html.escape(name) in page


def test_a_kit_holds_each_signal_once_a_rate_and_asks_for_each_cell(run: int, kit: Path) -> None:
    rows = _rows(kit)
    assert [(row["setting"], row["rate"]) for row in rows] == [
        ("Hard, 8×", "44100"), ("Hard, 8×", "48000"), ("Soft, 8×", "44100"), ("Soft, 8×", "48000"),
    ]  # fmt: skip
    assert len({row["returned_as"] for row in rows}) == 4
    assert sorted(path.name for path in (kit / "signals").iterdir()) == sorted(
        {row["signal_file"].removeprefix("signals/") for row in rows}
    )
    page = (kit / "instructions.html").read_text()
    assert all(row["returned_as"] in page for row in rows)
    assert "oversampling 8" in rows[0]["parameters"]
    for row in rows:
        samples, rate = soundfile.read(kit / row["signal_file"])
        assert rate == int(row["rate"])
        lead_in = samples[round(0.37 * rate) + 1 : signal_start(rate)]
        assert not lead_in.any()
        assert np.abs(samples[: round(0.4 * rate)]).max() > 0.1  # the mark


def test_all_that_comes_back_in_one_zip_is_matched_by_name_and_judged(run: int, kit: Path, tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "back.zip", "w") as archive:
        for row in _rows(kit):
            samples, rate = _rendered(kit, row)
            soundfile.write(tmp_path / "one.wav", samples, rate, "FLOAT")
            archive.write(tmp_path / "one.wav", f"renders/{row['returned_as']}")
        archive.writestr("renders/notes.txt", "all done by Thursday")
        archive.writestr("__MACOSX/._one.wav", b"hidden")
    receipt = _send(run, tmp_path / "back.zip", "back.zip")
    assert [(one.name, "cannot be read as audio" in one.why) for one in receipt.refused] == [("notes.txt", True)]
    with transaction() as session:
        files = kit_files(session, run)
        assert [file.state for file in files] == ["matched"] * 4
        assert {file.why for file in files} == {"By its name; its mark says the same"}
        stood_in = {
            (cell.case.fingerprint, cell.condition.rate): cell.render.content
            for cell in cells_of(session, newest_run(session, "2.0.3").id)
            if cell.condition.host == "Estuary" and cell.render
        }
        for cell in cells_of(session, run):
            assert (cell.state, cell.verdict, cell.unfit) == ("done", "Waiting", False), cell.why
            assert cell.render is not None
            assert cell.render.claimed_latency is None
            # The build gives what it gave in a stand-in host that changes nothing, but for the kit's 32-bit floats.
            other = stood_in[cell.case.fingerprint, cell.condition.rate]
            one, other_one = (BlobSource(session, c).read(0, c.frames) for c in (cell.render.content, other))
            assert np.abs(one - other_one).max() < 1e-6


def test_a_file_of_another_name_is_known_by_its_mark_where_one_render_alone_has_that_signal(
    run: int, kit: Path, tmp_path: Path
) -> None:
    row = _rows(kit)[2]
    samples, rate = _rendered(kit, row)
    file = _return(run, tmp_path, samples, rate, "Export 7 (final).wav")
    assert (file.state, file.why) == ("matched", "By its mark alone: no other render has that signal")
    assert file.cell_id == int(row["cell"])


@pytest.mark.parametrize(
    ("spoil", "says"),
    [
        (lambda x, rate: x[round(0.2 * rate) :], "0.200 s after the kit's file and was lined up by its mark"),
        (lambda x, rate: x[round(0.3 * rate) :], "0.300 s after the kit's file and was lined up by its sound"),
        (lambda x, rate: np.concatenate([np.zeros((2 * rate, 1)), x]), "2.000 s before"),
        (lambda x, rate: np.concatenate([np.zeros((300, 1)), x]), "By its mark alone"),
        (lambda x, rate: np.repeat(x, 2, axis=1), "two equal channels"),
        (lambda x, rate: -0.5 * x, "By its mark alone"),
    ],
    ids=[
        "cut before its mark",
        "cut through its mark",
        "begun early",
        "late by a latency",
        "two channels",
        "half and turned over",
    ],
)
def test_a_render_that_was_cut_otherwise_is_lined_up_and_says_so(
    run: int, kit: Path, tmp_path: Path, spoil: Callable[[Samples, int], Samples], says: str
) -> None:
    row = _rows(kit)[2]
    samples, rate = _rendered(kit, row)
    file = _return(run, tmp_path, spoil(samples, rate), rate, "anything.wav")
    assert (file.state, file.cell_id) == ("matched", int(row["cell"]))
    cell = _cell(file.cell_id)
    assert (cell.state, cell.unfit) == ("done", False), cell.why
    assert cell.render is not None
    assert says in cell.render.log


def test_what_is_in_doubt_is_asked_about(run: int, kit: Path, tmp_path: Path) -> None:
    rows = _rows(kit)
    first, rate = _rendered(kit, rows[0])
    other, _ = _rendered(kit, rows[2])
    file = _return(run, tmp_path, other, rate, rows[0]["returned_as"])
    assert (file.state, file.why) == ("doubtful", "It is named for one signal, and its mark is that of another")
    assert file.candidates == [int(rows[0]["cell"]), int(rows[2]["cell"])]
    file = _return(run, tmp_path, first, rate, rows[1]["returned_as"])
    assert (file.state, file.why) == ("doubtful", "It is named for 48 kHz, and is at 44.1 kHz")
    file = _return(run, tmp_path, np.random.default_rng(1).normal(0, 0.1, (rate, 1)), rate, "hum of the fridge.wav")
    assert (file.state, file.why) == ("unknown", "No signal of this kit is in it")
    file = _return(run, tmp_path, first, 22_050, "x.wav")
    assert (file.state, file.why) == ("unknown", "It is at 22.05 kHz, and nothing of this kit is")
    _return(run, tmp_path, first, rate, rows[0]["returned_as"])
    file = _return(run, tmp_path, first, rate, rows[0]["returned_as"])
    assert (file.state, file.why) == ("doubtful", "Another file has come back for that render already")
    assert {_cell(int(row["cell"])).state for row in rows[1:]} == {"waiting"}


def test_a_name_is_taken_where_the_effect_has_eaten_the_mark(run: int, kit: Path, tmp_path: Path) -> None:
    row = _rows(kit)[0]
    samples, rate = _rendered(kit, row)
    samples[: signal_start(rate)] = 0.0
    file = _return(run, tmp_path, samples, rate, f"{int(row['cell'])}-bounce.wav")
    assert file.state == "matched"
    assert file.why == "By the number that its name begins with; its sound says the same"
    assert _cell(file.cell_id).state == "done"


def test_a_manifest_that_comes_along_renames(run: int, kit: Path, tmp_path: Path) -> None:
    rows = _rows(kit)
    samples, rate = _rendered(kit, rows[0])
    soundfile.write(tmp_path / "one.flac", samples, rate, "PCM_24")
    for row in rows:
        row["returned_as"] = "track 3.flac" if row is rows[0] else row["returned_as"]
    text = io.StringIO()
    writer = csv.DictWriter(text, rows[0])
    writer.writeheader()
    writer.writerows(rows)
    with zipfile.ZipFile(tmp_path / "back.zip", "w") as archive:
        archive.write(tmp_path / "one.flac", "track 3.flac")
        archive.writestr("manifest.csv", text.getvalue())
    _send(run, tmp_path / "back.zip", "back.zip")
    with transaction() as session:
        file = kit_files(session, run)[0]
        assert (file.state, file.cell_id) == ("matched", int(rows[0]["cell"]))
        assert file.why == "By the manifest that came with it; its mark says the same"


def test_a_person_decides_replaces_and_discards(run: int, kit: Path, tmp_path: Path) -> None:
    rows = _rows(kit)
    cell_id = int(rows[0]["cell"])
    samples, rate = _rendered(kit, rows[0])
    strange = _return(run, tmp_path, np.random.default_rng(1).normal(0, 0.1, samples.shape), rate, "take 1.wav")
    with transaction() as session:
        assign(session, strange.id, cell_id, None, who=WHO, now=NOW)
    drain()
    assert _cell(cell_id).state == "done"
    better = _return(run, tmp_path, samples, rate, rows[0]["returned_as"])
    assert better.state == "doubtful"
    with transaction() as session:
        assign(session, better.id, cell_id, None, who=WHO, now=NOW)
    drain()
    with transaction() as session:
        kept = {file.id: file for file in kit_files(session, run)}
        assert (kept[better.id].state, kept[better.id].why) == ("matched", f"{WHO} said so")
        assert kept[strange.id].state == "doubtful"
        with pytest.raises(CannotAssign, match="at 44100 Hz, and the cell at 48000 Hz"):
            assign(session, better.id, int(rows[1]["cell"]), None, who=WHO, now=NOW)
        with pytest.raises(CannotAssign, match="not asked for by this kit"):
            assign(session, better.id, 1, None, who=WHO, now=NOW)
        with pytest.raises(CannotAssign, match="is the render of a cell"):
            discard(session, better.id, who=WHO, now=NOW)
        discard(session, strange.id, who=WHO, now=NOW)
    with transaction() as session:
        assert [file.id for file in kit_files(session, run)] == [better.id]


def test_a_file_that_is_moved_to_another_cell_leaves_the_first_one_waiting(run: int, kit: Path, tmp_path: Path) -> None:
    rows = _rows(kit)
    samples, rate = _rendered(kit, rows[2])
    file = _return(run, tmp_path, samples, rate, "x.wav")
    assert file.cell_id == int(rows[2]["cell"])
    with transaction() as session:
        assign(session, file.id, int(rows[0]["cell"]), None, who=WHO, now=NOW)
    drain()
    first, second = _cell(int(rows[2]["cell"])), _cell(int(rows[0]["cell"]))
    assert (first.state, first.render) == ("waiting", None)
    assert second.state == "done"


def test_an_analysis_that_is_still_queued_does_not_end_a_cell_whose_file_was_replaced(
    run: int, kit: Path, tmp_path: Path
) -> None:
    rows = _rows(kit)
    cell_id = int(rows[2]["cell"])
    samples, rate = _rendered(kit, rows[2])
    _return(run, tmp_path, samples, rate, rows[2]["returned_as"])
    better = _return(run, tmp_path, 0.5 * samples, rate, rows[2]["returned_as"])
    before = _cell(cell_id).render_id
    with transaction() as session:
        analyse_cells(session, [cell_id])
        assign(session, better.id, cell_id, None, who=WHO, now=NOW)
    drain()
    after = _cell(cell_id)
    assert after.state == "done"
    assert after.render_id != before


def test_a_zip_with_damaged_parts_keeps_the_rest(run: int, kit: Path, tmp_path: Path) -> None:
    row = _rows(kit)[0]
    samples, rate = _rendered(kit, row)
    soundfile.write(tmp_path / "one.wav", samples, rate, "FLOAT")
    path = tmp_path / "back.zip"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("manifest.csv", "cell,take,returned_as\n" * 50)
        archive.writestr("torn.wav", bytes(range(256)) * 40)
        archive.write(tmp_path / "one.wav", row["returned_as"])
        torn = [archive.getinfo(name).header_offset + 50 for name in ("manifest.csv", "torn.wav")]
    data = bytearray(path.read_bytes())
    for at in torn:
        data[at : at + 8] = b"\xff" * 8
    path.write_bytes(data)
    receipt = _send(run, path, "back.zip")
    assert {one.name for one in receipt.refused} == {"manifest.csv", "torn.wav"}
    with transaction() as session:
        assert [file.state for file in kit_files(session, run)] == ["matched"]


def test_a_mono_render_of_two_channels_is_a_row_with_the_reason(run: int, kit: Path, tmp_path: Path) -> None:
    row = _rows(kit)[0]
    samples, rate = _rendered(kit, row)
    file = _return(run, tmp_path, np.concatenate([samples, 0.5 * samples], axis=1), rate, row["returned_as"])
    cell = _cell(file.cell_id)
    assert (cell.state, cell.verdict) == ("failed", "No reading")
    assert cell.why.endswith("has 2 channels, and the condition 1")


def test_kits_of_other_runs_are_refused(demo: str) -> None:
    with transaction() as session:
        with pytest.raises(NothingByHand):
            places_of(session, newest_run(session, "2.0.3").id)
        with pytest.raises(RunNotFound):
            places_of(session, 99_999)
    assert BY_HAND == "by hand"


@settings(max_examples=25)
@given(st.integers(0, 2**32 - 1), st.integers(0, 2**32 - 1), st.sampled_from([44_100, 48_000, 96_000]))
def test_marks_are_found_where_they_are_and_not_taken_for_each_other(seed: int, other: int, rate: int) -> None:
    rng = np.random.default_rng(3)
    samples = 0.02 * rng.standard_normal((rate, 1))
    mark = sync_mark(seed, rate)
    assert np.abs(mark).max() < 0.5
    samples[12_345 : 12_345 + len(mark), 0] += np.clip(mark, -0.1, 0.1)
    place, likeness = find_sound(samples, mark)
    assert place == 12_345
    assert likeness > 0.8
    if other != seed:
        assert find_sound(samples, sync_mark(other, rate))[1] < 0.3


def test_a_mark_is_the_same_sound_at_every_rate() -> None:
    slow, fast = sync_mark(5, 48_000), sync_mark(5, 96_000)
    assert np.allclose(fast[::2], slow, atol=1e-12)
    assert find_sound(np.zeros((100, 1)), slow) == (0, 0.0)
    assert find_sound(np.zeros((9000, 1)), slow) == (0, 0.0)


def test_a_signal_that_cannot_be_had_at_a_rate_is_a_row_with_the_reason_and_the_kit_goes_without(
    demo: str, tmp_path: Path
) -> None:
    with transaction() as session:
        document = check_document({
            "plan": "High", "effect": "Skerry", "signals": {"Tone 23 kHz": {"kind": "tone", "frequency": 23_000.0}},
            "cases": [{"signal": "Tone 23 kHz", "setting": "Hard, 8×"}, {"signal": "Sine sweep", "setting": "Idle"}],
            "conditions": [{"host": "Dunlin", "version": "5", "modes": ["real time"], "rates": [44_100, 96_000]}],
        })  # fmt: skip
        revision = save_plan(session, document, who=WHO, now=NOW)
        build = find_build(session, revision.plan, "2.0.3")
        run = start_run(session, revision.plan_id, build.id, who=WHO, now=NOW).id
    drain()
    with transaction() as session:
        cells = cells_of(session, run)
        assert [(c.condition.rate, c.state) for c in cells if "23" in c.case.signal.name] == [
            (44_100, "failed"), (96_000, "waiting")
        ]  # fmt: skip
        assert "frequency" in next(c.why for c in cells if c.state == "failed")
        write_kit(session, run, tmp_path / "kit.zip")
    with zipfile.ZipFile(tmp_path / "kit.zip") as archive:
        assert len([name for name in archive.namelist() if name.endswith(".wav")]) == 3
