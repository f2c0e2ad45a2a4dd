"""A person's own files: kept by content, and compared without any plan."""

from collections.abc import Iterable
from dataclasses import asdict
from datetime import datetime
from pathlib import Path

from sqlalchemy import exists, or_, select
from sqlalchemy.orm import Session

from kind_echo.audio_io.decoding import Decoder, Most
from kind_echo.audio_io.digests import file_digest
from kind_echo.bench.accounts import Caller
from kind_echo.bench.queue import analyse_pair, drop_unused
from kind_echo.bench.storage import check_space
from kind_echo.core.comparison.pair import CompareOptions
from kind_echo.core.registry.errors import ChannelMismatch, Invalid, NotFound, RateMismatch
from kind_echo.database.blobs import store_content
from kind_echo.database.models import Content, Pair, SetFile, Upload

MOST_SECONDS = 60 * 60
MOST_CHANNELS = 8
MOST_SAMPLES = MOST_SECONDS * 96_000 * 2
"""Of all channels together: an hour of stereo at 96 kHz."""

MOST_BYTES = 3 << 30
"""More than that takes in 32 bits."""


class UploadRefused(Invalid):
    """A file is audio, but not of a kind that is taken."""

    def __init__(self, name: str, reason: str) -> None:
        self.name, self.reason = name, reason
        super().__init__(f"{name} was not kept: {reason}.")


class UploadNotFound(NotFound):
    """An upload is named that is not there."""

    def __init__(self, upload_id: int) -> None:
        self.upload_id = upload_id
        super().__init__(f"There is no uploaded file {upload_id}.")


class PairNotFound(NotFound):
    """A comparison of two files is asked for that is not there."""

    def __init__(self, pair_id: int) -> None:
        self.pair_id = pair_id
        super().__init__(f"There is no comparison {pair_id}.")


def keep_upload(session: Session, path: Path, name: str, *, who: str, now: datetime) -> Upload:
    """Keep the audio of a file that somebody uploaded to `path`.

    Raises:
        UnreadableAudio: it is not audio, truncated, or has no frames.
        UploadRefused: it is too long, or has too many channels.
        QuotaReached, StorageFull: there would be more than the rule for storage allows.
    """
    with Decoder() as decoder:
        content, subtype = keep_audio(session, decoder, path, name, who)
    upload = Upload(
        name=name, file_sha256=file_digest(path), subtype=subtype, content_sha256=content.sha256, uploaded_at=now,
        brought_by=who,
    )  # fmt: skip
    session.add(upload)
    session.flush()
    return upload


def keep_audio(session: Session, decoder: Decoder, path: Path, name: str, who: str) -> tuple[Content, str]:
    """Keep the audio of a file that somebody brought; its content, and its word length as libsndfile names it.

    Raises:
        UnreadableAudio, UploadRefused, QuotaReached, StorageFull: as `keep_upload` does.
    """
    check_space(session, who)
    with decoder.decoded(path, name, Most(MOST_CHANNELS, MOST_SECONDS, MOST_SAMPLES)) as audio:
        if audio.channels > MOST_CHANNELS:
            raise UploadRefused(name, f"it has {audio.channels} channels, and up to {MOST_CHANNELS} are taken")
        if audio.frames > MOST_SECONDS * audio.rate:
            minutes = audio.frames / audio.rate / 60
            raise UploadRefused(name, f"it lasts {minutes:.1f} minutes, and up to {MOST_SECONDS // 60} are taken")
        if audio.frames * audio.channels > MOST_SAMPLES:
            most = MOST_SAMPLES / audio.channels / audio.rate / 60
            minutes = audio.frames / audio.rate / 60
            raise UploadRefused(
                name, f"it lasts {minutes:.1f} minutes, and at its rate and channels up to {most:.1f} are taken"
            )
        content = store_content(session, audio, audio.encoding, brought_by=who)
        check_space(session, who)
        return content, audio.subtype


def compare_uploads(
    session: Session, reference_id: int, render_id: int, options: CompareOptions, *, now: datetime
) -> Pair:
    """Enqueue the comparison of two uploaded files.

    Raises:
        UploadNotFound: one of them is not there.
        RateMismatch, ChannelMismatch: they cannot be compared sample by sample.
    """
    reference, render = _find_upload(session, reference_id).content, _find_upload(session, render_id).content
    if reference.rate != render.rate:
        raise RateMismatch(reference.rate, render.rate)
    if reference.channels != render.channels:
        raise ChannelMismatch(reference.channels, render.channels)
    pair = Pair(reference_id=reference_id, render_id=render_id, options=asdict(options), created_at=now)
    session.add(pair)
    session.flush()
    analyse_pair(session, pair.id)
    return pair


def delete_pair(session: Session, pair_id: int, caller: Caller) -> None:
    """Delete a comparison of files, and the files in it that no other comparison has; their audio goes in a while.

    Raises:
        PairNotFound: there is no such comparison.
        NotAllowed: the files are somebody else's, and the caller keeps nothing here.
    """
    pair = find_pair(session, pair_id)
    uploads = (pair.reference, pair.render)
    if caller.name not in {upload.brought_by for upload in uploads}:
        caller.need("keep")
    session.delete(pair)
    session.flush()
    delete_uploads(session, {upload.id for upload in uploads})
    drop_unused(session)


def delete_uploads(session: Session, numbers: Iterable[int]) -> None:
    """Delete uploaded files that no comparison and no set has; those that something has stay."""
    for number in numbers:
        of_pair = exists().where(or_(Pair.reference_id == number, Pair.render_id == number))
        of_set = exists().where(SetFile.upload_id == number)
        if session.scalar(select(or_(of_pair, of_set))) is False:
            session.delete(session.get_one(Upload, number))
    session.flush()


def find_pair(session: Session, pair_id: int) -> Pair:
    """A comparison of two files. Raises PairNotFound."""
    pair = session.get(Pair, pair_id)
    if pair is None:
        raise PairNotFound(pair_id)
    return pair


def latest_pairs(session: Session, count: int = 20) -> list[Pair]:
    """The last comparisons of files that are no rows of a set, newest first."""
    of_set = exists().where(SetFile.pair_id == Pair.id)
    return list(session.scalars(select(Pair).where(~of_set).order_by(Pair.id.desc()).limit(count)))


def _find_upload(session: Session, upload_id: int) -> Upload:
    upload = session.get(Upload, upload_id)
    if upload is None:
        raise UploadNotFound(upload_id)
    return upload
