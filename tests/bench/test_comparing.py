"""Many renders laid over one reference: it is read once, and forgotten when its audio is dropped."""

from datetime import UTC, datetime

import numpy as np
import pytest

from kind_echo.audio_io.encoding import ENCODINGS
from kind_echo.bench.comparisons import analyse, analysing, spectrum_document
from kind_echo.bench.documents import reading_from
from kind_echo.core.audio.source import ArraySource, Source, in_memory
from kind_echo.core.comparison.pair import CompareOptions
from kind_echo.core.registry.readings import value_of
from kind_echo.database.blobs import AudioDropped, BlobSource, find_content, store_content
from kind_echo.database.sessions import transaction

R = 48_000


def _keep(samples: np.ndarray) -> str:
    with transaction() as session:
        return store_content(session, ArraySource(samples, R), ENCODINGS["PCM_24"]).sha256


def test_a_reference_is_read_once_for_all_of_its_renders(empty: str, monkeypatch: pytest.MonkeyPatch) -> None:
    read: list[str] = []

    def counted(source: Source) -> Source:
        if isinstance(source, BlobSource):
            read.append(source.sha256)
        return in_memory(source)

    monkeypatch.setattr(analysing, "in_memory", counted)
    sound = np.random.default_rng(8).normal(size=(R, 1)) * 0.1
    reference, softer, softest = (_keep(sound * gain) for gain in (1.0, 0.5, 0.25))
    gains = []
    for render in (softer, softest):
        with transaction() as session:
            contents = [find_content(session, sha256) for sha256 in (reference, render)]
            found = analyse(session, contents[0], contents[1], CompareOptions())
            gains.append(value_of([reading_from(one) for one in found.readings], "gain"))
            for side, content in zip(("reference", "render"), contents, strict=True):
                assert found.spectra[side] == spectrum_document(BlobSource(session, content))
    assert read == [reference, softer, softest]
    assert gains == pytest.approx([-6.0206, -12.0412], abs=1e-3)


def test_a_reference_whose_audio_was_dropped_is_compared_with_nothing_more(empty: str) -> None:
    sound = np.random.default_rng(9).normal(size=(R // 4, 1)) * 0.1
    reference, first, second = (_keep(sound * gain) for gain in (1.0, 0.5, 0.25))
    with transaction() as session:
        analyse(session, find_content(session, reference), find_content(session, first), CompareOptions())
        find_content(session, reference).dropped_at = datetime.now(UTC)
    with transaction() as session, pytest.raises(AudioDropped):
        analyse(session, find_content(session, reference), find_content(session, second), CompareOptions())
