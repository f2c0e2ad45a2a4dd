"""What was heard, for a report: notes, and what listening tests came to."""

from datetime import date

from kind_echo.bench.listening import Heard, Odds, Results
from kind_echo.bench.reports.cells import Places
from kind_echo.bench.reports.document import Entries, Entry, Section, Text
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import value_of
from kind_echo.database.states import TestKind
from kind_echo.wording.decisions import day_text, ended
from kind_echo.wording.figures import counted

KINDS: dict[TestKind, str] = {"abx": "told apart", "rating": "graded", "order": "graded in a hidden order"}
"""What each kind of test asks of its listeners."""


def heard_section(heard: Heard, places: Places) -> Section:
    """Tests and notes on a run and its cells."""

    def place(cell: int | None) -> str:
        return ", ".join(places[cell]) if cell is not None and cell in places else "several cells"

    entries = [
        Entry(
            one.test.name, f"{KINDS[one.test.kind]}, {place(one.cell_id)}",
            _hidden(one.test.until) if one.results is None else results_lines(one.results),
        )
        for one in heard.tests
        if one.cell_id is None or one.cell_id in places
    ]  # fmt: skip
    for one in heard.notes:
        if one.cell_id is not None and one.cell_id not in places:
            continue
        note = one.note
        at = f", {number(note.second, '.2f')} s" if note.second is not None else ""
        where = "the run" if one.cell_id is None else place(one.cell_id)
        entries.append(Entry(note.text, "", [f"{note.side}{at}, {where}. {note.who}, {day_text(note.written_at)}."]))
    nothing = Text("Nothing was noted while listening, and no listening test was made.", "quiet")
    return Section("Heard", [Entries(entries) if entries else nothing])


def results_lines(results: Results) -> list[str]:
    """What a test came to, a line each."""
    if not results.sittings:
        return ["Nobody has sat down to it yet."]
    lines = []
    if results.pooled is not None:
        several = len(results.sittings) > 1
        lines.append(
            f"{'All sittings, added up' if several else results.sittings[0].sitting.who}: {_odds(results.pooled)}"
        )
    alone = [one for one in results.sittings if one.sitting.state == "done" and one.sitting.trials == 0 and one.odds]
    lines += [f"{one.sitting.who}, until a bound: {_odds(one.odds)}" for one in alone if one.odds is not None]
    for mean in results.means:
        span = ""
        if mean.low is not None and mean.high is not None:
            span = f", 95 % interval {number(mean.low, '.1f')} to {number(mean.high, '.1f')}"
        lines.append(f"{mean.side}: mean grade {number(mean.mean, '.1f')}{span}, n = {mean.count}")
    lines += [ended(f"{one.listener} does not count: {one.why}") for one in results.screened]
    broken = sum(one.sitting.state == "broken off" for one in results.sittings)
    return lines + ([f"{counted(broken, 'sitting')} broken off, not counted."] if broken else [])


def _hidden(until: date | None) -> list[str]:
    return [] if until is None else [f"Results are hidden until {day_text(until)}."]


def _odds(odds: Odds) -> str:
    p = value_of(odds.readings, "abx_p")
    chance = "" if p is None else f" p = {f'{p:.1e}' if p < 0.001 else number(p, '.3f')}."
    return f"{odds.correct} of {odds.trials} right.{chance} {odds.words}"
