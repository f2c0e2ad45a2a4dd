"""Retention drops what nobody needs, and nothing else; quotas refuse with a reason; audio moves without loss."""

import io
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
import pytest
import soundfile
from moto.server import ThreadedMotoServer
from sqlalchemy import LargeBinary, select, text
from sqlalchemy.orm import Session

from kind_echo.audio_io.encoding import ENCODINGS
from kind_echo.bench.accounts import Caller, NotAllowed
from kind_echo.bench.decisions import judge_now
from kind_echo.bench.listening import ListeningRequest, Method, begin, clip_bytes, delete_test, new_test, under_way
from kind_echo.bench.plans import find_build, find_plan
from kind_echo.bench.runs import start_run
from kind_echo.bench.signals import compare_uploads, delete_pair, keep_upload
from kind_echo.bench.storage import (
    GRACE,
    drop_audio,
    drop_unused,
    held_by,
    move_audio,
    pack_audio,
    set_rule,
    sweep_objects,
    what_takes_space,
    would_drop,
    would_drop_in_all,
)
from kind_echo.bench.storage.retention import _droppable
from kind_echo.bench.storage.rule import QuotaReached, StorageFull
from kind_echo.bench.storage.uses import PARTS_OF_AUDIO, USES
from kind_echo.core.audio.source import ArraySource
from kind_echo.core.comparison.pair import CompareOptions
from kind_echo.core.registry.errors import BadParameter
from kind_echo.database import objects
from kind_echo.database.blobs import AudioDropped, BlobSource, content_digest, find_content, store_content
from kind_echo.database.models import (
    Base,
    Cell,
    Content,
    Delivery,
    ListeningTest,
    Reference,
    Render,
    Run,
    Signal,
    Upload,
)
from kind_echo.database.sessions import transaction
from kind_echo.web.app import create_app
from tests.conftest import drain, newest_run, query
from tests.signing import sign

NOW = datetime(2026, 11, 27, tzinfo=UTC)


def _music(tmp_path: Path, name: str, seed: int = 1, seconds: float = 8.0) -> Path:
    rng, t = np.random.default_rng(seed), np.arange(round(48_000 * seconds)) / 48_000
    tone = 0.3 * np.sin(2 * np.pi * 220 * t) * np.exp(-t) + 1e-3 * rng.standard_normal(len(t))
    soundfile.write(tmp_path / name, np.stack([tone, tone], 1), 48_000, subtype="PCM_24")
    return tmp_path / name


def _rule(keep_runs: int | None = None, person: float | None = None, whole: float | None = None) -> None:
    with transaction() as session:
        set_rule(session, keep_runs, person, whole, who="Nora F.", now=NOW)


def test_only_passed_renders_of_old_runs_are_dropped_and_their_readings_stay(demo: str) -> None:
    with transaction() as session:
        foreseen = would_drop_in_all(session, 1)
        assert foreseen.pieces == sum(part.pieces for _, _, part in would_drop(session, 1)) > 0
    assert drop_audio(NOW).pieces == 0  # no rule is set
    _rule(keep_runs=1)
    assert drop_audio(NOW) == foreseen
    assert drop_audio(NOW).pieces == 0
    with transaction() as session:
        newest = {run.revision.plan_id: run.id for run in session.scalars(select(Run).order_by(Run.id))}
        cells = session.scalars(select(Cell).join(Render)).all()
        references = set(session.scalars(select(Render.content_sha256).join(Reference)))
        dropped = [cell for cell in cells if cell.render is not None and cell.render.content.dropped_at is not None]
        assert {cell.render.content_sha256 for cell in dropped if cell.render} & references == set()
        assert {cell.verdict for cell in dropped} == {"Pass"}
        assert not {cell.run_id for cell in dropped} & set(newest.values())
        assert all(cell.measured for cell in dropped)
        kept = [cell for cell in cells if cell not in dropped and cell.render is not None]
        for cell in kept[::20]:  # to the bit, what its digest says
            assert cell.render is not None
            source = BlobSource(session, cell.render.content)
            assert content_digest(source, source.encoding) == source.sha256
    app = sign(create_app().test_client())
    body = app.get(f"/api/cells/{dropped[0].id}").get_json()
    assert body["render"]["dropped_at"] is not None
    assert body["readings"]
    address = body["render"]["sha256"]
    drawn = app.get(f"/api/audio/{address}/waveform?start=0&stop={body['render']['frames']}&columns=20")
    assert drawn.status_code == 200  # the waveform is kept
    refused = app.get(f"/api/audio/{address}/samples?start=0&stop=10")
    assert refused.status_code == 410
    assert "dropped on 27 November 2026" in refused.get_json()["detail"]


