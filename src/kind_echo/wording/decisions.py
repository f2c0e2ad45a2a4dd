"""What people decided, in words."""

from datetime import date, datetime
from typing import Protocol

_SAID = {"accepted": "Accepted", "fault": "A fault", "waived": "Waived"}


class Decided(Protocol):
    """What is told of a decision, whatever keeps it."""

    @property
    def kind(self) -> str:
        """Accepted, fault or waived."""

    @property
    def who(self) -> str:
        """Who decided."""

    @property
    def at(self) -> datetime:
        """When."""

    @property
    def why(self) -> str:
        """The reason that was given, if any."""

    @property
    def ticket(self) -> str:
        """Where it is followed up, if anywhere."""

    @property
    def until(self) -> date | None:
        """The last day that it holds on."""

    @property
    def version(self) -> str:
        """The build that it was made on."""

    @property
    def here(self) -> bool:
        """It was made on the very cell that it is told of."""


def decision_text(one: Decided) -> str:
    """As "Waived until 24 Dec 2026, KE-41, in 2.1.0-rc1, by Nora F., 23 Nov 2026. Known and harmless."."""
    parts = [_SAID[one.kind] + (f" until {day_text(one.until)}" if one.until is not None else "")]
    parts += [one.ticket] if one.ticket else []
    parts += [] if one.here else [f"in {one.version}"]
    parts += [f"by {one.who}", day_text(one.at)]
    return " ".join(map(ended, filter(None, [", ".join(parts), one.why])))


def day_text(day: date) -> str:
    """As "24 Dec 2026"."""
    return f"{day.day} {day:%b %Y}"


def moment_text(moment: datetime) -> str:
    """As "24 Dec 2026, 08:30 UTC"; of a moment in UTC."""
    return f"{day_text(moment)}, {moment:%H:%M} UTC"


def ended(sentence: str) -> str:
    """A sentence with its full stop, which the name of a person may bring along."""
    return sentence if sentence.endswith((".", "?", "!")) else f"{sentence}."
