"""Audio that is kept: content addressed, packed without loss, read by range; in the database or an object store."""

import hashlib
import secrets
import tempfile
from collections.abc import Iterator
from datetime import datetime

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Row, case, func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from kind_echo.audio_io.encoding import ENCODINGS, Encoding, decode, encoded
from kind_echo.audio_io.packing import pack, unpack_samples, unpack_single
from kind_echo.core.audio.source import Samples, Source
from kind_echo.core.registry.errors import NotFound
from kind_echo.database.models import Chunk, Content
from kind_echo.database.objects import NoObjectStore, ObjectStore, object_store
from kind_echo.database.waveforms import store_peaks

CHUNK_FRAMES = 1 << 16
_Chunk = Row[int, str, int, int, bytes]  # position, packing, start, length, data
_REMEMBERED = 8 << 20  # bytes of chunks that a source has unpacked: reads overlap, and several walk over it at once
_IN_MEMORY = 16 << 20  # bytes on their way to an object store; more go by way of a file


class ContentNotFound(NotFound):
    """Audio is asked for that is not kept."""

    def __init__(self, sha256: str) -> None:
        self.sha256 = sha256
        super().__init__(f"There is no audio {sha256[:12]} in the database.")


class AudioDropped(NotFound):
    """Samples are asked for of audio that the retention rule dropped; its readings and waveform are still kept."""

    def __init__(self, dropped_at: datetime) -> None:
        self.dropped_at = dropped_at
        super().__init__(
            f"This audio was dropped on {dropped_at:%-d %B %Y} by the rule for storage; its readings are kept."
        )


