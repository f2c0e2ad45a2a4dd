"""What all outputs of a check say in words: counts, the line of a pair, the readings that it was judged by."""

from collections import Counter
from collections.abc import Iterable, Sequence

from kind_echo.checks.judging import STATUSES, Checked, Status
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Reading
from kind_echo.wording.figures import counted, figure, limit_text

_SAID: dict[Status, str] = {
    "pass": "passed", "changed": "changed", "fail": "failed", "no reading": "without a reading",
    "waiting": "without a reference", "waived": "waived", "error": "not compared",
}  # fmt: skip


def counts_of(checked: Iterable[Checked]) -> dict[Status, int]:
    """How many pairs have each status, worst first; those that none has are left out."""
    found = Counter(one.status for one in checked)
    return {status: found[status] for status in STATUSES if found[status]}


def totals(checked: Sequence[Checked]) -> str:
    """As "24 pairs: 1 failed, 2 changed, 21 passed"."""
    parts = [f"{count} {_SAID[status]}" for status, count in counts_of(checked).items()]
    return f"{counted(len(checked), 'pair')}: {', '.join(parts) or 'nothing to check'}"


def worst_first(checked: Iterable[Checked]) -> list[Checked]:
    """By status, then by how far the verdict's worst reading lies from its limit, then by name."""

    def place(one: Checked) -> tuple[int, float, str]:
        return STATUSES.index(one.status), -(one.verdict.ink if one.verdict is not None else 1.0), one.name

    return sorted(checked, key=place)


def message(one: Checked) -> str:
    """Why a pair has its status, and what explains the difference."""
    return f"{one.why}; {one.causes}" if one.causes and one.causes.lower() not in one.why.lower() else one.why


def judged_readings(one: Checked) -> list[tuple[Reading, Limit]]:
    """The readings of all channels together that a pair was judged by, with their limits."""
    return [(r, one.held[r.measure]) for r in one.readings if r.channel == "all" and r.measure in one.held]


def judged_lines(one: Checked) -> list[str]:
    """These as lines: "Residual, RMS: −83.20 dBFS (limit ≤ −120.00: dither)"."""
    return [_line(reading, limit, one.reasons.get(reading.measure, "")) for reading, limit in judged_readings(one)]


def value_with_spread(reading: Reading) -> str:
    """A value with its unit and its uncertainty, or why there is none."""
    if reading.value is None or not reading.uncertainty:
        return figure(reading)
    return f"{figure(reading)} ± {number(reading.uncertainty, '.2g')}"


def _line(reading: Reading, limit: Limit, why: str) -> str:
    measure = find_measure(reading.measure)
    bounds = limit_text(limit, measure.decimals)
    held = f" (limit {bounds}{f': {why}' if why else ''})" if bounds else ""
    return f"{measure.title}: {value_with_spread(reading)}{held}"
