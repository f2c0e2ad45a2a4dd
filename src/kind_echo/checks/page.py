"""A check as one HTML file that needs nothing beside itself."""

from collections.abc import Iterable, Sequence
from datetime import datetime
from html import escape

from kind_echo import __version__
from kind_echo.checks.judging import Checked
from kind_echo.checks.pairing import shown
from kind_echo.checks.telling import judged_readings, message, outcome_of, value_with_spread
from kind_echo.wording.figures import limit_text
from kind_echo.wording.outcomes import Status, totals, worst_first

_STYLE = """
:root { color-scheme: light dark; --ink: #1c1f24; --soft: #5c6470; --line: #d9dde3; --paper: #ffffff; --bad: #a3281e; }
@media (prefers-color-scheme: dark) {
  :root { --ink: #e8eaee; --soft: #a2a9b4; --line: #3a4049; --paper: #17191d; --bad: #ff9b8f; }
}
body { font: 15px/1.5 system-ui, sans-serif; color: var(--ink); background: var(--paper);
       max-width: 72rem; margin: 2rem auto; padding: 0 1.5rem; }
h1 { font-size: 1.5rem; margin: 0 0 .25rem; } h2 { font-size: 1.1rem; margin: 2rem 0 .5rem; }
p { margin: .25rem 0; } .soft { color: var(--soft); }
table { border-collapse: collapse; width: 100%; }
th, td { text-align: left; vertical-align: top; padding: .35rem .75rem .35rem 0; border-bottom: 1px solid var(--line); }
th { font-weight: 600; } td.number { text-align: right; font-variant-numeric: tabular-nums; white-space: nowrap; }
td.name { min-width: 12rem; max-width: 26rem; overflow-wrap: break-word; } .bad { color: var(--bad); font-weight: 600; }
details { border-bottom: 1px solid var(--line); padding: .35rem 0; }
summary { cursor: pointer; overflow-wrap: anywhere; }
details table { margin: .25rem 0 .75rem; }
@media print { body { margin: 0; max-width: none; } details { break-inside: avoid; } }
""".strip()

_LOUD: tuple[Status, ...] = ("fail", "error", "no reading")


def page_text(checked: Sequence[Checked], title: str, limits: str, made: datetime) -> str:
    """The page: counts, what did not pass with its readings, then the names of what passed.

    Args:
        limits: where the limits come from, in words.
        made: when the check ended.
    """
    by_name = {one.name: one for one in checked}
    outcomes = [outcome_of(one) for one in checked]
    ordered = [by_name[outcome.title] for outcome in worst_first(outcomes)]
    shown, passed = [one for one in ordered if one.status != "pass"], [one for one in ordered if one.status == "pass"]
    parts = [
        "<!doctype html>", '<html lang="en"><head><meta charset="utf-8">',
        '<meta name="viewport" content="width=device-width, initial-scale=1">',
        f"<title>{escape(title)}</title><style>{_STYLE}</style></head><body>",
        f"<h1>{escape(title)}</h1>", f"<p>{escape(totals(outcomes, 'pair'))}</p>",
        f'<p class="soft">{escape(limits)}. Kind Echo {escape(__version__)}, {made:%d %B %Y, %H:%M} UTC.</p>',
    ]  # fmt: skip
    if shown:
        parts += ["<h2>What did not pass</h2>", *_overview(shown)]
        parts += ["<h2>Readings</h2>", *(line for one in shown for line in _details(one))]
    if passed:
        parts += ["<h2>Passed</h2>", *(line for one in passed for line in _details(one))]
    return "\n".join([*parts, "</body></html>", ""])


def _overview(shown: Iterable[Checked]) -> list[str]:
    rows = ["<table><tr><th>File</th><th>Status</th><th>Why</th></tr>"]
    for one in shown:
        loud = ' class="bad"' if one.status in _LOUD else ""
        rows.append(
            f'<tr><td class="name">{escape(one.name)}</td><td{loud}>{escape(one.status)}</td>'
            f"<td>{escape(message(one))}</td></tr>"
        )
    return [*rows, "</table>"]


def _details(one: Checked) -> list[str]:
    if one.measured is None:
        return []
    why = f": {message(one)}" if one.status == "pass" else ""
    rows = [f"<details><summary>{escape(one.name)}{escape(why)}</summary><table>"]
    rows.append("<tr><th>Measure</th><th>Reading</th><th>Limit</th><th>Note</th></tr>")
    for reading, limit in judged_readings(one):
        measure = reading.of
        notes = [one.reasons.get(reading.measure, ""), (reading.why or "") if reading.value is not None else ""]
        rows.append(
            f'<tr><td>{escape(measure.title)}</td><td class="number">{escape(value_with_spread(reading))}</td>'
            f'<td class="number">{escape(limit_text(limit, measure.decimals))}</td>'
            f"<td>{escape('; '.join(filter(None, notes)))}</td></tr>"
        )
    rows += ["</table>", *(f'<p class="soft">{line}</p>' for line in _files(one)), "</details>"]
    return rows


def _files(one: Checked) -> list[str]:
    if one.pair is None or one.measured is None:
        return []
    told = zip(one.pair.files, one.measured.inputs, strict=True)
    return [
        f"{escape(shown(path))}: {given['rate']} Hz, {given['channels']} ch, {given['frames']} frames, "
        f"SHA-256 {escape(given['sha256'])}"
        for path, given in told
    ]
