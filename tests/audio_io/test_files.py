"""Audio files and audio in the database: nothing is lost, nothing is read that is not needed."""

import os
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from sqlalchemy import event, func, select

from kind_echo.audio_io.encoding import ENCODINGS, decode, encode
from kind_echo.audio_io.files import AudioFile, UnreadableAudio, write_audio
from kind_echo.audio_io.temporary import sweep_temporary, temporary_folder
from kind_echo.core.audio.source import ArraySource, in_memory
from kind_echo.database.blobs import BlobSource, store_content
from kind_echo.database.models import Chunk, Content
from kind_echo.database.sessions import engine, transaction
from kind_echo.database.waveforms import read_columns


def _noise(frames: int, channels: int = 2) -> Any:
    return np.random.default_rng(6).uniform(-1, 1, (frames, channels))


@pytest.mark.parametrize(("name", "code"), [("PCM_16", 1 << 15), ("PCM_24", 1 << 23), ("PCM_32", 1 << 31)])
def test_full_scale_is_the_greatest_code_on_either_side(name: str, code: int) -> None:
    """Two's complement holds one negative code more: −1.0 is held exactly, +1.0 one step short of it."""
    data = encode(np.array([[-1.0], [-2.0], [1.0], [0.0]]), ENCODINGS[name])
    width = ENCODINGS[name].width
    words = [int.from_bytes(data[i : i + width], "little", signed=True) for i in range(0, len(data), width)]
    assert words == [-code, -code, code - 1, 0]


@pytest.mark.parametrize("name", ENCODINGS)
def test_encoding_and_decoding_loses_nothing_that_the_word_length_holds(name: str) -> None:
    encoding = ENCODINGS[name]
    samples = decode(encode(_noise(1000), encoding), encoding, 2)
    assert np.array_equal(decode(encode(samples, encoding), encoding, 2), samples)
    assert np.abs(samples - _noise(1000)).max() <= max(encoding.half_step, 2**-24) * 1.0001


@pytest.mark.parametrize(("subtype", "rail"), [("PCM_16", 1 - 2**-15), ("PCM_24", 1 - 2**-23), ("FLOAT", 1.0)])
def test_a_file_knows_its_rail_and_its_step(tmp_path: Path, subtype: str, rail: float) -> None:
    path = tmp_path / "a.wav"
    soundfile.write(path, np.ones((64, 1)), 48_000, subtype=subtype)
    with AudioFile(path) as file:
        assert file.rail == rail
        assert file.read(0, 1)[0, 0] == pytest.approx(rail, abs=1e-9)


@pytest.mark.parametrize("subtype", ["PCM_U8", "PCM_16", "PCM_24", "PCM_32", "FLOAT", "DOUBLE"])
def test_32_bits_are_read_only_where_they_hold_every_sample(tmp_path: Path, subtype: str) -> None:
    path = tmp_path / "a.wav"
    soundfile.write(path, _noise(70_000), 48_000, subtype=subtype)
    with AudioFile(path) as file:
        assert file.is_single == (subtype not in ("PCM_32", "DOUBLE"))
        exact = np.array_equal(file.read_single(5, 69_000).astype(np.float64), file.read(5, 69_000))
        assert exact == file.is_single
        assert file.read_encoded(5, 69_000) == encode(file.read(5, 69_000), file.encoding)
        assert np.array_equal(in_memory(file).read(0, 70_000), file.read(0, 70_000))