def test_what_was_dropped_is_rendered_again_where_a_new_run_needs_it(demo: str) -> None:
    with transaction() as session:
        run = newest_run(session, "2.0.3")
        plan, build = run.revision.plan_id, run.build_id
        again = start_run(session, plan, build, who="Nora F.", now=NOW).id
    drain()
    reused = query(demo, f"SELECT count(*) FROM cell WHERE run_id = {again} AND reused")[0][0]
    with transaction() as session:
        # As if retention had dropped one that this run would take over.
        cell = session.scalars(select(Cell).where(Cell.run_id == again, Cell.reused).limit(1)).one()
        assert cell.render is not None
        digest, place, verdict = cell.render.content_sha256, (cell.case_id, cell.condition_id), cell.verdict
        session.execute(text("DELETE FROM chunk WHERE sha256 = :digest"), {"digest": digest})
        cell.render.content.dropped_at = NOW
    with transaction() as session:
        anew = start_run(session, plan, build, who="Nora F.", now=NOW).id
    drain()
    assert query(demo, f"SELECT count(*) FROM cell WHERE run_id = {anew} AND reused")[0][0] != reused
    with transaction() as session:
        made = select(Cell).where(Cell.run_id == anew, Cell.case_id == place[0], Cell.condition_id == place[1])
        cell = session.scalars(made).one()
        assert (cell.state, cell.verdict, cell.reused) == ("done", verdict, False)
        source = BlobSource(session, find_content(session, digest))  # the same samples, at their old address
        assert content_digest(source, source.encoding) == digest


def test_a_verdict_stands_where_its_audio_is_gone(demo: str) -> None:
    with transaction() as session:
        cell = session.scalars(select(Cell).where(Cell.verdict == "Pass", Cell.analysis_key.is_not(None))).first()
        assert cell is not None
        assert cell.render is not None
        assert cell.analysis is not None
        cell.render.content.dropped_at = NOW
        if cell.analysis.reference_sha256 == cell.analysis.render_sha256:
            session.execute(text("UPDATE render SET content_sha256 = content_sha256"))
        session.execute(text("UPDATE cell SET analysis_key = NULL"))
        session.execute(text("DELETE FROM pair"))
        session.execute(text("DELETE FROM analysis"))
        session.expire_all()
        judge_now(session, cell)
        assert (cell.state, cell.verdict) == ("done", "Pass")
        assert "not judged again" in cell.why


def test_a_person_and_all_have_quotas_and_deleting_makes_room(empty: str, tmp_path: Path) -> None:
    one, other = _music(tmp_path, "one.wav"), _music(tmp_path, "other.wav", seed=2)
    caller = Caller("Ida", "work", person_id=1)
    with transaction() as session:
        uploads = [keep_upload(session, path, path.name, who="Ida", now=NOW).id for path in (one, one, other)]
        size = held_by(session, "Ida")
    assert 0 < size < 0.9 * (one.stat().st_size + other.stat().st_size)
    _rule(person=size / 1e9 + 1e-4)
    third = _music(tmp_path, "third.wav", seed=3)
    with pytest.raises(QuotaReached, match="files of Ida take"), transaction() as session:
        keep_upload(session, third, "third.wav", who="Ida", now=NOW)
    with transaction() as session:
        keep_upload(session, third, "third.wav", who="Ben", now=NOW)  # each has their own
        pair = compare_uploads(session, uploads[0], uploads[2], CompareOptions(), now=NOW).id
    with pytest.raises(NotAllowed), transaction() as session:
        delete_pair(session, pair, Caller("Ben", "work", person_id=2))
    drain()
    with transaction() as session:
        delete_pair(session, pair, caller)
    drain()
    with transaction() as session:
        assert 0 < held_by(session, "Ida") < size  # its first file is another upload's as well
        keep_upload(session, third, "third.wav", who="Ida", now=NOW)
    assert drop_unused(datetime.now(UTC) + GRACE).pieces == 1
    with transaction() as session:
        assert session.scalar(text("SELECT count(*) FROM analysis")) == 0
    _rule(whole=0.001)
    with transaction() as session:
        store_content(session, ArraySource(np.random.default_rng(4).uniform(-1, 1, (200_000, 2)), 48_000),
                      ENCODINGS["FLOAT"])  # fmt: skip
    with pytest.raises(StorageFull, match="administrators allow"), transaction() as session:
        keep_upload(session, one, "one.wav", who="Ben", now=NOW)


