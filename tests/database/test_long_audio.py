"""Files beyond the border at which a source is held in memory are read block by block, and compared the same way."""

import numpy as np
import pytest

from kind_echo.audio_io.encoding import ENCODINGS
from kind_echo.bench.comparisons import analyse
from kind_echo.bench.documents import reading_from
from kind_echo.core.audio import source
from kind_echo.core.audio.source import ArraySource, in_memory
from kind_echo.core.comparison.pair import CompareOptions
from kind_echo.core.registry.readings import value_of
from kind_echo.database.blobs import BlobSource, find_content, store_content
from kind_echo.database.sessions import transaction


def test_a_blob_is_read_at_numpys_integers_as_at_pythons(empty: str) -> None:
    """PostgreSQL has no substring of bytes for bigint, which is what NumPy's integers are sent as."""
    samples = np.random.default_rng(2).uniform(-0.5, 0.5, (200_000, 2))
    with transaction() as session:
        stored = store_content(session, ArraySource(samples, 48_000), ENCODINGS["PCM_24"])
        blob = BlobSource(session, find_content(session, stored.sha256))
        for start, stop in ((70_000, 70_100), (60_000, 140_000), (5, 5)):
            plain = blob.read(start, stop)
            assert (blob.read(np.int64(start), np.int64(stop)) == plain).all()  # type: ignore[arg-type]
            assert len(plain) == stop - start


def test_a_pair_that_is_not_held_in_memory_is_compared_as_one_that_is(
    empty: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Noise on both sides of a border that is an eighth of the real one; `benchmarks.long_pair` has an hour."""
    monkeypatch.setattr(source, "HELD_BYTES", source.HELD_BYTES // 8)
    border = source.HELD_BYTES // 8
    rng = np.random.default_rng(4)
    sound = (rng.integers(-3000, 3000, (border + 24_000, 1)) / 32768).astype(np.float32)
    for frames in (800_000, border + 24_000):
        part = sound[:frames]
        late = np.concatenate([np.zeros((12, 1), np.float32), part[:-12] / 2])
        with transaction() as session:
            contents = [store_content(session, ArraySource(side, 8_000), ENCODINGS["PCM_24"]) for side in (part, late)]
            held = in_memory(BlobSource(session, contents[0]))
            assert isinstance(held, ArraySource) == (frames < border)
            found = analyse(session, contents[0], contents[1], CompareOptions())
            readings = [reading_from(document) for document in found.readings]
            assert value_of(readings, "delay") == 12.0
            gain = value_of(readings, "gain")
            assert gain is not None
            assert abs(gain + 6.0206) < 0.001