@pytest.mark.parametrize("kind", ["wav", "flac", "aiff", "w64", "caf"])
def test_a_truncated_file_is_refused_and_says_so(tmp_path: Path, kind: str) -> None:
    path = tmp_path / f"a.{kind}"
    soundfile.write(path, _noise(48_000), 48_000, subtype="PCM_16")
    path.write_bytes(path.read_bytes()[: path.stat().st_size * 2 // 3])
    with pytest.raises(UnreadableAudio, match=r"breaks off|format is not known"), AudioFile(path) as file:
        file.read(0, file.frames)


def test_equal_audio_is_kept_once_and_a_range_reads_no_more_than_it_needs(empty: str) -> None:
    samples = _noise(300_000)
    with transaction() as session:
        kept = [store_content(session, ArraySource(samples, 48_000), ENCODINGS["FLOAT"]).sha256 for _ in range(2)]
        assert kept[0] == kept[1]
        assert session.scalar(select(func.count()).select_from(Chunk)) == 5
    statements: list[str] = []

    def remember(_connection: Any, _cursor: Any, statement: str, parameters: Any, *_: Any) -> None:
        if "substring" in statement:
            statements.append(str(parameters))

    event.listen(engine(), "before_cursor_execute", remember)
    with transaction() as session:
        part = BlobSource(session, session.get_one(Content, kept[0])).read(70_000, 70_010)
    event.remove(engine(), "before_cursor_execute", remember)
    assert np.array_equal(part, samples[70_000:70_010].astype("f4").astype(float))
    assert len(statements) == 1
    assert "80" in statements[0]  # ten frames of two 4-byte samples


@pytest.mark.parametrize("name", ENCODINGS)
def test_reads_that_overlap_or_go_back_give_the_samples_and_unpack_no_chunk_anew(
    empty: str, monkeypatch: pytest.MonkeyPatch, name: str
) -> None:
    samples = decode(encode(_noise(400_000), ENCODINGS[name]), ENCODINGS[name], 2)
    fetched: list[int] = []
    with transaction() as session:
        blob = BlobSource(session, store_content(session, ArraySource(samples, 48_000), ENCODINGS[name]))
        chunks = blob._chunks
        monkeypatch.setattr(blob, "_chunks", lambda first, last, *part: fetched.extend(range(first, last + 1))  # type: ignore[func-returns-value]
                            or chunks(first, last, *part))  # fmt: skip
        for start in range(0, 400_000, 65_536):  # as a walk reads that looks a little beyond each block
            begin, stop = max(0, start - 200), min(start + 65_736, 400_000)
            assert np.array_equal(blob.read(begin, stop), samples[begin:stop])
        assert fetched == list(range(7))
        for begin, stop in ((0, 400_000), (131_000, 131_100), (5, 70_000), (399_999, 400_000), (60_000, 330_000)):
            assert np.array_equal(blob.read(begin, stop), samples[begin:stop])


@pytest.mark.parametrize("name", ENCODINGS)
def test_kept_audio_is_read_in_32_bits_only_where_they_hold_it(empty: str, name: str) -> None:
    encoding = ENCODINGS[name]
    samples = decode(encode(_noise(200_000), encoding), encoding, 2)
    with transaction() as session:
        kept = store_content(session, ArraySource(samples, 48_000), encoding)
        blob = BlobSource(session, kept)
        assert blob.is_single == np.array_equal(samples.astype(np.float32), samples)
        # Whole chunks, the last of them, parts, nothing: borders lie at multiples of 65 536.
        for start, stop in ((0, 131_072), (131_072, 200_000), (0, 200_000), (65_535, 65_537), (9, 131_072), (4, 4)):
            assert np.array_equal(blob.read_single(start, stop), samples[start:stop].astype(np.float32))
        assert np.array_equal(in_memory(blob).read(0, 200_000), samples)


def test_a_waveform_of_many_frames_is_read_from_peaks(empty: str) -> None:
    samples = _noise(300_000, 1)
    with transaction() as session:
        content = store_content(session, ArraySource(samples, 48_000), ENCODINGS["FLOAT"])
        bins = read_columns(session, content.sha256, BlobSource(session, content), 0, 300_000, 100)
    assert bins.shape == (100, 1, 2)
    assert bins[:, 0, 1].max() == pytest.approx(samples.max(), abs=1e-6)
    assert bins[:, 0, 0].min() == pytest.approx(samples.min(), abs=1e-6)


@pytest.mark.parametrize("suffix", ["wav", "flac", "aiff"])
@pytest.mark.parametrize("bits", [16, 24])
def test_an_integer_file_holds_the_very_steps_up_to_the_rails(tmp_path: Path, bits: int, suffix: str) -> None:
    """What lies on the grid of a word length comes back to the bit, −1 and 1 − one step among it."""
    grid = np.random.default_rng(1).integers(-(2 ** (bits - 1)), 2 ** (bits - 1), (5000, 2)) / 2.0 ** (bits - 1)
    grid[:2, 0] = -1.0, 1.0 - 2.0 ** (1 - bits)
    path = tmp_path / f"grid.{suffix}"
    write_audio(path, grid, 48_000, f"PCM_{bits}")
    with AudioFile(path) as audio:
        assert np.array_equal(audio.read(0, 5000), grid)
    write_audio(path, np.full((4, 1), 1.5), 48_000, f"PCM_{bits}")
    with AudioFile(path) as audio:
        assert np.array_equal(audio.read(0, 4), np.full((4, 1), 1.0 - 2.0 ** (1 - bits)))


def test_what_a_killed_process_left_behind_is_removed_and_nothing_else(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    write = "import sys; from kind_echo.audio_io.temporary import temporary_folder as t; f = t(); print(f.name); "
    kill = "sys.stdout.flush(); import os; os.kill(os.getpid(), 9)"
    subprocess.run([sys.executable, "-c", write + kill], env=os.environ | {"TMPDIR": str(tmp_path)}, check=False)
    (tmp_path / "kind-echo-other").mkdir()
    with temporary_folder() as own:
        assert len(list(tmp_path.iterdir())) == 3
        assert sweep_temporary() == 1
        assert {path.name for path in tmp_path.iterdir()} == {"kind-echo-other", Path(own).name}
