"""The part of a returned file that is the render."""

import numpy as np
from sqlalchemy.orm import Session

from kind_echo.bench.kits.packing import (
    mark_of,
    mark_start,
    signal_start,
    sound_key,
)
from kind_echo.core.audio.source import Samples
from kind_echo.core.levels.marks import find_sound
from kind_echo.core.signals.request import Mono
from kind_echo.database.blobs import BlobSource
from kind_echo.database.models import Cell, KitFile
from kind_echo.renderers.contract import RenderFailed, RenderResult

LIKE = 0.5  # likeness from which a mark is taken for found
LOOKED_INTO_SECONDS = 60.0  # s of a file in which its mark is looked for
_MOST_LATE = 0.5  # s by which a mark may come late from latency; later than that, the file was cut otherwise
_MOST_EARLY = 0.001


def loudest(samples: Samples) -> Mono:
    """The loudest channel; of a long signal the part that is looked for."""
    return np.asarray(samples[: 1 << 22, int(np.argmax(np.sum(samples**2, axis=0)))])


def cut(session: Session, cell: Cell, file: KitFile, stimulus: Samples) -> RenderResult:
    """The part of a returned file that is the render, and in words how it was found."""
    source = BlobSource(session, file.content)
    notes = [f"{file.name}: {file.why}."]
    head = source.read(0, min(source.frames, round(LOOKED_INTO_SECONDS * source.rate)))
    start = max(0, signal_start(source.rate) + _shift(head, cell, stimulus, notes))
    if start >= source.frames:
        raise RenderFailed(f"{file.name} ends before the signal begins", "\n".join(notes))
    cut = source.read(start, min(start + len(stimulus), source.frames))
    return RenderResult(_fit_channels(cut, stimulus.shape[1], file.name, notes), None, True, "\n".join(notes))


def _shift(head: Samples, cell: Cell, stimulus: Samples, notes: list[str]) -> int:
    """Frames by which a file begins elsewhere than the kit's; none for what may be latency, which is to be measured."""
    rate = cell.condition.rate
    told, expected = "mark", mark_start(rate)
    found, likeness = find_sound(head, mark_of(sound_key(cell), rate))
    if likeness < LIKE:
        told, expected = "sound", signal_start(rate)
        found, likeness = find_sound(head, loudest(stimulus))
    if likeness < LIKE:
        notes.append("Neither its mark nor its signal was found; it is taken to begin where the kit's file begins.")
        return 0
    shift = found - expected
    if -_MOST_EARLY <= shift / rate <= _MOST_LATE:
        return 0
    notes.append(
        f"It begins {abs(shift) / rate:.3f} s {'before' if shift > 0 else 'after'} the kit's file and was lined up by "
        f"its {told}, so that no latency can be told from it."
    )
    return shift


def _fit_channels(samples: Samples, wanted: int, name: str, notes: list[str]) -> Samples:
    """The channels that the condition has: two equal ones of a mono render are one."""
    if samples.shape[1] == wanted:
        return samples
    if wanted == 1 and np.array_equal(samples[:, 0], samples[:, 1]):
        notes.append("It came in two equal channels, of which one is kept.")
        return samples[:, :1]
    raise RenderFailed(f"{name} has {samples.shape[1]} channels, and the condition {wanted}", "\n".join(notes))
