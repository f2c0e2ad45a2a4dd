"""What all outputs of a check say in words: the line of a pair, and the readings that it was judged by."""

from pathlib import PurePosixPath

from kind_echo.checks.judging import Checked
from kind_echo.checks.pairing import shown
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Reading
from kind_echo.wording.figures import figure, limit_text
from kind_echo.wording.outcomes import Outcome


def outcome_of(one: Checked) -> Outcome:
    """A pair as outputs for build servers tell it: in the suite of its folder."""
    path = PurePosixPath(one.name)
    folder = path.parent.as_posix()
    lines = [f"What explains the difference: {one.causes}"] if one.causes else []
    lines += judged_lines(one)
    if one.pair is not None:
        lines += [f"Reference: {shown(one.pair.references[0])}", f"Render: {shown(one.pair.renders[0])}"]
    severity = one.verdict.ink if one.verdict is not None else 1.0
    suite = "renders" if folder == "." else folder
    return Outcome(suite, path.name, one.name, one.status, message(one), tuple(lines), severity)


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
    measure = reading.of
    bounds = limit_text(limit, measure.decimals)
    held = f" (limit {bounds}{f': {why}' if why else ''})" if bounds else ""
    return f"{measure.title}: {value_with_spread(reading)}{held}"
