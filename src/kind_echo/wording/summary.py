"""Outcomes as Markdown, for the page that a build server shows beside a change."""

from collections.abc import Sequence

from kind_echo.wording.outcomes import Outcome, totals, worst_first

_MOST = 200  # rows: build servers cut longer pages
_SPECIAL = str.maketrans({mark: f"\\{mark}" for mark in "\\`*_{}[]<>()#+!|~"} | {"\n": " ", "\r": " "})


def summary_text(outcomes: Sequence[Outcome], title: str, what: str, address: str = "") -> str:
    """Counts first, then each that did not pass, worst first.

    Args:
        what: one of them, as "pair".
        address: where more is shown.
    """
    lines = [f"## {_plain(title)}", "", f"**{totals(outcomes, what)}**", ""]
    rows = [one for one in worst_first(outcomes) if one.status != "pass"]
    if rows:
        lines += [f"| {what.capitalize()} | Status | Why |", "| --- | --- | --- |"]
        lines += [f"| {_plain(one.title)} | {one.status} | {_plain(one.message)} |" for one in rows[:_MOST]]
        if len(rows) > _MOST:
            lines += ["", f"{len(rows) - _MOST} more are not shown."]
        lines.append("")
    if address:
        lines += [f"<{address}>", ""]
    return "\n".join(lines)


def _plain(text: str) -> str:
    return text.translate(_SPECIAL)
