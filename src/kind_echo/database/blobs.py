"""Audio in the database: content addressed, read by range, with waveforms at several resolutions."""

import hashlib

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from kind_echo.audio_io.encoding import ENCODINGS, Encoding, decode, encode
from kind_echo.core.audio import peaks
from kind_echo.core.audio.source import Samples, Source
from kind_echo.core.registry.errors import NotFound
from kind_echo.database.models import Chunk, Content, PeakLevel

CHUNK_FRAMES = 1 << 16


class ContentNotFound(NotFound):
    """Audio is asked for that is not in the database."""

    def __init__(self, sha256: str) -> None:
        self.sha256 = sha256
        super().__init__(f"There is no audio {sha256[:12]} in the database.")


class BlobSource:
    """Audio in the database; a Source that reads only the chunks it needs."""

    def __init__(self, session: Session, content: Content) -> None:
        self._session, self._content = session, content
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
        """Frames start to stop, by byte range."""
        # Plain integers: NumPy's are sent to PostgreSQL as bigint, for which substring() of bytes is not defined.
        start, stop = int(start), int(stop)
        if stop <= start:
            return np.zeros((0, self.channels))
        size, width = self._content.chunk_frames, self.encoding.width * self.channels
        first, last = start // size, (stop - 1) // size
        # substring() of an EXTERNAL column reads only the pages of that range; PostgreSQL counts bytes from 1.
        offset = (start - first * size) * width if first == last else 0
        length = (stop - start) * width if first == last else size * width
        rows = self._session.scalars(
            select(func.substring(Chunk.data, offset + 1, length))
            .where(Chunk.sha256 == self.sha256, Chunk.position.between(first, last))
            .order_by(Chunk.position)
        )
        samples = decode(b"".join(rows), self.encoding, self.channels)
        return samples if first == last else samples[start - first * size : stop - first * size]


def content_digest(source: Source, encoding: Encoding) -> str:
    """SHA-256 of format and samples: equal digests are a perfect null."""
    digest = hashlib.sha256(f"{source.rate}/{source.channels}/{encoding.name}/{source.frames}\n".encode())
    for start in range(0, source.frames, CHUNK_FRAMES):
        digest.update(encode(source.read(start, min(start + CHUNK_FRAMES, source.frames)), encoding))
    return digest.hexdigest()


def store_content(session: Session, source: Source, encoding: Encoding) -> Content:
    """Keep audio and its waveform; what is there already is not kept twice. May run twice at once without harm."""
    sha256 = content_digest(source, encoding)
    values = {
        "sha256": sha256, "rate": source.rate, "channels": source.channels, "frames": source.frames,
        "encoding": encoding.name, "chunk_frames": CHUNK_FRAMES,
    }  # fmt: skip
    created = session.execute(
        insert(Content).values(values).on_conflict_do_nothing().returning(Content.sha256)
    ).scalar_one_or_none()
    if created is not None:
        for position, start in enumerate(range(0, source.frames, CHUNK_FRAMES)):
            data = encode(source.read(start, min(start + CHUNK_FRAMES, source.frames)), encoding)
            session.execute(insert(Chunk).values(sha256=sha256, position=position, data=data))
        store_peaks(session, sha256, source)
    return find_content(session, sha256)


def find_content(session: Session, sha256: str) -> Content:
    """The content at an address. Raises ContentNotFound."""
    content = session.get(Content, sha256)
    if content is None:
        raise ContentNotFound(sha256)
    return content


def store_peaks(session: Session, owner: str, source: Source) -> None:
    """Keep the waveform of a source at all resolutions under an owner's digest."""
    for position, level in enumerate(peaks.build_levels(source)):
        data = level.bins.astype("<f4").tobytes()
        row = {"owner": owner, "position": position, "bins": len(level.bins), "data": data}
        session.execute(insert(PeakLevel).values(row).on_conflict_do_nothing())


def read_columns(session: Session, owner: str, source: Source, start: int, stop: int, columns: int) -> peaks.Bins:
    """Extremes of `columns` equal stretches of start … stop, shape (columns, channels, 2).

    Reads kept peaks where a column spans enough frames, samples otherwise.
    """
    position = peaks.level_for((stop - start) / columns)
    if position is None:
        return peaks.columns_from_samples(source.read(start, stop), columns)
    frames_per_bin = peaks.FINEST * peaks.FACTOR**position
    first, last = start // frames_per_bin, -(-stop // frames_per_bin)
    width = source.channels * 8
    data = session.scalar(
        select(func.substring(PeakLevel.data, first * width + 1, (last - first) * width)).where(
            PeakLevel.owner == owner, PeakLevel.position == position
        )
    )
    if not data:  # a waveform is kept with its audio; where a level is missing, the samples still tell
        return peaks.columns_from_samples(source.read(start, stop), columns)
    bins = np.frombuffer(data, "<f4").reshape(-1, source.channels, 2)
    return peaks.columns_from_bins(bins, first, frames_per_bin, start, stop, columns)
