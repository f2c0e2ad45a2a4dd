"""What is said of a pair: its verdict by the limits that hold for it, and whether the team has waived it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date

from kind_echo.checks.measuring import Measured
from kind_echo.checks.pairing import Pair
from kind_echo.checks.settings import Settings, Waiver
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import MEASURES
from kind_echo.core.registry.readings import Reading
from kind_echo.core.verdicts.rules import allowing_takes, judge_cell
from kind_echo.core.verdicts.verdict import Verdict
from kind_echo.wording.causes import describe
from kind_echo.wording.outcomes import Status
from kind_echo.wording.verdicts import sentence

_STATUS: Mapping[str, Status] = {
    "Pass": "pass", "Changed": "changed", "Fail": "fail", "No reading": "no reading", "Waiting": "waiting",
}  # fmt: skip


@dataclass(frozen=True)
class Checked:
    """A pair with what is said of it, or a file that has no counterpart.

    Attributes:
        name: of the pair.
        status: what came of it.
        why: the verdict's reason, or the error, in a line.
        verdict: as facts; None where nothing could be judged.
        held: the limits that it was judged by.
        reasons: why these are what they are, by measure, where the team says so.
        waiver: that covers what is broken, ended or not.
        was_known: whether it was measured by an earlier check.
    """

    name: str
    status: Status
    why: str
    pair: Pair | None = None
    measured: Measured | None = None
    verdict: Verdict | None = None
    held: Mapping[str, Limit] = field(default_factory=dict)
    reasons: Mapping[str, str] = field(default_factory=dict)
    waiver: Waiver | None = None
    was_known: bool = False

    @property
    def causes(self) -> str:
        """What explains the difference, in words; empty where there is none, or nothing was measured."""
        told = [] if self.measured is None else [one for one in self.measured.causes if one.cause != "none"]
        return describe(told)

    @property
    def readings(self) -> list[Reading]:
        """All readings, those against the reference first."""
        if self.measured is None:
            return []
        told = {(r.measure, r.channel) for r in self.measured.comparison}
        return [*self.measured.comparison, *(r for r in self.measured.own if (r.measure, r.channel) not in told)]


def judge_pair(pair: Pair, measured: Measured, settings: Settings, today: date, *, was_known: bool) -> Checked:
    """The verdict of a pair that was measured."""
    limits = settings.limits_for(pair.name, measured.signal)
    # Its length and its lead-in make a render unfit, and are told against the reference alone.
    unfit = [r for r in measured.comparison if MEASURES[r.measure].unfit]
    known = {(r.measure, r.channel) for r in measured.own}
    own = [*measured.own, *(r for r in unfit if (r.measure, r.channel) not in known)]
    verdict = judge_cell(own, measured.comparison, limits)
    if verdict.ground == "identical":  # to a reference that nobody may have judged by what holds for a file alone
        alone = judge_cell(own, None, {key: one for key, one in limits.items() if MEASURES[key].needs != "pair"})
        verdict = alone if alone.name in ("Fail", "No reading") else verdict
    status, why = _STATUS[verdict.name], sentence(verdict)
    waiver = None
    if status in ("fail", "no reading", "changed"):
        waiver = settings.waiver_for(pair.name, verdict.broken, today)
        if waiver is not None and waiver.until >= today:
            status, why = "waived", f"{why}; waived until {waiver.until}: {waiver.reason}"
        elif waiver is not None:
            why = f"{why}; its waiver ended on {waiver.until}"
    return Checked(
        pair.name, status, why, pair, measured, verdict, allowing_takes(limits, own),
        settings.reasons_for(pair.name, measured.signal), waiver, was_known,
    )  # fmt: skip


def missing_render(name: str) -> Checked:
    """A reference of which there is no render."""
    return Checked(name, "error", "There is no render of it")


def without_reference(name: str) -> Checked:
    """A render that nothing is approved for."""
    return Checked(name, "waiting", "There is no reference for it")


def saying_why(checked: Sequence[Checked], not_made: Mapping[str, str]) -> list[Checked]:
    """The same, with the reason where a render was to be made and could not be.

    Args:
        not_made: why, by a render's name without an ending.
    """
    told = {f"{name}.wav": f"It could not be rendered: {why}" for name, why in not_made.items()}
    found = [replace(one, why=told.pop(one.name)) if one.name in told else one for one in checked]
    return found + [Checked(name, "error", why) for name, why in sorted(told.items())]


def failed(pair: Pair, why: str) -> Checked:
    """A pair that could not be read or compared."""
    return Checked(pair.name, "error", why, pair)