@pytest.mark.parametrize("wrong", [(0, None, None), (None, 0.0, None), (None, None, float("nan"))])
def test_a_rule_without_sense_is_refused(empty: str, wrong: tuple[int | None, float | None, float | None]) -> None:
    with pytest.raises(BadParameter), transaction() as session:
        set_rule(session, *wrong, who="Nora F.", now=NOW)


@pytest.fixture
def store(monkeypatch: pytest.MonkeyPatch) -> objects.ObjectStore:  # type: ignore[misc]
    """An object store on this machine that speaks the protocol, empty."""
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    host, port = server.get_host_and_port()
    for name, value in {
        "AWS_ENDPOINT_URL_S3": f"http://{host}:{port}", "AWS_ACCESS_KEY_ID": "key", "AWS_SECRET_ACCESS_KEY": "secret",
        "AWS_REGION": "us-east-1", "AWS_DEFAULT_REGION": "us-east-1", objects.STORE_VARIABLE: "s3://bucket/audio",
    }.items():  # fmt: skip
        monkeypatch.setenv(name, value)
    objects._opened.cache_clear()
    opened = objects.object_store()
    assert opened is not None
    opened._client.create_bucket(Bucket="bucket")
    yield opened
    objects._opened.cache_clear()
    server.stop()


def test_audio_is_kept_in_an_object_store_read_by_ranges_and_moves_back(
    empty: str, store: objects.ObjectStore, monkeypatch: pytest.MonkeyPatch
) -> None:
    samples = np.random.default_rng(5).uniform(-1, 1, (200_000, 2)).astype("<f4").astype(float)
    with transaction() as session:
        digest = store_content(session, ArraySource(samples, 48_000), ENCODINGS["FLOAT"], brought_by="Ida").sha256
    assert query(empty, "SELECT count(*) FROM chunk WHERE data IS NOT NULL") == [(0,)]
    asked: list[tuple[int, int]] = []
    read = store.read
    monkeypatch.setattr(store, "read", lambda key, start, stop: asked.append((start, stop)) or read(key, start, stop))  # type: ignore[func-returns-value]

    def same() -> bool:
        with transaction() as session:
            content = find_content(session, digest)
            parts = [(0, 200_000), (70_000, 70_010), (65_530, 65_540), (131_072, 131_073)]
            return all(
                np.array_equal(BlobSource(session, content).read(*part), samples[slice(*part)]) for part in parts
            )

    assert same()
    whole = int(str(query(empty, "SELECT bytes FROM content")[0][0]))
    assert asked[0] == (0, whole)
    assert max(stop - start for start, stop in asked[1:]) < whole * 0.7  # one or two of four chunks
    assert move_audio("database") == 1
    assert same()
    assert [*store.keys(datetime.now(UTC) + timedelta(days=1))] == []
    assert move_audio("objects") == 1
    assert same()
    store.put("left-over", io.BytesIO(b"audio"))
    assert sweep_objects(datetime.now(UTC)) == 0  # it may belong to a transaction that is under way
    assert sweep_objects(datetime.now(UTC) + timedelta(days=2)) == 1
    assert same()
    assert drop_unused(NOW).pieces == 0  # somebody may be about to use it
    assert drop_unused(NOW + GRACE).pieces == 1
    assert [*store.keys(datetime.now(UTC) + timedelta(days=1))] == []
    with pytest.raises(AudioDropped), transaction() as session:
        BlobSource(session, find_content(session, digest)).read(0, 1)


