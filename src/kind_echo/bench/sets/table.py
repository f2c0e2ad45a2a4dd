"""The table of a set: its columns, and the same as CSV."""

from collections.abc import Sequence

from sqlalchemy.orm import Session

from kind_echo.bench.documents import reading_from
from kind_echo.bench.sets.options import options_from, usual_columns
from kind_echo.bench.signals import families_of
from kind_echo.core.registry.measure import Family
from kind_echo.database.models import FileSet, Signal
from kind_echo.wording.tables import READING_COLUMNS, csv_text, reading_row

_ALWAYS = ("levels", "loudness", "integrity", "cost")


def chosen_columns(session: Session, found: FileSet) -> list[str]:
    """The measures that a table shows: those that were chosen, else what the files are measured for."""
    if found.columns:
        return list(found.columns)
    options = options_from(found.options)
    families: Sequence[Family] = ()
    if any(one.role == "input" for one in found.files):
        families = ("response",)
    elif options.also == "tone":
        families = ("tone", "aliases")
    elif options.also == "lossy":
        families = ("lossy",)
    elif options.also == "signal" and options.signal_id is not None:
        signal = session.get(Signal, options.signal_id)
        known = families_of(signal.stimulus, 1, lossy=False) if signal is not None else []
        families = [family for family in known if family not in _ALWAYS]
    return usual_columns(families, options, against=any(one.role == "reference" for one in found.files))


def set_csv(found: FileSet) -> str:
    """One line a reading, as the command line prints several files."""
    rows: list[tuple[object, ...]] = [READING_COLUMNS]
    for one in found.files:
        path = f"{one.folder}/{one.upload.name}" if one.folder else one.upload.name
        if not one.readings:
            rows.append((path, *[None] * (len(READING_COLUMNS) - 2), one.why or one.state))
        rows += [reading_row(path, reading_from(document)) for document in one.readings]
    return csv_text(rows)
