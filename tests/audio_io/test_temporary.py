"""A full disk for temporary files is told as one, by a file system that is really full; so is a broken decoder."""

import os
import subprocess
import tempfile
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from sqlalchemy import text

from kind_echo.audio_io import decoding
from kind_echo.audio_io.decoding import Decoder, DecoderBroken, Most
from kind_echo.audio_io.files import UnreadableAudio
from kind_echo.audio_io.temporary import NoTemporarySpace
from kind_echo.bench.signals import compare_uploads, keep_upload
from kind_echo.core.comparison.pair import CompareOptions
from kind_echo.database.sessions import is_temporary, transaction
from kind_echo.web.app import create_app
from kind_echo.web.http.problems import status_of
from tests.conftest import drain, query
from tests.signing import sign

MOST = Most(8, 3600.0)
NOW = datetime(2026, 11, 29, tzinfo=UTC)


@pytest.fixture
def small_disk(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """Four megabytes for temporary files, which a process fills with one file of as many."""
    folder = tmp_path / "small"
    folder.mkdir()
    rights = [] if os.geteuid() == 0 else ["sudo", "-n"]  # as setting up this project needs them
    owner = f"size=4m,uid={os.getuid()}"
    subprocess.run([*rights, "mount", "-t", "tmpfs", "-o", owner, "none", str(folder)], check=True)
    monkeypatch.setattr(tempfile, "tempdir", str(folder))
    monkeypatch.setenv("TMPDIR", str(folder))
    yield folder
    monkeypatch.undo()
    subprocess.run([*rights, "umount", "-l", str(folder)], check=True)


def _sound(path: Path, seconds: float, seed: int = 1) -> Path:
    noise = np.random.default_rng(seed).uniform(-0.5, 0.5, (round(seconds * 48_000), 2))
    soundfile.write(path, noise, 48_000, subtype="FLOAT")
    return path


def test_a_file_that_finds_no_space_is_not_to_blame(small_disk: Path, tmp_path: Path) -> None:
    path = _sound(tmp_path / "a.wav", 15.0)
    with Decoder() as decoder:
        with pytest.raises(NoTemporarySpace) as full, decoder.decoded(path, "a.wav", MOST):
            pass
        assert (status_of(full.value), is_temporary(full.value)) == (507, True)
        with decoder.decoded(_sound(tmp_path / "b.wav", 0.5), "b.wav", MOST) as audio:  # and the next is read
            assert audio.frames == 24_000


@pytest.mark.usefixtures("small_disk")
def test_an_upload_that_finds_no_space_is_told_so_and_nothing_is_kept(empty: str, tmp_path: Path) -> None:
    answer: Any = sign(create_app().test_client(), "Ida", "work").post(
        "/api/uploads?name=a.wav", data=_sound(tmp_path / "a.wav", 15.0).read_bytes()
    )
    assert (answer.status_code, answer.json["title"]) == (507, "NoTemporarySpace")
    assert "when there is space" in answer.json["detail"]
    assert query(empty, "SELECT count(*) FROM upload") == [(0,)]


def test_a_comparison_waits_until_there_is_space_and_says_so(
    empty: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from kind_echo.bench.jobs import handlers

    with transaction() as session:
        uploads = [
            keep_upload(session, _sound(tmp_path / f"{seed}.wav", 1.0, seed), f"{seed}.wav", who="Ida", now=NOW).id
            for seed in (1, 2)
        ]
        compare_uploads(session, uploads[0], uploads[1], CompareOptions(), now=NOW)
    full = OSError(28, os.strerror(28))

    def analyse(*_: object) -> Any:
        raise full

    monkeypatch.setattr(handlers, "analyse", analyse)
    for _ in range(6):  # more often than a job is tried that breaks by itself
        drain()
        assert query(empty, "SELECT state, why FROM pair") == [
            ("analysing", "It waits until there is space on the disk for temporary files")
        ]
        with transaction() as session:
            session.execute(text("UPDATE procrastinate_jobs SET scheduled_at = now() WHERE status = 'todo'"))
    monkeypatch.undo()
    drain()
    assert query(empty, "SELECT state, why FROM pair") == [("done", "")]


@pytest.mark.parametrize("broken", ["import of", "no such program"])
def test_a_decoder_that_cannot_start_says_so_and_blames_no_file(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, broken: str
) -> None:
    path = _sound(tmp_path / "a.wav", 0.1)
    if broken == "no such program":
        monkeypatch.setattr(decoding.sys, "executable", str(tmp_path / "no python"))  # type: ignore[attr-defined]
    else:
        wrapper = tmp_path / "python"
        wrapper.write_text('#!/bin/sh\necho "ImportError: libsndfile.so.1 is missing" >&2\nexit 1\n')
        wrapper.chmod(0o755)
        monkeypatch.setattr(decoding.sys, "executable", str(wrapper))  # type: ignore[attr-defined]
    with Decoder() as decoder, pytest.raises(DecoderBroken) as wrong, decoder.decoded(path, "a.wav", MOST):
        pass
    assert status_of(wrong.value) == 503
    assert "a.wav" not in str(wrong.value)
    assert ("libsndfile.so.1 is missing" in str(wrong.value)) or broken == "no such program"
    monkeypatch.undo()
    (tmp_path / "text.wav").write_text("no audio")
    with Decoder() as decoder, pytest.raises(UnreadableAudio), decoder.decoded(tmp_path / "text.wav", "x", MOST):
        pass