def test_an_object_store_that_is_away_loses_nothing(empty: str, store: objects.ObjectStore) -> None:
    store._bucket = "no-such-bucket"
    with pytest.raises(objects.ObjectStoreUnavailable), transaction() as session:
        store_content(session, ArraySource(np.ones((10, 1)), 48_000), ENCODINGS["FLOAT"])
    assert query(empty, "SELECT count(*) FROM content") == [(0,)]


def test_audio_of_older_versions_is_packed_in_place(demo: str) -> None:
    with transaction() as session:
        content = session.scalars(select(Content).where(Content.frames > 70_000).order_by(Content.sha256)).first()
        assert content is not None
        digest, source = content.sha256, BlobSource(session, content)
        samples = source.read(0, content.frames)
        session.execute(text("DELETE FROM chunk WHERE sha256 <> :digest"), {"digest": digest})
        from kind_echo.audio_io.encoding import encode

        for position, start in enumerate(range(0, content.frames, content.chunk_frames)):
            data = encode(samples[start : start + content.chunk_frames], source.encoding)
            session.execute(
                text("UPDATE chunk SET data = :data, length = :length, packing = 'none' "
                     "WHERE sha256 = :digest AND position = :position"),
                {"data": data, "length": len(data), "digest": digest, "position": position},
            )  # fmt: skip
        session.execute(text("UPDATE content SET bytes = (SELECT sum(length) FROM chunk) WHERE sha256 = :digest"),
                        {"digest": digest})  # fmt: skip
        before = what_takes_space(session)
    assert pack_audio() > 0
    with transaction() as session:
        assert content_digest(BlobSource(session, find_content(session, digest)), source.encoding) == digest
        assert what_takes_space(session).parts[0].bytes < before.parts[0].bytes
        held = session.scalar(text("SELECT sum(length) FROM chunk"))
        assert session.get_one(Content, digest).bytes == held
        assert find_build(session, find_plan(session, "Null regression"), "2.0.3") is not None


def test_a_file_that_is_the_signal_of_a_cell_stays_when_its_comparison_goes(demo: str) -> None:
    with transaction() as session:
        cell = session.scalars(select(Cell).where(Cell.analysis_key.is_not(None))).first()
        assert cell is not None
        assert cell.analysis is not None
        signal = ArraySource(np.linspace(-1, 1, 1000).reshape(-1, 1), 48_000)
        digest = store_content(session, signal, ENCODINGS["DOUBLE"], brought_by="Ida").sha256
        cell.analysis.reference_sha256 = digest  # she had uploaded it first, and has deleted that since
    drop_unused(NOW)
    drop_unused(NOW + 2 * GRACE)
    with transaction() as session:
        assert find_content(session, digest).dropped_at is None


def _clips(session: Session) -> set[str]:
    sides = session.scalars(select(ListeningTest.sides)).all()
    return {side["sha256"] for one in sides for side in one}


def _tested(session: Session, one: str, other: str) -> int:
    """A listening test of two pieces of audio from their first frame on, whose clips are that audio to the bit."""
    asked = ListeningRequest("as rendered", "none", "whole", snap=False)
    specs = [(one, "one"), (other, "other")]
    return new_test(session, specs, asked, Method("abx", 5), name="Which?", who="Ida", now=NOW).id


def test_deleting_a_comparison_leaves_the_clips_of_a_listening_test(empty: str) -> None:
    caller, rng = Caller("Ida", "work", person_id=1), np.random.default_rng(6)
    with transaction() as session:
        files = []
        for _ in range(2):  # the cross-fade of a loop changes nothing where a file begins with silence
            samples = rng.uniform(-0.5, 0.5, (48_000, 2)).astype("<f4").astype(float)
            samples[:480] = 0.0
            files.append(ArraySource(samples, 48_000))
        contents = [store_content(session, file, ENCODINGS["FLOAT"], brought_by="Ida") for file in files]
        uploads = [
            Upload(name="one.wav", file_sha256="0" * 64, subtype="FLOAT", content_sha256=content.sha256,
                   uploaded_at=NOW, brought_by="Ida")
            for content in contents
        ]  # fmt: skip
        session.add_all(uploads)
        session.flush()
        pair = compare_uploads(session, uploads[0].id, uploads[1].id, CompareOptions(), now=NOW).id
        test = _tested(session, *(content.sha256 for content in contents))
        digests = {content.sha256 for content in contents}
        sitting = begin(session, test, who="Ida", now=NOW)
        secret = under_way(session, sitting).slots[0].secret
    drain()
    with transaction() as session:
        shared = _clips(session) & digests
        delete_pair(session, pair, caller)
    drain()
    drop_unused(datetime.now(UTC) + 2 * GRACE)
    assert shared, "the case is only made where a clip is the file itself"
    with transaction() as session:
        assert all(find_content(session, digest).dropped_at is None for digest in _clips(session))
        assert len(clip_bytes(session, secret, "Ida")) == 48_000 * 2 * 4
        with pytest.raises(NotAllowed):
            delete_test(session, test, Caller("Ben", "work", person_id=2), NOW)
        delete_test(session, test, caller, NOW)
        assert session.scalar(text("SELECT detail->>'name' FROM event ORDER BY id DESC LIMIT 1")) == "Which?"
    drop_unused(datetime.now(UTC))
    with transaction() as session:
        assert held_by(session, "Ida") == 0
    assert drop_unused(datetime.now(UTC) + 2 * GRACE).pieces == len(digests)


