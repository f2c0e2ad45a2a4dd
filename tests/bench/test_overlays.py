"""Rows over each other: which are meant, against which they are held, and what is said where there is no line."""

from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pytest
import soundfile
from sqlalchemy import select

from kind_echo.bench.overlays import MOST_LINES, draw_rows, rows_of_cells, rows_of_set, rows_over_builds
from kind_echo.bench.overlays.rows import NothingToDraw, TooManyLines, telling
from kind_echo.bench.runs import CellNotFound, cells_of
from kind_echo.bench.sets import NewFile, SetOptions, add_files, change_options, find_set, new_set
from kind_echo.bench.signals import keep_upload
from kind_echo.core.registry.errors import BadParameter
from kind_echo.database.blobs import BlobSource
from kind_echo.database.models import Build, Cell, Content, Effect, FileSet, Plan, PlanRevision, Run
from kind_echo.database.sessions import transaction
from kind_echo.database.states import FileState
from kind_echo.plots import plot_overlay
from kind_echo.wording.overlays import KIND_WORDS, overlay_sentence
from tests.conftest import drain

NOW = datetime(2026, 12, 1, tzinfo=UTC)


def _cells(session: object, effect: str, version: str, plan: str) -> list[Cell]:
    query = (
        select(Run)
        .join(Build, Build.id == Run.build_id)
        .join(Effect, Effect.id == Build.effect_id)
        .join(PlanRevision, PlanRevision.id == Run.revision_id)
        .join(Plan, Plan.id == PlanRevision.plan_id)
        .where(Effect.name == effect, Build.version == version, Plan.name == plan)
        .order_by(Run.id.desc())
    )
    run = session.scalars(query).first()  # type: ignore[attr-defined]
    return cells_of(session, run.id)  # type: ignore[arg-type]


def test_parts_that_tell_nothing_more_are_left_out() -> None:
    assert telling([("A", "x", "48"), ("A", "x", "96")], 3) == (["48", "96"], ["A", "x"])
    # The blocks follow the mode, and are not told beside it.
    assert telling([("live", "128"), ("offline", "512")], 2) == (["live", "offline"], [])
    assert telling([("A", "x")], 2) == (["A, x"], [])
    assert telling([("A",), ("A",)], 1) == (["A (1)", "A (2)"], [])
    assert telling([], 1) == ([], [])


def test_one_cell_over_its_builds_shows_where_it_moved(seen: str, tmp_path: Path) -> None:
    """The demo plants 0.2 dB less make-up in Towpath 1.5.0-b2, at every level of the staircase."""
    with transaction() as session:
        cell = next(
            one for one in _cells(session, "Towpath", "1.5.0-b2", "Characters and curve")
            if one.case.signal.name == "Level staircase"
        )  # fmt: skip
        rows = rows_over_builds(session, cell.id, None)
        assert [row.label for row in rows.rows] == ["approved reference, 1.4.0", "1.4.0", "1.5.0-b1", "1.5.0-b2"]
        drawn = draw_rows(session, rows)
        overlay = drawn.overlay
        assert (overlay.kind.key, rows.over_time, overlay.reference) == ("transfer", True, 0)
        assert overlay.law is not None
        moved = overlay.differences[3]
        assert moved is not None
        assert moved.y == pytest.approx(-0.2, abs=0.01)
        assert overlay.differences[1] is not None
        assert not overlay.differences[1].y.any()
        sentence = overlay_sentence(overlay, rows.what, rows.shared)
        assert "Transfer curves of 3 builds (Towpath, Level staircase" in sentence
        assert "1.5.0-b2 lies farthest from it, −0.20 dB" in sentence
        against = draw_rows(session, rows_over_builds(session, cell.id, cell.id))
        assert against.overlay.differences[1] is not None
        assert against.overlay.differences[1].y == pytest.approx(0.2, abs=0.01)
        plot_overlay(tmp_path / "builds.svg", overlay, KIND_WORDS["transfer"], sentence)
        svg = (tmp_path / "builds.svg").read_text()
        assert all(word in svg for word in ("1.5.0-b2", "expected", "above the reference, dB", "Level staircase"))


@pytest.mark.parametrize(("count", "together"), [(8, True), (9, False), (MOST_LINES, False)])
def test_cells_are_drawn_by_every_kind_that_they_have(seen: str, tmp_path: Path, count: int, together: bool) -> None:
    with transaction() as session:
        cells = _cells(session, "Skerry", "2.1.0-rc2", "Null regression")[:count]
        rows = rows_of_cells(session, [cell.id for cell in cells], None)
        assert rows.reference == cells[0].id
        assert len({row.label for row in rows.rows}) == count
        kinds = draw_rows(session, rows).kinds
        assert {"spectrum", "third_octaves", "loudness", "level", "waveform"} <= set(kinds)
        for kind in kinds:
            drawn = draw_rows(session, rows, kind)
            assert len(drawn.overlay.lines) + len(drawn.left_out) == count
            assert drawn.overlay.together == (kind != "waveform" and len(drawn.overlay.lines) <= 8)
            path = tmp_path / f"{kind}.png"
            plot_overlay(path, drawn.overlay, KIND_WORDS[kind], "Caption")
            assert path.read_bytes().startswith(b"\x89PNG")
        assert draw_rows(session, rows, "spectrum").overlay.together is together


