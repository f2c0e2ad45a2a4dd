"""What is old, in sentences."""

from datetime import date, datetime

from kind_echo.wording.decisions import day_text, moment_text
from kind_echo.wording.figures import counted


def old_text(
    kind: str,
    name: str,
    plan: str,
    *,
    cells: int = 0,
    since: datetime | None = None,
    until: date | None = None,
    left: int = 0,
) -> str:
    """Something that is old, or soon will be, as `bench.sheets.overview` tells it."""
    match kind:
        case "waiver":
            assert until is not None
            return f"A waiver on {counted(cells, 'cell')} of {name}, {plan}, ends on {day_text(until)}."
        case "missing":
            return f"{name} has not been run with {plan}."
        case "run":
            assert since is not None
            return f"{name} was last run with {plan} on {day_text(since.date())}."
        case "audio":
            return f"Audio has {left / 1e9:.1f} GB left of what it may take: when that is full, nothing is rendered."
        case "temporary files":
            return f"The disk of temporary files on the server has {left / 1e9:.1f} GB left."
        case _:
            assert since is not None
            return f"The machine {name} has not been seen since {moment_text(since)}."
