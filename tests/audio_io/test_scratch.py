"""Audio in a temporary file: the same samples, gone once it is closed; without room it stays where it is."""

import errno
import shutil
from contextlib import ExitStack
from typing import Any

import numpy as np
import pytest

from kind_echo.audio_io import scratch
from kind_echo.audio_io.encoding import ENCODINGS, decode, encode
from kind_echo.audio_io.scratch import ScratchSource, to_scratch
from kind_echo.core.audio.source import ArraySource, Derived
from kind_echo.database.blobs import BlobSource, store_content
from kind_echo.database.sessions import transaction

RATE = 48_000


class _NotHeld(Derived):
    """A source that is read, as of a file."""

    def read(self, start: int, stop: int) -> Any:
        return self.source.read(start, stop)


def _source(frames: int = 600_000) -> _NotHeld:
    return _NotHeld(ArraySource(np.random.default_rng(3).standard_normal((frames, 3)), RATE, 2.0**-20, 0.9))


@pytest.mark.parametrize("name", ENCODINGS)
def test_kept_audio_of_any_word_length_is_the_same_in_scratch(empty: str, name: str) -> None:
    words = np.random.default_rng(1).uniform(-1, 1, (300_000, 2))
    words[7] = [1.0, -1.0]
    samples = decode(encode(words, ENCODINGS[name]), ENCODINGS[name], 2)
    with transaction() as session, ExitStack() as until:
        blob = BlobSource(session, store_content(session, ArraySource(samples, RATE), ENCODINGS[name]))
        found = to_scratch(blob, until)
        assert isinstance(found, ScratchSource)
        assert (found.half_step, found.rail, found.rate) == (blob.half_step, blob.rail, RATE)
        for start, stop in ((0, 300_000), (262_100, 262_200), (5, 6), (299_999, 300_000), (4, 4), (100, 50_000)):
            part = found.read(start, stop)
            assert np.array_equal(part, samples[start:stop])
            part[:] = 0.0  # what was read belongs to the reader
    assert found.file.closed


def test_what_is_in_memory_stays_there() -> None:
    held = ArraySource(np.zeros((9, 1)), RATE)
    with ExitStack() as until:
        assert to_scratch(held, until) is held


def test_without_room_audio_is_read_where_it_is(monkeypatch: pytest.MonkeyPatch) -> None:
    source = _source()
    with ExitStack() as until:
        usage = shutil.disk_usage("/")
        monkeypatch.setattr(scratch.shutil, "disk_usage", lambda _: usage._replace(free=2 * 600_000 * 3 * 8 - 1))  # type: ignore[attr-defined]
        assert to_scratch(source, until) is source
        monkeypatch.setattr(scratch.shutil, "disk_usage", lambda _: usage._replace(free=2 * 600_000 * 3 * 8))  # type: ignore[attr-defined]
        assert isinstance(to_scratch(source, until), ScratchSource)


def test_a_disk_that_fills_up_meanwhile_loses_nothing(monkeypatch: pytest.MonkeyPatch) -> None:
    class Full:
        """A file on a disk that takes one block and no more."""

        size, taken = 0, 0

        def write(self, data: memoryview) -> None:
            self.taken += 1
            self.size += data.nbytes
            if self.taken == 2:
                raise OSError(errno.ENOSPC, "No space left on device")

        def flush(self) -> None:
            pass

        def truncate(self, size: int) -> None:
            self.size = size

        def __enter__(self) -> "Full":
            return self

        def __exit__(self, *_: object) -> None:
            pass

    file, source = Full(), _source()
    monkeypatch.setattr(scratch.tempfile, "TemporaryFile", lambda: file)  # type: ignore[attr-defined]
    with ExitStack() as until:
        assert to_scratch(source, until) is source
    assert (file.taken, file.size) == (2, 0)