def test_the_rule_for_runs_leaves_the_clips_of_a_listening_test(demo: str) -> None:
    with transaction() as session:
        droppable = session.scalars(_droppable(1).with_only_columns(Content.sha256).limit(2)).all()
        test = ListeningTest(
            kind="abx", name="Which?", made_by="Ida", made_at=NOW, alike="", rate=48_000, channels=1, start=0, stop=1,
            sides=[{"sha256": droppable[0], "name": "one"}], options={},
        )  # fmt: skip
        session.add(test)
    _rule(keep_runs=1)
    drop_audio(NOW)
    with transaction() as session:
        assert find_content(session, droppable[0]).dropped_at is None
        assert find_content(session, droppable[1]).dropped_at == NOW


def test_clips_count_to_the_files_of_who_makes_a_test(empty: str) -> None:
    rng = np.random.default_rng(7)
    with transaction() as session:
        one, other = (
            store_content(session, ArraySource(rng.uniform(-1, 1, (400_000, 2)), 48_000), ENCODINGS["DOUBLE"]).sha256
            for _ in range(2)
        )
    _rule(person=0.001)
    with pytest.raises(QuotaReached), transaction() as session:
        _tested(session, one, other)
    _rule()
    with transaction() as session:
        _tested(session, one, other)
        assert held_by(session, "Ida") > 1_000_000
    _rule(whole=0.001)
    with pytest.raises(StorageFull), transaction() as session:
        _tested(session, one, other)


def test_every_column_that_refers_to_audio_is_known(demo: str, tmp_path: Path) -> None:
    """By the models: keys to the table of audio; by a database that is full: columns that hold its digests."""
    known = set(USES) | PARTS_OF_AUDIO
    keys = {
        f"{table.name}.{column.name}"
        for table in Base.metadata.tables.values()
        for column in table.columns
        if any(key.target_fullname == "content.sha256" for key in column.foreign_keys)
        or column.name in ("sha256", "content_sha256", "contents")
    }
    assert keys <= known
    with transaction() as session:
        some = session.scalars(select(Content.sha256).limit(2)).all()
        session.add(Delivery(cell_id=session.scalars(select(Cell.id)).first(), contents=[*some], facts={}))
        request = {"kind": "file", "sha256": some[0]}
        session.add(Signal(name="a file", request=request))
        keep_upload(session, _music(tmp_path, "one.wav", seconds=0.1), "one.wav", who="Ida", now=NOW)
        session.flush()
        digests = set(session.scalars(select(Content.sha256)))
        holding = set()
        for table in Base.metadata.tables.values():
            for column in table.columns:
                if isinstance(column.type, LargeBinary):
                    continue  # samples and documents that are packed
                found = session.scalars(
                    text(f'SELECT DISTINCT (regexp_matches("{column.name}"::text, \'[0-9a-f]{{64}}\', \'g\'))[1] '
                         f'FROM "{table.name}" WHERE "{column.name}"::text ~ \'[0-9a-f]{{64}}\'')
                )  # fmt: skip
                if digests & set(found):
                    holding.add(f"{table.name}.{column.name}")
        session.rollback()
    assert holding <= known
    assert holding >= {"render.content_sha256", "listening_test.sides", "delivery.contents", "signal.request"}