class BlobSource:
    """Audio that is kept; a Source that reads only the chunks it needs."""

    def __init__(self, session: Session, content: Content) -> None:
        self._session, self._content = session, content
        self._unpacked: dict[int, Samples] = {}  # by position, the one that was read last at the end
        self.encoding: Encoding = ENCODINGS[content.encoding]

    @property
    def sha256(self) -> str:
        """The address of the audio."""
        return self._content.sha256

    @property
    def rate(self) -> int:
        """Frames per second."""
        return self._content.rate

    @property
    def frames(self) -> int:
        """Length in frames."""
        return self._content.frames

    @property
    def channels(self) -> int:
        """Number of channels."""
        return self._content.channels

    @property
    def half_step(self) -> float:
        """Half a quantisation step."""
        return self.encoding.half_step

    @property
    def rail(self) -> float:
        """Greatest positive sample of the word length."""
        return self.encoding.rail

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop. Raises AudioDropped, ObjectStoreUnavailable."""
        # Plain integers: NumPy's are sent to PostgreSQL as bigint, for which substring() of bytes is not defined.
        start, stop = int(start), int(stop)
        if stop <= start:
            return np.zeros((0, self.channels))
        if self._content.dropped_at is not None:
            raise AudioDropped(self._content.dropped_at)
        size, width = self._content.chunk_frames, self.encoding.width * self.channels
        first, last = start // size, (stop - 1) // size
        missing = [position for position in range(first, last + 1) if position not in self._unpacked]
        skip, length = (start - first * size) * width, (stop - start) * width
        part = (skip, length) if first == last else (0, size * width)
        found = self._chunks(missing[0], missing[-1], *part) if missing else []
        if first == last and found and found[0].packing == "none" and self._content.object_key is None:
            return decode(found[0].data, self.encoding, self.channels)
        kind = self.encoding, self.channels
        new = {row.position: unpack_samples(row.packing, data, *kind) for row, data in self._packed(found)}
        pieces = [new[k] if k in new else self._unpacked[k] for k in range(first, last + 1)]
        self._remember(first, pieces)
        places = range(first * size, (last + 1) * size, size)
        wanted = [piece[max(0, start - at) : stop - at] for at, piece in zip(places, pieces, strict=True)]
        return np.concatenate(wanted)  # a copy, for callers change what they have read

    @property
    def is_single(self) -> bool:
        """Whether 32 bits hold every sample exactly."""
        return self.encoding.is_single

    def read_single(self, start: int, stop: int) -> NDArray[np.float32]:
        """As `read`, in 32 bits: exact where `is_single`. Whole chunks are unpacked straight to 32 bits."""
        start, stop, size = int(start), int(stop), self._content.chunk_frames
        whole = start % size == 0 and (stop % size == 0 or stop == self.frames) and start < stop
        if not whole or self._content.dropped_at is not None:
            return self.read(start, stop).astype(np.float32)
        rows = self._chunks(start // size, (stop - 1) // size, 0, size * self.encoding.width * self.channels)
        packed = self._packed(rows)
        return np.concatenate([unpack_single(row.packing, data, self.encoding, self.channels) for row, data in packed])

    def _remember(self, first: int, pieces: list[Samples]) -> None:
        """Keep what was unpacked for the next read: the latest, as many as there is room for, and one at least."""
        for position, piece in enumerate(pieces, first):
            self._unpacked.pop(position, None)
            self._unpacked[position] = piece
        room = _REMEMBERED - sum(piece.nbytes for piece in self._unpacked.values())
        while room < 0 and len(self._unpacked) > 1:
            room += self._unpacked.pop(next(iter(self._unpacked))).nbytes

    def _chunks(self, first: int, last: int, skip: int, length: int) -> list[_Chunk]:
        """Chunks first to last by position; of one that is not packed only `length` bytes after `skip`."""
        # substring() of an EXTERNAL column reads only the pages of that range; PostgreSQL counts bytes from 1.
        data = case((Chunk.packing == "none", func.substring(Chunk.data, skip + 1, length)), else_=Chunk.data)
        rows = self._session.execute(
            select(Chunk.position, Chunk.packing, Chunk.start, Chunk.length, data.label("data"))
            .where(Chunk.sha256 == self.sha256, Chunk.position.between(first, last))
            .order_by(Chunk.position)
        ).all()
        return list(rows)

    def _packed(self, rows: list[_Chunk]) -> list[tuple[_Chunk, bytes]]:
        """Chunks as they are kept, with their bytes; those in an object store are read in one go."""
        key = self._content.object_key
        if key is None or not rows:
            return [(row, row.data) for row in rows]
        store = object_store()
        if store is None:
            raise NoObjectStore
        begin = rows[0].start
        data = store.read(key, begin, rows[-1].start + rows[-1].length)
        return [(row, data[row.start - begin : row.start - begin + row.length]) for row in rows]


def content_digest(source: Source, encoding: Encoding) -> str:
    """SHA-256 of format and samples: equal digests are a perfect null."""
    digest = hashlib.sha256(f"{source.rate}/{source.channels}/{encoding.name}/{source.frames}\n".encode())
    for start in range(0, source.frames, CHUNK_FRAMES):
        digest.update(encoded(source, encoding, start, min(start + CHUNK_FRAMES, source.frames)))
    return digest.hexdigest()


def store_content(session: Session, source: Source, encoding: Encoding, *, brought_by: str = "") -> Content:
    """Keep audio and its waveform; what is there already is not kept twice. May run twice at once without harm.

    Args:
        brought_by: who uploaded it, where somebody did.

    Raises:
        ObjectStoreUnavailable: it is to be kept in an object store that does not answer.
    """
    sha256 = content_digest(source, encoding)
    values = {
        "sha256": sha256, "rate": source.rate, "channels": source.channels, "frames": source.frames,
        "encoding": encoding.name, "chunk_frames": CHUNK_FRAMES, "brought_by": brought_by,
    }  # fmt: skip
    created = session.execute(
        insert(Content).values(values).on_conflict_do_nothing().returning(Content.sha256)
    ).scalar_one_or_none()
    content = find_content(session, sha256)
    if created is None:
        session.refresh(content, with_for_update={"read": True})  # it is not dropped from now on
        if content.unused_since is not None:
            content.unused_since = None
    if created is not None or content.dropped_at is not None:
        keep_samples(session, content, source)
        store_peaks(session, sha256, source)
    return content


def keep_samples(session: Session, content: Content, source: Source) -> None:
    """Keep the samples of a content that has none: packed, where audio is kept now."""
    store = object_store()
    content.object_key, content.dropped_at = None, None
    content.bytes = _to_store(session, content, source, store) if store else _to_database(session, content, source)
    session.flush()


def _to_database(session: Session, content: Content, source: Source) -> int:
    total = 0
    for position, (packing, data) in enumerate(_packed(content, source)):
        row = {"position": position, "packing": packing, "length": len(data), "data": data}
        session.execute(insert(Chunk).values(sha256=content.sha256, **row))
        total += len(data)
    return total


def _to_store(session: Session, content: Content, source: Source, store: ObjectStore) -> int:
    # A key of its own each time: what is deleted after a transaction is never what another has just kept.
    content.object_key = f"{content.sha256}-{secrets.token_hex(4)}"
    with tempfile.SpooledTemporaryFile(_IN_MEMORY) as file:
        for position, (packing, data) in enumerate(_packed(content, source)):
            row = {"position": position, "packing": packing, "start": file.tell(), "length": len(data)}
            session.execute(insert(Chunk).values(sha256=content.sha256, **row))
            file.write(data)
        total = file.tell()
        file.seek(0)
        store.put(content.object_key, file)
    return total


def _packed(content: Content, source: Source) -> Iterator[tuple[str, bytes]]:
    encoding = ENCODINGS[content.encoding]
    for start in range(0, source.frames, content.chunk_frames):
        data = encoded(source, encoding, start, min(start + content.chunk_frames, source.frames))
        yield pack(data, encoding, source.channels)


def find_content(session: Session, sha256: str) -> Content:
    """The content at an address. Raises ContentNotFound."""
    content = session.get(Content, sha256)
    if content is None:
        raise ContentNotFound(sha256)
    return content
