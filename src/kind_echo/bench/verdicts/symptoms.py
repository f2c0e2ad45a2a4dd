"""What a cell shows: the broken measures that stand for themselves, without those that follow from them."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from kind_echo.bench.verdicts.rules import PHRASES, THE_REFERENCE, UNFIT, phrase
from kind_echo.core.causes.cause import Cause
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import MEASURES

NOT_RENDERED = "not rendered"
"""Stands among the broken measures of a cell of which there is no render."""

NUMB = -100.0
"""dBFS; a residual that delay, gain and the rest bring under it is explained by them."""

_FELL = 40.0  # dB; or one that they lower by so much
_FOLLOWS: dict[str, tuple[str, ...]] = {
    "channel_swap": ("residual_rms", "delay", "gain", "polarity", "gaps", "clicks"),
    "channel_missing": ("residual_rms", "delay", "gain", "gaps", "clicks"),
    "gaps": ("residual_rms", "clicks"),
    "clicks": ("residual_rms",),
    "delay": ("latency_error", "latency_first"),
}
_ACCOUNTED = {"delay": "account_delay", "polarity": "account_polarity", "gain": "account_gain"}
_BY: dict[str, str] = {
    "filter": "its filtering", "non_linear": "a non-linear curve", "clipping": "clipping", "dc": "an offset",
    "level_control": "a gain that follows the level", "noise": "noise", "drift": "a clock that runs apart",
    "channel_gain": "the level of a channel", "lossy": "lossy encoding", "quantisation": "shorter words",
    "unrelated": "all of it: the two are unrelated",
}  # fmt: skip
_TELLS = 3.0  # dB by which taking a cause off must lower the residual, for it to be one
_ORDER = (*UNFIT, *_FOLLOWS, "polarity", "gain")


class Examined(NamedTuple):
    """A cell as findings see it.

    Attributes:
        broken: measures that broke their limits; of a cell with no reading, those that have none.
        measured: readings by measure.
        limits: of the cell, by measure.
        causes: what explains its difference.
        factors: what it was rendered from and under, by factor.
        other: how what it was compared with is called.
    """

    id: int
    verdict: str
    state: str
    why: str
    ink: float
    unfit: bool
    broken: tuple[str, ...]
    measured: Mapping[str, float]
    causes: tuple[Cause, ...]
    limits: Mapping[str, Limit]
    factors: Mapping[str, str]
    decided: bool = False
    other: str = THE_REFERENCE

    @property
    def finished(self) -> bool:
        """Nothing of it is under way."""
        return self.state in ("done", "failed")


@dataclass(frozen=True)
class Symptom:
    """One thing that a cell shows.

    Attributes:
        verdict: the verdict that it leads to.
        what: a measure, a verdict, or NOT_RENDERED.
        amount: how far it is off, where that tells causes apart: samples, decibels.
        said: how it is called in a sentence.
        other: what the render differs from, where the sentence names it.
    """

    verdict: str
    what: str
    said: str = field(compare=False)
    amount: float | None = field(default=None, compare=False)
    other: str = ""

    @property
    def rank(self) -> int:
        """Causes come before what follows from them."""
        return _ORDER.index(self.what) if self.what in _ORDER else len(_ORDER) + (self.what == "residual_rms")


def symptoms_of(cell: Examined) -> list[Symptom]:
    """What a finished cell shows: one thing at least, and nothing for one that passes."""
    if cell.verdict == "Pass" or not cell.finished:
        return []
    if cell.state == "failed":
        return [Symptom("No reading", NOT_RENDERED, cell.why)]
    if cell.verdict == "Fail" and not cell.broken:  # judged before it was kept which measures broke
        return [Symptom("Fail", "Fail", cell.why.split(":")[0])]
    if cell.unfit:
        return [Symptom("Fail", cell.broken[0], UNFIT[cell.broken[0]])]
    if cell.verdict != "Fail":
        said = "Within limits, but not the same" if cell.verdict == "Changed" else cell.why
        return [Symptom(cell.verdict, cell.broken[0] if cell.broken else cell.verdict, said)]
    return [_symptom(cell, key) for key in cell.broken if not _follows(cell, key)]


def judged_for(cell: Examined, symptom: Symptom) -> bool:
    """Whether a cell that does not show a symptom speaks against it being there."""
    if not cell.finished:
        return False
    if symptom.what in UNFIT:
        return cell.state == "done" and not cell.unfit
    if symptom.what == NOT_RENDERED:
        return cell.state == "done"
    if cell.state == "failed" or cell.unfit:
        return False
    if symptom.verdict in ("Changed", "Waiting", "No reading"):
        return cell.verdict == "Pass" or (cell.verdict == symptom.verdict)
    if symptom.what not in cell.limits or cell.verdict in ("No reading", "Waiting", "Changed"):
        return False
    if symptom.what not in cell.measured and cell.measured.get("identical") != 1.0:
        return False
    return symptom.what not in cell.broken or not _follows(cell, symptom.what)


def _follows(cell: Examined, key: str) -> bool:
    """Whether a broken measure is what another broken measure of the cell leads to."""
    if any(key in _FOLLOWS.get(cause, ()) for cause in cell.broken):
        return True
    if key == "residual_rms":
        causes = [cause for cause in _ACCOUNTED if cause in cell.broken and _tells(cell, cause)]
        raw, rest = cell.measured.get("account_raw"), cell.measured.get("account_fraction")
        return bool(causes) and (rest is None or rest <= NUMB or (raw is not None and raw - rest >= _FELL))
    if key in _ACCOUNTED and "residual_rms" in cell.broken:
        return not _tells(cell, key)
    if key in ("fundamental_level", "flatness_error") and "gain" in cell.broken:
        return abs(_off(cell, key) - cell.measured["gain"]) < 0.1
    if key == "latency_first" and "latency_error" in cell.broken:
        return abs(cell.measured["latency_first"] - cell.measured["latency_error"]) < 2.0
    return False


def _tells(cell: Examined, cause: str) -> bool:
    """Whether taking a delay, polarity or gain off explains a part of the difference."""
    steps = ("account_raw", *_ACCOUNTED.values())
    place = steps.index(_ACCOUNTED[cause])
    before, after = cell.measured.get(steps[place - 1]), cell.measured.get(steps[place])
    if cause == "delay" and "polarity" in cell.broken:
        after = cell.measured.get("account_polarity")
    return before is not None and (after is None or before - after >= _TELLS)


def _symptom(cell: Examined, key: str) -> Symptom:
    if key == "delay":
        amount = cell.measured["delay"]
        return Symptom("Fail", key, f"{samples(abs(amount))} {'late' if amount > 0 else 'early'}", amount)
    if key == "gain":
        amount = cell.measured["gain"]
        return Symptom("Fail", key, f"{abs(amount):.2f} dB {'up' if amount > 0 else 'down'}", amount)
    if key == "fundamental_level":
        amount = _off(cell, key) - (cell.measured["gain"] if "gain" in cell.broken else 0.0)
        return Symptom("Fail", key, PHRASES[key], amount)
    if key in ("latency_error", "latency_first"):
        return Symptom("Fail", key, PHRASES.get(key, MEASURES[key].title), _off(cell, key))
    if key == "residual_rms":
        by = f" by {_BY[cell.causes[0].cause]}" if len(cell.causes) == 1 and cell.causes[0].cause in _BY else ""
        return Symptom("Fail", key, f"{phrase(key, cell.other)}{by}", other=cell.other)
    return Symptom("Fail", key, phrase(key) if key in MEASURES else key)


def samples(count: float) -> str:
    """A number of samples, whole where it is."""
    whole = round(count)
    if abs(count - whole) < 0.05:
        return f"{whole} sample{'' if whole == 1 else 's'}"
    return f"{count:.2f} samples"


def _off(cell: Examined, key: str) -> float:
    """How far a reading lies from the middle of its limits."""
    limit = cell.limits.get(key, Limit())
    bounds = [bound for bound in (limit.at_least, limit.at_most) if bound is not None]
    return cell.measured.get(key, 0.0) - (sum(bounds) / len(bounds) if bounds else 0.0)