def test_one_reference_for_all_is_a_row_and_a_passage_is_cut_out(seen: str) -> None:
    with transaction() as session:
        cell = next(
            one for one in _cells(session, "Skerry", "2.1.0-rc2", "Null regression")
            if one.case.signal.name == "Bell buoy strikes" and one.analysis_key is not None
        )  # fmt: skip
        rows = rows_of_cells(session, [cell.id], None)
        assert [row.number for row in rows.rows] == [0, cell.id]
        assert rows.reference == 0
        drawn = draw_rows(session, rows, "waveform", (0.5, 0.75))
        assert drawn.passage == (0.5, 0.75)
        assert cell.render is not None
        content = cell.render.content
        samples = BlobSource(session, content).read(round(0.5 * content.rate), round(0.75 * content.rate))
        line = drawn.overlay.lines[1]
        assert line.low is not None
        assert (line.y.max(), line.low.min()) == pytest.approx((samples.max(), samples.min()), abs=1e-6)
        for passage in ((1.0, 1.0), (2.0, 1.0), (-1.0, 1.0)):
            with pytest.raises(BadParameter, match="its end after its start"):
                draw_rows(session, rows, "waveform", passage)
        beyond = draw_rows(session, rows, "level", (drawn.whole, drawn.whole + 1.0))
        assert [one.why for one in beyond.left_out] == ["has nothing in this passage"] * 2
        with pytest.raises(BadParameter, match="one of response"):
            draw_rows(session, rows, "sonogram")
        with pytest.raises(CellNotFound):
            rows_of_cells(session, [cell.id, 999_999], None)
        with pytest.raises(NothingToDraw):
            rows_of_cells(session, [], None)
        with pytest.raises(TooManyLines, match="41 lines"):
            rows_of_cells(session, range(1, MOST_LINES + 2), None)


def test_what_is_gone_or_was_never_there_is_told(demo: str) -> None:
    with transaction() as session:
        first, second, third = _cells(session, "Skerry", "2.1.0-rc2", "Null regression")[:3]
        second.render = None
        assert first.render is not None
        first.render.content.dropped_at = NOW
        session.flush()
        rows = rows_of_cells(session, [first.id, second.id, third.id], None)
        for kind, why in (("spectrum", ["its audio is kept no more", "has not been rendered"]),
                          ("harmonics", ["has none over its noise", "has not been rendered"])):  # fmt: skip
            drawn = draw_rows(session, rows, kind)
            assert [one.why for one in drawn.left_out][:2] == why
            # The first that is drawn stands for what they were to be held against.
            assert drawn.overlay.reference in (0, None)
        assert len(draw_rows(session, rows, "level").overlay.lines) == 2  # a waveform is kept longer than its audio
        session.rollback()


def _uploaded(folder: Path, samples: np.ndarray, name: str) -> int:
    soundfile.write(folder / name, samples, 48_000, subtype="PCM_24")
    with transaction() as session:
        return keep_upload(session, folder / name, name, who="Nora F.", now=NOW).id


def test_files_of_a_set_are_held_against_its_reference(empty: str, tmp_path: Path) -> None:
    noise = np.random.default_rng(3).uniform(-0.5, 0.5, (48_000, 2))
    uploads = [_uploaded(tmp_path, noise * 10 ** (-n / 20), f"{n}.wav") for n in range(4)]
    with transaction() as session:
        made = new_set(session, "Softer", SetOptions(), who="Nora F.", now=NOW)
        add_files(session, made, [NewFile(upload, "takes") for upload in uploads])
        change_options(session, made, SetOptions(), {made.files[1].id: "reference"})
        number = made.id
    drain()
    with transaction() as session:
        found = find_set(session, number)
        zero, one, two, three = (file.id for file in found.files)
        rows = rows_of_set(session, found, [two], None)
        assert [row.number for row in rows.rows] == [one, two]  # the reference comes along
        assert draw_rows(session, rows).kinds == ["spectrum", "third_octaves", "loudness", "level", "waveform"]
        for kind in ("spectrum", "third_octaves", "loudness", "level"):
            overlay = draw_rows(session, rows_of_set(session, found, [], None), kind).overlay
            assert overlay.reference == 1
            for place, decibels in ((0, 1.0), (2, -1.0), (3, -2.0)):
                moved = overlay.differences[place]
                assert moved is not None
                assert moved.y == pytest.approx(decibels, abs=0.01)
        assert rows_of_set(session, found, [two], 999_999).reference == one  # what was taken out since
        against = rows_of_set(session, found, [two, three], zero)
        assert (against.reference, len(against.rows)) == (zero, 3)
        reasons: dict[FileState, str] = {
            "done": "was measured before curves were kept: measure again", "measuring": "is being measured",
            "failed": "could not be measured",
        }  # fmt: skip
        for state, why in reasons.items():
            found.files[2].curves, found.files[2].state = [], state
            session.flush()
            late = draw_rows(session, rows_of_set(session, found, [], None), "loudness")
            assert [row.why for row in late.left_out] == [why]
        session.rollback()


def test_a_set_of_responses_and_of_tones_keeps_their_curves(seen: str) -> None:
    with transaction() as session:
        players = session.scalars(select(FileSet).where(FileSet.name == "Players and quality steps")).one()
        drawn = draw_rows(session, rows_of_set(session, players, [], None))
        assert drawn.overlay.kind.key == "response"
        # What went in is no row of its own.
        assert len(drawn.overlay.lines) == len(players.files) - 1
        contents = session.scalars(select(Content).where(Content.sha256.in_([r.content.sha256 for r in drawn.rows])))
        assert len(contents.all()) == len({row.content.sha256 for row in drawn.rows if row.content is not None})
