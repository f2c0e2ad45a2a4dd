"""Moving audio between the database and the object store, and packing what older versions kept as it came."""

import tempfile
from collections.abc import Callable
from secrets import token_hex
from typing import Literal

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from kind_echo.audio_io.encoding import ENCODINGS
from kind_echo.audio_io.packing import pack
from kind_echo.database.models import Chunk, Content
from kind_echo.database.objects import NoObjectStore, ObjectStore, object_store
from kind_echo.database.sessions import transaction

Place = Literal["objects", "database"]
_IN_MEMORY = 16 << 20


def move_audio(to: Place, progress: Callable[[int], None] = lambda _: None) -> int:
    """Move all audio to the object store or to the database, a piece at a time; how many were moved.

    It may be stopped at any time and begun again: a piece is at one place or the other.

    Raises:
        NoObjectStore: none is set up.
        ObjectStoreUnavailable: it does not answer.
    """
    store = object_store()
    if store is None:
        raise NoObjectStore
    moved, last = 0, ""
    there = Content.object_key.is_not(None) if to == "database" else Content.object_key.is_(None)
    while True:
        with transaction() as session:
            wanted = select(Content).where(there, Content.dropped_at.is_(None), Content.sha256 > last)
            content = session.scalar(wanted.order_by(Content.sha256).limit(1).with_for_update())
            if content is None:
                return moved
            last, former = content.sha256, content.object_key
            _to_database(session, content, store) if to == "database" else _to_store(session, content, store)
        if former is not None:
            store.delete([former])
        moved += 1
        progress(moved)


def pack_audio(progress: Callable[[int], None] = lambda _: None) -> int:
    """Pack audio in the database that older versions kept as it came; how many chunks became smaller."""
    packed, last = 0, ("", -1)
    while True:
        with transaction() as session:
            after = (Chunk.sha256 > last[0]) | ((Chunk.sha256 == last[0]) & (Chunk.position > last[1]))
            query = select(Chunk, Content).join(Content, Content.sha256 == Chunk.sha256)
            query = query.where(after, Chunk.packing == "none", Chunk.data.is_not(None))
            row = session.execute(query.order_by(Chunk.sha256, Chunk.position).limit(1)).one_or_none()
            if row is None:
                return packed
            chunk, content = row
            last = chunk.sha256, chunk.position
            how, data = pack(chunk.data or b"", ENCODINGS[content.encoding], content.channels)
            if how == "none":
                continue
            saved = chunk.length - len(data)
            chunk.packing, chunk.data, chunk.length = how, data, len(data)
            session.execute(update(Content).where(Content.sha256 == chunk.sha256).values(bytes=Content.bytes - saved))
        packed += 1
        progress(packed)


def _to_store(session: Session, content: Content, store: ObjectStore) -> None:
    key = f"{content.sha256}-{token_hex(4)}"
    chunks = session.scalars(select(Chunk).where(Chunk.sha256 == content.sha256).order_by(Chunk.position))
    with tempfile.SpooledTemporaryFile(_IN_MEMORY) as file:
        for chunk in chunks.yield_per(8):
            chunk.start = file.tell()
            file.write(chunk.data or b"")
            chunk.data = None
            session.flush()
            session.expunge(chunk)
        file.seek(0)
        store.put(key, file)
    content.object_key = key


def _to_database(session: Session, content: Content, store: ObjectStore) -> None:
    assert content.object_key is not None
    chunks = session.scalars(select(Chunk).where(Chunk.sha256 == content.sha256).order_by(Chunk.position))
    for chunk in chunks.yield_per(8):
        chunk.data = store.read(content.object_key, chunk.start, chunk.start + chunk.length)
        chunk.start = 0
        session.flush()
        session.expunge(chunk)
    content.object_key = None
