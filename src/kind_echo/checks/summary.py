"""A check as Markdown, for the page that a build server shows beside a change."""

from collections.abc import Sequence

from kind_echo.checks.judging import Checked
from kind_echo.checks.telling import message, totals, worst_first

_MOST = 200  # rows: build servers cut longer pages
_SPECIAL = str.maketrans({mark: f"\\{mark}" for mark in "\\`*_{}[]<>()#+!|~"} | {"\n": " ", "\r": " "})


def summary_text(checked: Sequence[Checked], title: str) -> str:
    """Counts first, then each pair that did not pass, worst first."""
    lines = [f"## {_plain(title)}", "", f"**{totals(checked)}**", ""]
    rows = [one for one in worst_first(checked) if one.status != "pass"]
    if rows:
        lines += ["| File | Status | Why |", "| --- | --- | --- |"]
        lines += [f"| {_plain(one.name)} | {one.status} | {_plain(message(one))} |" for one in rows[:_MOST]]
        if len(rows) > _MOST:
            lines += ["", f"{len(rows) - _MOST} more are not shown."]
        lines.append("")
    return "\n".join(lines)


def _plain(text: str) -> str:
    return text.translate(_SPECIAL)
