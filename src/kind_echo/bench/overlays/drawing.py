"""From rows to their lines over each other."""

from collections.abc import Sequence
from dataclasses import dataclass
from threading import Lock

from cachetools import LRUCache, cached
from cachetools.keys import hashkey
from sqlalchemy.orm import Session

from kind_echo.bench.overlays.rows import Row, Rows
from kind_echo.core.audio import peaks
from kind_echo.core.overlays.kinds import KINDS, Kind, KindKey, kind_named
from kind_echo.core.overlays.lines import COLUMNS, law_of_curves, line_of_audio, line_of_columns, line_of_curves
from kind_echo.core.overlays.overlay import Line, Overlay, lay_over
from kind_echo.core.registry.errors import BadParameter, Invalid
from kind_echo.database.blobs import BlobSource
from kind_echo.database.models import Content
from kind_echo.database.waveforms import read_columns

_KEPT = 512  # lines of audio, some 10 kB each

NO_AUDIO = "has not been rendered"
DROPPED = "its audio is kept no more"
NONE_FOUND = "has none over its noise"
TOO_SHORT = "is too short for it, or has a sample that is no number"
OUTSIDE = "has nothing in this passage"


@dataclass(frozen=True)
class LeftOut:
    """A row of which there is no line, and why."""

    label: str
    why: str


class NoLines(Invalid):
    """A file is to be drawn of rows none of which has a line."""

    def __init__(self, left_out: Sequence[LeftOut]) -> None:
        self.left_out = left_out
        super().__init__(f"There is nothing to draw: {'; '.join(f'{one.label} {one.why}' for one in left_out)}.")


@dataclass(frozen=True)
class Drawn:
    """Rows over each other.

    Attributes:
        overlay: the lines.
        rows: of each line its row, in the order of the lines.
        left_out: rows without a line.
        kinds: what these rows can be drawn by.
        passage: seconds from and to; of waveforms and levels alone.
        whole: seconds of the longest row.
        given: what was to be drawn.
    """

    overlay: Overlay
    rows: Sequence[Row]
    left_out: Sequence[LeftOut]
    kinds: Sequence[KindKey]
    passage: tuple[float, float]
    whole: float
    given: Rows


def draw_rows(session: Session, rows: Rows, kind_key: str = "", passage: tuple[float, float] | None = None) -> Drawn:
    """Rows over each other by one kind of curve; "" takes the first that any of them has.

    Args:
        passage: seconds from and to, of waveforms and of levels; None for all.

    Raises:
        BadParameter: there is no such kind, or the passage is none.
    """
    kinds = _kinds_of(rows.rows)
    kind = kind_named(kind_key) if kind_key else KINDS[kinds[0]]
    whole = max((row.content.frames / row.content.rate for row in rows.rows if row.content is not None), default=0.0)
    start, stop = passage or (0.0, whole)
    if not 0.0 <= start < stop and whole > 0.0:
        raise BadParameter("passage", f"{start:g} to {stop:g} s", f"from 0 to {whole:g} s, its end after its start")
    stop = min(stop, whole)
    lines: list[Line] = []
    drawn: list[Row] = []
    left_out: list[LeftOut] = []
    for row in rows.rows:
        line = _line(session, kind, row, (start, stop))
        if isinstance(line, str):
            left_out.append(LeftOut(row.label, line))
        else:
            lines.append(line)
            drawn.append(row)
    numbers = [row.number for row in drawn]
    # Where there is no line of what they were to be held against, the first stands for it, and is said to.
    reference = numbers.index(rows.reference) if rows.reference in numbers else 0 if numbers else None
    laws = [law for row in drawn if kind.key == "transfer" and (law := law_of_curves(row.curves)) is not None]
    # Of laws that differ none is that of all.
    law = laws[0] if laws and all(_same(law, laws[0]) for law in laws) else None
    overlay = lay_over(kind, lines, reference, law, over_time=rows.over_time)
    return Drawn(overlay, drawn, left_out, kinds, (start, stop), whole, rows)


def _kinds_of(rows: Sequence[Row]) -> list[KindKey]:
    """What these rows can be drawn by: what any audio has always, what is measured where it was."""
    found: list[KindKey] = []
    for kind in KINDS.values():
        by_curve = kind.measured or kind.key == "loudness"
        if not by_curve or any(line_of_curves(kind, row.label, row.curves) is not None for row in rows):
            found.append(kind.key)
    return found


def _line(session: Session, kind: Kind, row: Row, passage: tuple[float, float]) -> Line | str:
    """The line of a row, or why it has none."""
    content = row.content
    if content is None:
        return NO_AUDIO
    if kind.measured or kind.key == "loudness":
        line = line_of_curves(kind, row.label, row.curves)
        if line is not None:
            return line
        if kind.key == "harmonics" and "fundamental" in row.curves:
            return NONE_FOUND
        return row.without
    if kind.key in ("waveform", "level"):
        return _columns(session, kind, row.label, content, passage)
    if content.dropped_at is not None:
        return DROPPED
    found = _of_audio(session, kind.key, content)
    return TOO_SHORT if found is None else Line(row.label, found.x, found.y)


def _columns(session: Session, kind: Kind, label: str, content: Content, passage: tuple[float, float]) -> Line | str:
    start, stop = (round(second * content.rate) for second in passage)
    last = min(stop, content.frames)
    if start >= last:
        return OUTSIDE
    columns = max(1, min(COLUMNS * (last - start) // (stop - start), last - start))
    if content.dropped_at is not None:  # a waveform is kept longer than its audio, and no finer than this
        columns = min(columns, (last - start) // peaks.FINEST)
        if columns == 0:
            return DROPPED
    found = read_columns(session, content.sha256, BlobSource(session, content), start, last, columns)
    return line_of_columns(kind, label, found, start / content.rate, last / content.rate)


@cached(LRUCache(_KEPT), key=lambda _, kind, content: hashkey(kind, content.sha256), lock=Lock())
def _of_audio(session: Session, kind: KindKey, content: Content) -> Line | None:
    source = BlobSource(session, content)
    return line_of_audio(KINDS[kind], "", source)


def _same(one: Line, other: Line) -> bool:
    return one.x.shape == other.x.shape and bool((one.y == other.y).all())
