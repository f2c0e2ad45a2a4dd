"""Reports of a person's own files in a set, and of a listening test."""

from datetime import datetime

from sqlalchemy.orm import Session

from kind_echo.bench.documents import limit_from, reading_from
from kind_echo.bench.listening import are_hidden, results_of
from kind_echo.bench.reports.document import Entries, Entry, Part, Report, Section, Table, Text
from kind_echo.bench.reports.heard import KINDS, results_lines
from kind_echo.bench.sets import chosen_columns
from kind_echo.core.registry.limits import judge
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.registry.readings import Reading
from kind_echo.database.models import FileSet, ListeningTest, SetFile
from kind_echo.wording.decisions import ended, moment_text
from kind_echo.wording.figures import counted, limit_text, value_text
from kind_echo.wording.names import slug

_MOST_COLUMNS = 6  # measures beside each other on a page


def set_report(session: Session, found: FileSet, now: datetime, *, address: str = "") -> Report:
    """The report of a set: a row a file, as many tables as its measures need; then what explains each difference."""
    columns = chosen_columns(session, found)
    limits = {key: limit_from(document) for key, document in found.limits.items()}
    readings = {one.id: _overall(one) for one in found.files}
    broken = sum(
        judge(reading, limits[key]) != "met"
        for one in readings.values()
        for key, reading in one.items()
        if key in limits
    )
    said = f"{counted(broken, 'reading')} broken." if broken else "All limits hold."
    result: list[Part] = [Text(said if limits else counted(len(found.files), "file") + ".", "loud")]
    result += [Text(found.note)] if found.note else []
    tables: list[Part] = []
    for start in range(0, len(columns), _MOST_COLUMNS):
        part = columns[start : start + _MOST_COLUMNS]
        rows = [
            (_name(one), *(_value(readings[one.id].get(key), limits.get(key)) for key in part)) for one in found.files
        ]
        heads = [f"{find_measure(key).title}, {find_measure(key).unit}".removesuffix(", ") for key in part]
        width = 70 // len(part)
        tables.append(Table(("File", *heads), rows, (100 - width * len(part), *[width] * len(part)),
                            figures=range(1, len(part) + 1), fine=True))  # fmt: skip
    sections = [Section("Result", result), Section("Readings", tables)]
    if limits:
        held = [
            (find_measure(k).title, limit_text(v, find_measure(k).decimals), find_measure(k).unit)
            for k, v in limits.items()
        ]
        sections.append(Section("Limits", [Table(("Measure", "Limit", "Unit"), held, (60, 25, 15), figures=(1,))]))
    told = [
        Entry(_name(one), "", [ended(one.pair.analysis.explanation)])
        for one in found.files
        if one.pair is not None and one.pair.analysis is not None and one.pair.analysis.explanation
    ]
    told += [Entry(_name(one), "not measured", [ended(one.why)]) for one in found.files if one.state == "failed"]
    if told:
        sections.append(Section("What explains the differences", [Entries(told)]))
    files = [
        (_name(one), one.role, f"{one.upload.content.rate} Hz, {one.upload.content.channels} ch, "
         f"{one.upload.content.frames} frames, {one.upload.subtype}", one.upload.file_sha256)
        for one in found.files
    ]  # fmt: skip
    sections.append(
        Section("Files", [Table(("File", "Role", "Audio", "SHA-256 of the file"), files, (26, 10, 26, 38), fine=True)])
    )
    brought = f"Brought by {found.brought_by}, " if found.brought_by else "Made "
    facts = [f"{brought}{moment_text(found.created_at)}. {counted(len(found.files), 'file')}."]
    return Report(f"report-set-{found.id}-{slug(found.name)}", found.name, "", facts, sections, now, address)


def listening_report(session: Session, test: ListeningTest, now: datetime, *, address: str = "") -> Report:
    """The report of a listening test; before the day until which its results are hidden, without them."""
    hidden = are_hidden(test, now)
    results = None if hidden else results_of(session, test, now)
    lines = ["Results are hidden still."] if results is None else results_lines(results)
    sides = [(side["name"], f"{side['gain']:+.2f} dB".replace("-", "−")) for side in test.sides if not side["hidden"]]
    sections = [Section("Result", [Text(line) for line in lines])]
    if results is not None and results.by_person:
        entries = [
            Entry(who, f"{odds.correct} of {odds.trials} right", [odds.words]) for who, odds in results.by_person
        ]
        sections.append(Section("By listener", [Entries(entries)]))
    sections.append(Section("Sides", [Table(("Side", "Brought to one level by"), sides, (70, 30), figures=(1,))]))
    facts = [f"{KINDS[test.kind].capitalize()}. Made by {test.made_by}, {moment_text(test.made_at)}."]
    facts += [test.note] if test.note else []
    return Report(f"report-test-{test.id}-{slug(test.name)}", test.name, "", facts, sections, now, address)


def _overall(one: SetFile) -> dict[str, Reading]:
    """The readings of all channels together, by measure."""
    found = (reading_from(document) for document in one.readings)
    return {reading.measure: reading for reading in found if reading.channel == "all"}


def _name(one: SetFile) -> str:
    return f"{one.folder}/{one.upload.name}" if one.folder else one.upload.name


def _value(reading: Reading | None, limit: Limit | None) -> str:
    if reading is None or reading.value is None:
        return "—"
    mark = " ✗" if limit is not None and judge(reading, limit) != "met" else ""
    return value_text(reading.value, reading.of) + mark
